package present

import (
	"fmt"
	"strings"

	"anagram/internal/core/show"
	"anagram/internal/flow/audit"
	"anagram/internal/ui/wire"
)

// Proof says whether the target holds what a docket wrote.
func Proof(a *Page, r audit.Proof) error {
	a.Result = r
	if a.JSON {
		return a.PrintJSON(wire.ProofOf(r))
	}
	h := r.Header
	out := a.Coloured()
	Printf(out, "%s\n", Strong.Render(fmt.Sprintf("Docket %d, %s to %s, looked at again", h.Number, h.Source, h.Target)))
	line := func(what string, n int) { Printf(out, "  %-14s %6d\n", what, n) }
	const most = 8
	list := func(n int, text func(int) string) {
		for i := range min(n, most) {
			fmt.Fprintln(out, a.Wrap("    "+text(i), "      "))
		}
		if n > most {
			Printf(out, "    and %d more\n", n-most)
		}
	}
	line("imported", r.Imported)
	line("as approved", r.AsApproved)
	line("moved since", len(r.Moved))
	list(len(r.Moved), func(i int) string { return show.Harmless(r.Moved[i].Address) + ": " + r.Moved[i].What })
	line("left open", len(r.Open))
	list(len(r.Open), func(i int) string { return show.Harmless(r.Open[i].Address) + ": " + r.Open[i].Why })
	if r.Settled > 0 {
		line("settled since", r.Settled)
	}
	line("new since", len(r.Since))
	list(len(r.Since), func(i int) string { return show.Harmless(r.Since[i]) })
	switch {
	case r.Sound():
		fmt.Fprintln(out,
			a.Wrap(fmt.Sprintf("Everything that docket %d brought is as it was approved, and nothing else differs.", h.Number), ""))
	case len(r.Moved) == 0:
		fmt.Fprintln(out, a.Wrap(fmt.Sprintf("Everything that docket %d brought is as it was approved.", h.Number), ""))
	}
	if r.Docket != 0 && !r.Sound() {
		a.Next(strings.TrimSpace(fmt.Sprintf("anagram review %d", r.Docket)))
	}
	return nil
}
