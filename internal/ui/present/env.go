package present

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"anagram/internal/flow/inspect"
)

// Reached says of an environment that was tried what it is, or why it was not reached.
func Reached(a *Page, r inspect.EnvironmentReport) {
	out := a.Coloured()
	if r.Err != nil {
		fmt.Fprintln(out, a.Wrap("not reached  "+r.Err.Error(), "  "))
		return
	}
	who := ""
	if r.About.Account != "" {
		who = " as " + r.About.Account
	}
	fmt.Fprintln(out, a.Wrap(fmt.Sprintf("reached      %s: %s%s", r.Name, r.About.Product, who), "             "))
	Printf(out, "             %s\n             %s, %s\n", r.About.Address, Count(len(r.About.Places), "table"), r.About.Rights)
	for _, no := range []struct {
		what   string
		places []string
	}{{"may not read all of", r.NoRead}, {"may not add to", r.NoInsert}, {"may not change", r.NoUpdate}} {
		if len(no.places) > 0 {
			fmt.Fprintln(out, a.Wrap("             "+no.what+": "+Some(no.places, 12), "               "))
		}
	}
	for _, place := range slices.Sorted(maps.Keys(r.About.Broken)) {
		fmt.Fprintln(out, a.Wrap("             cannot read "+r.About.Broken[place], "               "))
	}
	if ahead := r.About.Ahead.Abs(); ahead > 2*time.Second {
		side := "ahead of"
		if r.About.Ahead < 0 {
			side = "behind"
		}
		Printf(out, "             its clock is %s %s this machine's\n", ahead.Round(time.Second), side)
	}
}
