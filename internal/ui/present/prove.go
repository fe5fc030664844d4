package present

import (
	"fmt"
	"strings"

	"anagram/internal/core/show"
	"anagram/internal/flow/audit"
	"anagram/internal/flow/shown"
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
	const most = 8
	line := func(what string, n int) { Printf(out, "  %-14s %6d\n", what, n) }
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
	for _, of := range []struct {
		what string
		list []*audit.Otherwise
	}{{"differs", r.Differs}, {"gone", r.Gone}, {"twice", r.Twice}} {
		line(of.what, len(of.list))
		list(len(of.list), func(i int) string { return otherwise(*of.list[i]) })
	}
	moved := func(m audit.Moved) string { return told(m.Address, m.What, shown.ChangeOf(m.Change)) }
	if r.NotLooked == "" {
		line("also moved", len(r.Moved))
		list(len(r.Moved), func(i int) string { return moved(r.Moved[i]) })
		line("left open", len(r.Open))
		list(len(r.Open), func(i int) string { return show.Harmless(r.Open[i].Address) + ": " + r.Open[i].Why })
		if r.Settled > 0 {
			line("settled since", r.Settled)
		}
		line("new since", len(r.Since))
		list(len(r.Since), func(i int) string { return moved(r.Since[i]) })
	}
	holds := fmt.Sprintf("%s holds everything that docket %d brought as it was approved", h.Target, h.Number)
	switch n := r.Imported - r.AsApproved; {
	case n > 0:
		fmt.Fprintln(out, a.Wrap(fmt.Sprintf("%s does not hold %s of docket %d as approved.", h.Target, Count(n, "record"), h.Number), ""))
	case r.Quiet():
		fmt.Fprintln(out, a.Wrap(holds+", and nothing else differs.", ""))
	default:
		fmt.Fprintln(out, a.Wrap(holds+".", ""))
	}
	if r.NotLooked != "" {
		fmt.Fprintln(out, a.Wrap("What else moved since was not looked at: "+r.NotLooked, ""))
	}
	if r.Docket != 0 && (!r.Sound() || !r.Quiet()) {
		a.Next(strings.TrimSpace(fmt.Sprintf("anagram review %d", r.Docket)))
	}
	return nil
}

// told puts together what is said of a record, and when and by whom it was last changed.
func told(address, what, change string) string {
	if change != "" {
		what += "; last changed: " + change
	}
	return show.Harmless(address) + ": " + what
}

func otherwise(o audit.Otherwise) string {
	if o.Later != 0 {
		return told(o.Address, o.What, "") + fmt.Sprintf("; docket %d wrote it later", o.Later)
	}
	return told(o.Address, o.What, shown.ChangeOf(o.Change))
}
