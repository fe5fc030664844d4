package present

import (
	"fmt"

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
	fmt.Fprintln(a.Out, a.Wrap(fmt.Sprintf("%s %s selection %s, which names %s now.", Count(len(r.Changed), "record"), what, name,
		Count(len(r.Records), "record")), ""))
	if r.Had > 0 {
		Printf(a.Out, "%s %s.\n", Count(r.Had, "record"), had)
	}
	a.Next("anagram selection show", Arg(name), "--from ENVIRONMENT")
	return nil
}
