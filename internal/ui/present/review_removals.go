package present

import (
	"context"
	"fmt"
	"slices"

	"anagram/internal/core/match"
	"anagram/internal/core/show"
	"anagram/internal/flow/decide"
	"anagram/internal/flow/session"
	"anagram/internal/flow/shown"
	"anagram/internal/store/docket"
	"anagram/internal/ui/text"
)

// Removals lists what only the target has: an import never removes it.
func Removals(ctx context.Context, a *Page, s *session.Session, d *docket.Docket, which decide.Which) error {
	which.Statuses = []match.Status{match.TargetOnly}
	if a.JSON {
		return ReviewJSON(ctx, a, s, d, which)
	}
	list, err := decide.Removals(ctx, s, d, which)
	if err != nil {
		return err
	}
	Header(a, d.Header)
	if len(list) == 0 {
		Printf(a.Out, "Nothing is only in %s.\n", d.Header.Target)
		return nil
	}
	if h := d.Header; h.Restores != 0 {
		fmt.Fprintln(a.Out,
			a.Wrap(fmt.Sprintf("Made by the import of docket %d. Those approved are removed when docket %d is imported, what refers to others first. To approve: name each, or say --take source", h.Restores, h.Number), ""))
	} else {
		fmt.Fprintln(a.Out,
			a.Wrap(fmt.Sprintf("Only in %s. An import never removes a record; whoever wants one gone removes it by hand, in this order: what refers to others first. Tick off what is dealt with, or stays, with: anagram decline %s RECORD --note TEXT", d.Header.Target, a.called(d.Header)), ""))
	}
	fmt.Fprintln(a.Out)
	t := text.Table{Columns: []string{"record", "title", "in " + d.Header.Source, "after", "decision"}}
	for _, r := range list {
		there := "not there"
		switch {
		case slices.Contains(r.Reasons, match.RetiredInSource):
			there = "out of scope"
		case slices.Contains(r.Reasons, match.EditedSince):
			there = "removed, edited here since"
		case slices.Contains(r.Reasons, match.RemovedInSource):
			there = "removed"
		}
		t.Add(r.Address, Shorten(show.Harmless(r.Title), 40), there, after(len(r.By)), shown.Of(d, r.Reviewed).StandsText)
	}
	a.PrintTable(t, "  ")
	return nil
}

// after says how many records of the list above have to go before one.
func after(n int) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprintf("%d above", n)
}
