package cli

import (
	"fmt"
	"runtime"

	"github.com/spf13/cobra"
)

func (a *app) versionCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "version",
		Short: "Print the program's version",
		RunE: a.run(func(cmd *cobra.Command, given []string) error {
			if err := arguments(cmd, given, 0, 0); err != nil {
				return err
			}
			if a.json {
				return a.printJSON(map[string]string{"version": version(), "go": runtime.Version(), "platform": runtime.GOOS + "/" + runtime.GOARCH})
			}
			fmt.Fprintf(a.Out, "anagram %s (%s, %s/%s)\n", version(), runtime.Version(), runtime.GOOS, runtime.GOARCH)
			return nil
		}),
	}
}
