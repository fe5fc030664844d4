package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"anagram/internal/core/show"
	"anagram/internal/flow/decide"
	"anagram/internal/flow/session"
)

func (a *app) joinCommand() *cobra.Command {
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
			result, err := decide.Join(cmd.Context(), s, name, paths)
			if err != nil {
				return err
			}
			return a.printJoined(result, from)
		}),
	}
	cmd.Flags().StringArrayVar(&from, "from", nil, "a copy of the docket in which somebody decided; can be given more than once")
	return cmd
}

func (a *app) printJoined(r decide.Joined, from []string) error {
	if a.json {
		copies := []map[string]any{}
		for i, c := range r.Copies {
			copies = append(copies, map[string]any{"from": from[i], "decisions": c.Fresh, "comments": c.Comments, "by": append([]string{}, c.By...)})
		}
		clashes := []map[string]any{}
		for _, c := range r.Clashes {
			clashes = append(clashes, map[string]any{"address": c.Address, "field": c.Field, "people": c.People})
		}
		return a.printJSON(map[string]any{"docket": r.Docket, "copies": copies, "clashes": clashes, "signatures": r.Signatures})
	}
	for i, c := range r.Copies {
		if c.Comments > 0 {
			fmt.Fprintln(a.Out, a.wrap(fmt.Sprintf("%s read into docket %d from %s.", count(c.Comments, "comment"), r.Docket, from[i]), ""))
			if c.Fresh == 0 {
				continue
			}
		}
		if c.Fresh == 0 {
			fmt.Fprintln(a.Out, a.wrap(fmt.Sprintf("%s has no decision that docket %d does not have.", from[i], r.Docket), ""))
			continue
		}
		fmt.Fprintln(a.Out, a.wrap(fmt.Sprintf("%s by %s read into docket %d from %s.", count(c.Fresh, "decision"), show.Harmless(strings.Join(c.By, ", ")), r.Docket, from[i]), ""))
	}
	if r.Signatures > 0 {
		fmt.Fprintln(a.Out, a.wrap(fmt.Sprintf("%s read into docket %d.", count(r.Signatures, "signature"), r.Docket), ""))
	}
	for _, c := range r.Clashes {
		what := c.Address
		if c.Field != "" {
			what += ", field " + c.Field
		}
		fmt.Fprintln(a.Out, a.wrap(fmt.Sprintf("%s stays open, as different sides are wanted: %s.", what, show.Harmless(strings.Join(c.People, ", "))), "  "))
	}
	a.next(fmt.Sprintf("anagram review %d", r.Docket))
	return nil
}
