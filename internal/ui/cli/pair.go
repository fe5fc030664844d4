package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"anagram/internal/flow/decide"
	"anagram/internal/flow/session"
	"anagram/internal/ui/present"
	"anagram/internal/ui/wire"
)

func pairCommand(a *app) *cobra.Command {
	var note string
	var list, forget bool
	cmd := &cobra.Command{
		Use:   "pair TYPE/OLD TYPE/NEW",
		Short: "Remember that two keys are one record, whose key was changed",
		Long: `Remembers that a record has one key on one side and another key on the other. From
the next match on they are one record: the change of its key is shown as such, and
its parts and what refers to it follow. Pairs are kept in pairs.jsonl, beside
anagram.yaml.`,
		Example: "  anagram pair comment_code/HAEM comment_code/HEMOLYSIS\n  anagram pair --list\n  anagram pair --forget comment_code/HAEM comment_code/HEMOLYSIS",
		RunE: a.step(0, 2, func(cmd *cobra.Command, s *session.Session, given []string) error {
			switch {
			case list && (forget || note != "" || len(given) > 0):
				return &session.UsageError{Message: "pair --list takes no addresses and no other options"}
			case list:
				return present.Pairs(a.Page, s)
			case len(given) != 2:
				return &session.UsageError{Message: "pair needs two addresses: TYPE/OLD and TYPE/NEW"}
			case forget && note != "":
				return &session.UsageError{Message: "--note goes with a new pair, not with --forget"}
			case forget:
				if err := decide.Unpair(s, given[0], given[1]); err != nil {
					return err
				}
				if a.JSON {
					return a.PrintJSON(wire.Forgotten{Old: given[0], New: given[1], Forgotten: true})
				}
				fmt.Fprintln(a.Out, a.Wrap(fmt.Sprintf("%s and %s are no longer paired.", given[0], given[1]), ""))
				return nil
			}
			result, err := decide.Pair(cmd.Context(), s, given[0], given[1], note)
			if err != nil {
				return err
			}
			return present.Pair(a.Page, result)
		}),
	}
	flags := cmd.Flags()
	flags.StringVar(&note, "note", "", "why they are one record")
	flags.BoolVar(&list, "list", false, "show the pairs that are remembered")
	flags.BoolVar(&forget, "forget", false, "forget this pair")
	return cmd
}
