package present

import (
	"fmt"

	"anagram/internal/core/show"
	"anagram/internal/flow/audit"
	"anagram/internal/ui/wire"
)

// Span tells what reached the environments in a span of time: under each import its records, and under
// each match what it saw changed by others.
func Span(a *Page, each func(func(audit.Reached) error) error) error {
	if a.JSON {
		return each(func(r audit.Reached) error { return a.PrintJSON(wire.BroughtOf(r)) })
	}
	head, records, last := "", map[string]bool{}, ""
	err := each(func(r audit.Reached) error {
		if h := show.Harmless(When(r.At) + "  " + r.Occasion()); h != head {
			fmt.Fprintln(a.Coloured(), Strong.Render(h))
			head, last = h, ""
		}
		if r.Address != last {
			line := "  " + show.Harmless(r.Address)
			if became := r.Became(); became != "" {
				line += ": " + show.Harmless(became)
			}
			fmt.Fprintln(a.Coloured(), a.Wrap(line, "    "))
			last = r.Address
		}
		records[r.Environment+" "+r.Address] = true
		if r.Field != "" {
			fmt.Fprintln(a.Coloured(), a.Wrap("    "+spanField(r), "      "))
		}
		return nil
	})
	if err != nil {
		return err
	}
	if len(records) == 0 {
		fmt.Fprintln(a.Out, "Nothing reached an environment then, and no match saw anything changed there by others.")
		return nil
	}
	Printf(a.Out, "\n%s.\n", Count(len(records), "record"))
	return nil
}

func spanField(r audit.Reached) string {
	value := func(v *string) string { return Shorten(show.Readable(v), 200) }
	if r.What == audit.Came {
		return show.Harmless(r.Field) + ": " + value(r.New)
	}
	return show.Harmless(r.Field) + ": " + value(r.Old) + " became " + value(r.New)
}
