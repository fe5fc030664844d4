package present

import (
	"fmt"
	"strings"

	"anagram/internal/core/show"
	"anagram/internal/flow/joining"
	"anagram/internal/ui/wire"
)

// Joined says what was read in from files.
func Joined(a *Page, r joining.Joined, from []string) error {
	if a.JSON {
		return a.PrintJSON(wire.JoinedOf(r, from))
	}
	for i, c := range r.Copies {
		if c.Comments > 0 {
			fmt.Fprintln(a.Out, a.Wrap(fmt.Sprintf("%s read into docket %d from %s.", Count(c.Comments, "comment"), r.Docket, from[i]), ""))
			if c.Fresh == 0 {
				continue
			}
		}
		if c.Fresh == 0 {
			fmt.Fprintln(a.Out, a.Wrap(fmt.Sprintf("%s has no decision that docket %d does not have.", from[i], r.Docket), ""))
			continue
		}
		fmt.Fprintln(a.Out, a.Wrap(fmt.Sprintf("%s by %s read into docket %d from %s.", Count(c.Fresh, "decision"),
			show.Harmless(strings.Join(c.By, ", ")), r.Docket, from[i]), ""))
	}
	if r.Signatures > 0 {
		fmt.Fprintln(a.Out, a.Wrap(fmt.Sprintf("%s read into docket %d.", Count(r.Signatures, "signature"), r.Docket), ""))
	}
	for _, c := range r.Clashes {
		what := c.Address
		if c.Field != "" {
			what += ", field " + c.Field
		}
		fmt.Fprintln(a.Out, a.Wrap(fmt.Sprintf("%s stays open, as different sides are wanted: %s.", what,
			show.Harmless(strings.Join(c.People, ", "))), "  "))
	}
	if r.Older > 0 {
		fmt.Fprintln(a.Out, a.Wrap(show.Count(r.Older, "decision does not count, as who made it decided otherwise later.",
			"decisions do not count, as who made them decided otherwise later."), "  "))
	}
	sayOthers(a, r.OfOthers, onlyByOthers, mendOfOthers)
	sayOthers(a, r.Stopped, staysStopped, mendStopped)
	a.Next(fmt.Sprintf("anagram review %d", r.Docket))
	return nil
}
