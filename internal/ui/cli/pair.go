package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"anagram/internal/core/show"
	"anagram/internal/flow/decide"
	"anagram/internal/flow/session"
	"anagram/internal/store/workspace"
	"anagram/internal/ui/text"
)

func (a *app) pairCommand() *cobra.Command {
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
				return a.listPairs(s)
			case len(given) != 2:
				return &session.UsageError{Message: "pair needs two addresses: TYPE/OLD and TYPE/NEW"}
			case forget && note != "":
				return &session.UsageError{Message: "--note goes with a new pair, not with --forget"}
			case forget:
				if err := decide.Unpair(s, given[0], given[1]); err != nil {
					return err
				}
				if a.json {
					return a.printJSON(map[string]any{"old": given[0], "new": given[1], "forgotten": true})
				}
				fmt.Fprintln(a.Out, a.wrap(fmt.Sprintf("%s and %s are no longer paired.", given[0], given[1]), ""))
				return nil
			}
			result, err := decide.Pair(cmd.Context(), s, given[0], given[1], note)
			if err != nil {
				return err
			}
			return a.printPair(result)
		}),
	}
	flags := cmd.Flags()
	flags.StringVar(&note, "note", "", "why they are one record")
	flags.BoolVar(&list, "list", false, "show the pairs that are remembered")
	flags.BoolVar(&forget, "forget", false, "forget this pair")
	return cmd
}

func (a *app) printPair(r decide.PairResult) error {
	if a.json {
		return a.printJSON(map[string]any{"old": r.Old, "new": r.New, "known": r.Known})
	}
	text := fmt.Sprintf("%s and %s are one record from now on.", r.Old, r.New)
	if r.Known {
		text = fmt.Sprintf("%s and %s were paired before; nothing has changed.", r.Old, r.New)
	}
	switch {
	case r.Docket == 0 || r.Known:
	case r.Source != "" && r.Target != "":
		text += fmt.Sprintf(" Docket %d still has them as two: one only in the source, one only in the target.", r.Docket)
	default:
		text += fmt.Sprintf(" Docket %d does not have one of them only in the source and the other only in the target; check that both are written as they are meant.", r.Docket)
	}
	fmt.Fprintln(a.out(), a.wrap(text, ""))
	a.note("Match again to see them as one.")
	return nil
}

func (a *app) listPairs(s *session.Session) error {
	pairs, err := s.Workspace.Pairs()
	if err != nil {
		return err
	}
	if a.json {
		return a.printJSON(map[string]any{"pairs": append([]workspace.Pair{}, pairs...)})
	}
	if len(pairs) == 0 {
		fmt.Fprintln(a.Out, "No pairs are remembered.")
		return nil
	}
	t := text.Table{Columns: []string{"old", "new", "paired", "note"}}
	for _, p := range pairs {
		note := p.Note
		if p.Beside {
			note = strings.TrimSpace(fmt.Sprintf("comes from %s into %s beside its own. %s", p.Source, p.Target, note))
		}
		t.Add(p.Old, p.New, when(p.At)+" by "+p.By, show.Harmless(note))
	}
	a.printTable(t, "")
	return nil
}
