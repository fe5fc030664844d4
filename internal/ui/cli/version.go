package cli

import (
	"fmt"
	"runtime"
	"runtime/debug"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"anagram/internal/core/pattern"
	"anagram/internal/ui/text"
	"anagram/internal/ui/wire"
)

// Version is set when a release is built.
var Version = ""

// release is the version that is being worked on.
const release = "0.2.0"

var released = pattern.Of(`^v\d+\.\d+\.\d+$`)

// thisBuild reads what the Go tools wrote into the program when it was built.
func thisBuild(info *debug.BuildInfo) wire.Build {
	b := wire.Build{Version: Version, Go: runtime.Version(), Platform: runtime.GOOS + "/" + runtime.GOARCH}
	if info != nil {
		if b.Version == "" && released.MatchString(info.Main.Version) {
			b.Version = strings.TrimPrefix(info.Main.Version, "v")
		}
		for _, s := range info.Settings {
			switch s.Key {
			case "vcs.revision":
				b.Commit = s.Value
			case "vcs.time":
				b.Date = s.Value
			case "vcs.modified":
				b.Modified = s.Value == "true"
			}
		}
	}
	if b.Version == "" {
		b.Version = release
	}
	return b
}

func version() string {
	info, _ := debug.ReadBuildInfo()
	return thisBuild(info).Version
}

// String gives it as people read it.
// buildText is a build for people.
func buildText(b wire.Build) string {
	out := "anagram " + b.Version
	if b.Commit != "" {
		out += ", commit " + b.Commit[:min(12, len(b.Commit))]
		if _, err := time.Parse(time.RFC3339, b.Date); err == nil {
			out += " of " + text.When(b.Date)
		}
		if b.Modified {
			out += " with changes"
		}
	}
	return fmt.Sprintf("%s\n%s, %s", out, b.Go, b.Platform)
}

func versionCommand(a *app) *cobra.Command {
	return &cobra.Command{
		Use:     "version",
		Short:   "Print the program's version",
		Example: "  anagram version\n  anagram version --json",
		RunE: a.run(func(cmd *cobra.Command, given []string) error {
			if err := arguments(cmd, given, 0, 0); err != nil {
				return err
			}
			info, _ := debug.ReadBuildInfo()
			if a.JSON {
				return a.PrintJSON(thisBuild(info))
			}
			_, err := fmt.Fprintln(a.Out, buildText(thisBuild(info)))
			return err
		}),
	}
}
