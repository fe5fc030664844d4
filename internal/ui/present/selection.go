package present

import (
	"anagram/internal/core/record"
	"fmt"
	"strings"

	"anagram/internal/flow/choose"
	"anagram/internal/ui/wire"
)

// Added says what a selection has by now.
func Added(a *Page, name string, r choose.Added, key, what, had string) error {
	if a.JSON {
		out, changed := wire.Selected{Selection: name, Records: OrEmpty(r.Records)}, OrEmpty(r.Changed)
		if key == "added" {
			out.Added = &changed
		} else {
			out.Removed = &changed
		}
		return a.PrintJSON(out)
	}
	fmt.Fprintln(a.Out, a.Wrap(fmt.Sprintf("%s %s selection %s, which names %s now.", named(r.Changed), what, name, named(r.Records)), ""))
	if r.Had > 0 {
		if r.Had == 1 {
			had = strings.Replace(had, "were", "was", 1)
		}
		Printf(a.Out, "%d of what was named %s.\n", r.Had, had)
	}
	a.Next("anagram selection show", Arg(name), "--from ENVIRONMENT")
	return nil
}

// named counts what a selection names: records, and patterns, of which each is for any number.
func named(addresses []string) string {
	records := 0
	for _, address := range addresses {
		if p, err := record.ParsePattern(address); err == nil && p.Exact() {
			records++
		}
	}
	switch patterns := len(addresses) - records; {
	case patterns == 0:
		return Count(records, "record")
	case records == 0:
		return Count(patterns, "pattern")
	default:
		return Count(records, "record") + " and " + Count(patterns, "pattern")
	}
}
