package present

import (
	"fmt"
	"time"

	"anagram/internal/core/show"
	"anagram/internal/flow/renew"
	"anagram/internal/ui/wire"
)

// Renewed says what became of an environment that was made anew.
func Renewed(a *Page, r renew.Result) error {
	a.Result = r
	if a.JSON {
		return a.PrintJSON(wire.RenewedOf(r))
	}
	say := func(format string, args ...any) { fmt.Fprintln(a.Out, a.Wrap(fmt.Sprintf(format, args...), "")) }
	say("%s was made anew from %s, %s; anagram.yaml says so.", r.Environment, r.From, When(r.At.UTC().Format(time.RFC3339)))
	if r.Parcel == "" {
		say("What the old one had in common with others is forgotten.")
	} else {
		say("What both have in common is taken from parcel %s: %s.", r.Parcel, Count(r.Agreed, "record"))
	}
	for _, d := range r.Declined {
		if d.Failed != nil {
			say("Docket %d keeps what is open in it: %v", d.Docket, d.Failed)
		} else {
			say("Docket %d: %s declined, as it is about the old %s.", d.Docket, Count(d.Findings, "open finding"), r.Environment)
		}
	}
	switch {
	case r.Last == "":
		say("There is no parcel of the old %s, so what it had cannot be told.", r.Environment)
	case r.Unread != nil:
		say("What the old %s had by parcel %s could not be compared: %v", r.Environment, r.Last, r.Unread)
	case len(r.Lacking)+r.Other == 0:
		say("Everything that parcel %s has of the old %s is in the new one.", r.Last, r.Environment)
	default:
		say("By parcel %s the old %s had %s that the new one lacks, and %s with other values.", r.Last, r.Environment,
			Count(len(r.Lacking), "record"), Count(r.Other, "record"))
		const most = 12
		for _, address := range r.Lacking[:min(most, len(r.Lacking))] {
			Printf(a.Out, "  %s\n", show.Harmless(address))
		}
		if n := len(r.Lacking) - most; n > 0 {
			Printf(a.Out, "  and %d more; --json lists them all\n", n)
		}
		a.Next("anagram match", Arg(r.Last), "--against", Arg(r.Environment))
	}
	return nil
}
