package present

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/charmbracelet/x/ansi"

	"anagram/internal/core/group"
	"anagram/internal/core/match"
	"anagram/internal/core/show"
	"anagram/internal/flow/decide"
	"anagram/internal/ui/text"
)

// printGroups shows a line for each group.
func printGroups(a *Page, groups []decide.Grouped, sort string) {
	byStatus := sort == "" || sort == "status"
	stand, number, name := len("decision"), len("findings"), len("group")
	for _, g := range groups {
		stand = max(stand, len(groupStand(g)))
		number = max(number, len(strconv.Itoa(g.Shown)))
		name = max(name, ansi.StringWidth(groupName(g)))
	}
	name = min(name, (a.Width()-stand-number-8)*5/8)
	rest := a.Width() - stand - number - name - 8
	widths := []int{stand, name, number, rest}
	line := func(cells ...string) {
		cells[2] = fmt.Sprintf("%*s", number, cells[2])
		for i, w := range widths {
			cells[i] = Shorten(cells[i], w)
			cells[i] += strings.Repeat(" ", w-ansi.StringWidth(cells[i]))
		}
		fmt.Fprintln(a.Coloured(), strings.TrimRight("  "+text.Line(strings.Join(cells, "  ")), " "))
	}
	fmt.Fprintln(a.Coloured(), Faint.Render(fmt.Sprintf("  %-*s  %-*s  %*s", stand, "decision", name, "group", number, "findings")))
	var status match.Status
	for _, g := range groups {
		if byStatus && g.Worst != status {
			status = g.Worst
			fmt.Fprintln(a.Coloured(), Tone(string(status)))
		}
		line(groupStand(g), groupName(g), strconv.Itoa(g.Shown), groupHolds(g, status))
	}
}

func groupName(g decide.Grouped) string {
	if g.Title == "" {
		return g.Address
	}
	return g.Address + "  " + show.Harmless(g.Title)
}

// groupHolds says what is in a group: the findings by type, those of most first. The status
// is said where it is another than that of all.
func groupHolds(g decide.Grouped, status match.Status) string {
	var parts []string
	if g.Blocked > 0 {
		parts = append(parts, fmt.Sprintf("%d held up", g.Blocked))
	}
	switch g.Cause {
	case group.Awaiting:
		parts = append(parts, "wait for it")
	case group.OfOwner:
		parts = append(parts, "parts of it")
	}
	if g.Shown == 1 && g.Head != 0 && g.Counts[0].Status == status {
		return strings.Join(parts, ", ")
	}
	kinds := slices.Clone(g.Counts)
	slices.SortStableFunc(kinds, func(a, b decide.Kind) int { return cmp.Compare(b.N, a.N) })
	for _, k := range kinds {
		part := fmt.Sprintf("%d %s", k.N, k.Type)
		if k.Status != status {
			part += " " + string(k.Status)
		}
		parts = append(parts, part)
	}
	return strings.Join(parts, ", ")
}

// groupStand says how the findings of a group stand.
func groupStand(g decide.Grouped) string {
	t := g.Tally
	if t.Open > 0 {
		if t.Open == g.Asked {
			return "open"
		}
		return fmt.Sprintf("%d open", t.Open)
	}
	stand := "to see" // nothing in it asks for a decision
	for _, of := range []struct {
		n    int
		word string
	}{{t.Approved, "approved"}, {t.Declined, "declined"}, {t.Held, "held"}, {t.Kept, "kept"}} {
		if of.n > 0 && stand != "to see" {
			return "decided"
		}
		if of.n > 0 {
			stand = of.word
		}
	}
	return stand
}
