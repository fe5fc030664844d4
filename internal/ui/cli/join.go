package cli

import (
	"strings"

	"github.com/spf13/cobra"

	"anagram/internal/flow/joining"
	"anagram/internal/flow/session"
	"anagram/internal/ui/present"
)

func joinCommand(a *app) *cobra.Command {
	var from []string
	cmd := &cobra.Command{
		Use:   "decide [DOCKET] --from FILE",
		Short: "Read in what was decided in copies of a docket",
		Long: `Reads the decisions that somebody made in a copy of a docket into the docket itself.
Only decisions are taken; a copy that shows something else is refused. Of one person the
latest word counts. Between persons a decline or hold wins over an approval; where they
want different sides, it is named and stays open.`,
		Example: "  anagram decide 7 --from returned.docket --from other.docket",
		RunE: a.run(func(cmd *cobra.Command, given []string) error {
			if err := arguments(cmd, given, 0, 1); err != nil {
				return err
			}
			if len(from) == 0 {
				return &session.UsageError{Message: "say where the decisions are with --from FILE.docket; anagram approve, decline and hold decide here"}
			}
			s, err := a.session()
			if err != nil {
				return err
			}
			name := ""
			if len(given) > 0 {
				if name = given[0]; strings.ContainsAny(name, "/.") {
					name = a.path(name)
				}
			}
			paths := make([]string, len(from))
			for i, path := range from {
				paths[i] = a.path(path)
			}
			result, err := joining.Join(cmd.Context(), s, name, paths)
			if err != nil {
				return err
			}
			return present.Joined(a.Page, result, from)
		}),
	}
	cmd.Flags().StringArrayVar(&from, "from", nil, "a copy of the docket in which somebody decided; can be given more than once")
	return cmd
}
