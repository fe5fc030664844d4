package present

import (
	"fmt"
	"strings"

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
		if h := spanHead(r); h != head {
			fmt.Fprintln(a.Coloured(), Strong.Render(h))
			head, last = h, ""
		}
		if r.Address != last {
			fmt.Fprintln(a.Coloured(), a.Wrap("  "+show.Harmless(r.Address)+spanOfRecord(r), "    "))
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

func spanHead(r audit.Reached) string {
	if r.What == audit.ByOthers {
		return show.Harmless(fmt.Sprintf("%s  docket %d saw what others changed in %s", When(r.At), r.Docket, r.Environment))
	}
	return show.Harmless(fmt.Sprintf("%s  docket %d, imported into %s by %s", When(r.At), r.Docket, r.Environment, r.By))
}

func spanOfRecord(r audit.Reached) string {
	var parts []string
	switch {
	case r.What == audit.ByOthers && r.Field == "":
		parts = append(parts, "removed there by others")
	case r.What == audit.ByOthers && r.By != "":
		parts = append(parts, "last changed by "+show.Harmless(r.By))
	case r.What != audit.ByOthers:
		parts = append(parts, map[string]string{audit.Came: "came", audit.Changed: "changed", audit.Removed: "removed"}[r.What])
	}
	if len(r.Approved) > 0 {
		parts = append(parts, "approved by "+show.Harmless(strings.Join(r.Approved, ", ")))
	}
	if r.TakenBack != 0 {
		parts = append(parts, fmt.Sprintf("taken back by docket %d", r.TakenBack))
	}
	if len(parts) == 0 {
		return ""
	}
	return ": " + strings.Join(parts, ", ")
}

func spanField(r audit.Reached) string {
	value := func(v *string) string { return Shorten(show.Readable(v), 200) }
	if r.What == audit.Came {
		return show.Harmless(r.Field) + ": " + value(r.New)
	}
	return show.Harmless(r.Field) + ": " + value(r.Old) + " became " + value(r.New)
}
