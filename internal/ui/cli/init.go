package cli

import (
	"fmt"
	"path/filepath"

	"github.com/spf13/cobra"

	"anagram/internal/store/workspace"
)

func (a *app) initCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "init [DIR]",
		Short: "Start a workspace with commented examples",
		RunE: a.run(func(cmd *cobra.Command, given []string) error {
			if err := arguments(cmd, given, 0, 1); err != nil {
				return err
			}
			dir := a.Dir
			if len(given) > 0 {
				dir = a.path(given[0])
			}
			made, err := workspace.Init(dir)
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(map[string]any{"workspace": dir, "files": made})
			}
			printf(a.Out, "Started a workspace in %s:\n", dir)
			for _, name := range made {
				fmt.Fprintln(a.Out, "  "+name)
			}
			a.next("describe your environments in anagram.yaml, then: anagram env test")
			return nil
		}),
	}
}

// path makes a path absolute; it is relative to the working folder.
func (a *app) path(p string) string {
	if filepath.IsAbs(p) {
		return p
	}
	return filepath.Join(a.Dir, p)
}
