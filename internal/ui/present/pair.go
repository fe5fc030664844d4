package present

import (
	"fmt"
	"strings"

	"anagram/internal/core/show"
	"anagram/internal/flow/decide"
	"anagram/internal/flow/session"
	"anagram/internal/ui/text"
	"anagram/internal/ui/wire"
)

// Pair says what two records are taken for by now.
func Pair(a *Page, r decide.PairResult) error {
	if a.JSON {
		return a.PrintJSON(wire.Paired{Old: r.Old, New: r.New, Known: r.Known})
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
	fmt.Fprintln(a.Coloured(), a.Wrap(text, ""))
	a.Note("Match again to see them as one.")
	return nil
}

// Pairs lists the pairs of a workspace.
func Pairs(a *Page, s *session.Session) error {
	pairs, err := s.Workspace.Pairs()
	if err != nil {
		return err
	}
	if a.JSON {
		return a.PrintJSON(wire.PairsOf(pairs))
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
		t.Add(p.Old, p.New, When(p.At)+" by "+p.By, show.Harmless(note))
	}
	a.PrintTable(t, "")
	return nil
}
