package present

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/charmbracelet/x/ansi"

	"anagram/internal/core/check"
	"anagram/internal/core/decision"
	"anagram/internal/core/group"
	"anagram/internal/core/show"
	"anagram/internal/flow/decide"
	"anagram/internal/flow/session"
	"anagram/internal/flow/shown"
	"anagram/internal/store/docket"
	"anagram/internal/ui/text"
)

// printFull shows every finding that is meant, group by group.
func printFull(ctx context.Context, a *Page, s *session.Session, d *docket.Docket, which decide.Which, groups []decide.Grouped) error {
	out := a.Coloured()
	byNumber := map[int]decide.Grouped{}
	for _, g := range groups {
		byNumber[g.Number] = g
	}
	last := 0
	var stamps []string
	var together collected
	err := decide.ReviewGroups(ctx, s, d, which, func(r decide.Reviewed) error {
		if r.Group != last {
			printTogether(a, together)
			together = collected{}
			if last != 0 {
				fmt.Fprintln(out)
			}
			last = r.Group
			if g := byNumber[r.Group]; g.Shown > 1 || g.Head == 0 {
				fmt.Fprintln(out, a.Wrap(groupHead(d.Header, g), "  "))
			}
		}
		printFinding(a, d, r)
		for _, c := range shown.Of(d, r).Said {
			fmt.Fprintln(out, a.Wrap(fmt.Sprintf("      %s, %s: %s", c.Who, When(c.At), c.Text), "  "))
		}
		for _, c := range r.Checks {
			if !together.take(c) {
				sayCheck(a, c, 0)
			}
		}
		for _, stamp := range d.Header.Fills[r.Type].Changed {
			if r.Target != "" && r.Source != "" && !slices.Contains(stamps, stamp) {
				stamps = append(stamps, stamp)
			}
		}
		return nil
	})
	printTogether(a, together)
	if err == nil && len(stamps) > 0 {
		fmt.Fprintln(out)
		fmt.Fprintln(out, a.Wrap("The import sets "+strings.Join(stamps, " and ")+" of what it changes where nothing else does.", ""))
	}
	return err
}

// groupHead says in one line what holds a group together and what is in it.
func groupHead(h docket.Header, g decide.Grouped) string {
	head := Strong.Render(g.Address)
	if g.Title != "" {
		head += "  " + show.Harmless(g.Title)
	}
	return head + Faint.Render("  "+causeText(h, g)+kindsText(g.Counts))
}

// causeText says why findings are one group, where it is not that a record stands with what
// hangs on it.
func causeText(h docket.Header, g decide.Grouped) string {
	switch g.Cause {
	case group.Awaiting:
		return "is neither in " + h.Target + " nor in this docket; it is waited for by "
	case group.OfOwner:
		return "parts of it: "
	default:
		return "group of "
	}
}

// kindsText lists how many findings of which types and statuses there are.
func kindsText(kinds []decide.Kind) string {
	parts := make([]string, len(kinds))
	for i, k := range kinds {
		parts[i] = fmt.Sprintf("%d %s %s", k.N, k.Type, k.Status)
	}
	return strings.Join(parts, ", ")
}

// collected are checks that are said once for all records that they hold up by one cause.
type collected struct {
	checks []check.Check
	n      []int
}

// take collects a check; it is false for one that is about its record alone.
func (c *collected) take(of check.Check) bool {
	if !of.Shared() {
		return false
	}
	at := slices.IndexFunc(c.checks, func(have check.Check) bool { return have.Code == of.Code && have.Mend == of.Mend })
	if at < 0 {
		at = len(c.checks)
		c.checks, c.n = append(c.checks, of), append(c.n, 0)
	}
	c.n[at]++
	return true
}

func printTogether(a *Page, c collected) {
	for i, of := range c.checks {
		sayCheck(a, of, c.n[i]-1)
	}
}

// sayCheck says a check, and how many more records it holds for.
func sayCheck(a *Page, c check.Check, more int) {
	words := fmt.Sprintf("      %s %s: %s", Tone(string(c.Level)), c.Code, c.Message)
	if more > 0 {
		words += fmt.Sprintf(" So it is with %s.", show.Count(more, "more record", ""))
	}
	fmt.Fprintln(a.Coloured(), a.Wrap(words+" "+c.Mend, "  "))
}

// printFinding shows one record: its address, where it stands, and its fields with
// source and target side by side.
func printFinding(a *Page, d *docket.Docket, r decide.Reviewed) {
	f := shown.Of(d, r)
	out := a.Coloured()
	head := "  " + Strong.Render(f.Address)
	if f.Title != "" {
		head += "  " + f.Title
	}
	fmt.Fprintln(out, ansi.Truncate(head, a.Width(), "…"))
	stand := Tone(string(f.Status)) + strings.TrimPrefix(f.StatusText, string(f.Status)) + ", " + f.StandsText
	fmt.Fprintln(out, a.Wrap("    "+stand, ""))
	for _, w := range f.Words {
		fmt.Fprintln(out, a.Wrap("      "+w.Text(), "  "))
	}
	if f.Was != "" {
		fmt.Fprintln(out, a.Wrap(fmt.Sprintf("      %s in %s", f.Was, show.Harmless(d.Header.Target)), ""))
	}
	if f.InSource && f.InTarget {
		printFields(a, d.Header, f)
		printChanged(a, f)
		return
	}
	var parts []string
	for _, field := range f.Fields {
		value := field.Source
		if !f.InSource {
			value = field.Target
		}
		text := field.Name + ": " + Shorten(show.Readable(value), 400)
		if field.Decision != "" {
			text += " (" + field.Decision + ")"
		}
		parts = append(parts, text)
	}
	if len(parts) > 0 {
		fmt.Fprintln(out, a.Wrap("      "+strings.Join(parts, "; "), ""))
	}
	if f.Removal != "" {
		fmt.Fprintln(out, a.Wrap("      "+f.Removal, ""))
	}
	if f.Filled != "" {
		fmt.Fprintln(out, a.Wrap("      the import gives it "+f.Filled, ""))
	}
	printChanged(a, f)
}

// printChanged says when and by whom a record was last changed.
func printChanged(a *Page, f shown.Finding) {
	if text := f.ChangedText(); text != "" {
		fmt.Fprintln(a.Coloured(), a.Wrap("      last changed: "+text, "        "))
	}
}

// Shorten cuts a text to so many columns.
func Shorten(text string, most int) string { return ansi.Truncate(text, most, "…") }

// printFields shows the differing fields in columns; long values are wrapped in theirs.
func printFields(a *Page, h docket.Header, of shown.Finding) {
	if len(of.Fields) == 0 {
		return
	}
	heads := []string{show.Harmless(h.Source), show.Harmless(h.Target)}
	if of.Known {
		heads = append(heads, "agreed")
	}
	const indent = 6
	decisions, moved := 0, 0
	if slices.ContainsFunc(of.Fields, func(f shown.Field) bool { return f.Decision != "" }) {
		decisions = len(decision.TargetKept) + 2
	}
	if of.Known {
		moved = len("source") + 2
	}
	roomFor := func(name int) int { return (a.Width()-indent-name-decisions-moved)/len(heads) - 2 }
	var rows [][]string
	for _, f := range of.Fields {
		for _, line := range f.Lines(max(2*roomFor(20), 40)) {
			cells := []string{line.Name, line.Source, line.Target}
			if of.Known {
				cells = append(cells, line.Agreed, f.Moved)
			}
			rows = append(rows, append(cells, f.Decision))
		}
	}
	name, widest := len("field"), 0
	for _, cells := range rows {
		name = max(name, ansi.StringWidth(cells[0]))
		for _, v := range cells[1 : 1+len(heads)] {
			widest = max(widest, ansi.StringWidth(v))
		}
	}
	for _, head := range heads {
		widest = max(widest, len(head))
	}
	name = min(name, 30)
	cell := max(min(widest, roomFor(name)), 10)
	widths := []int{name}
	for range heads {
		widths = append(widths, cell)
	}
	head := append([]string{"field"}, heads...)
	if of.Known {
		widths, head = append(widths, moved-2), append(head, "moved")
	}
	widths = append(widths, max(decisions, 1))
	a.printLines(text.Columns(strings.Repeat(" ", indent), widths, head, Faint.Render))
	for _, cells := range rows {
		a.printLines(text.Columns(strings.Repeat(" ", indent), widths, cells, nil))
	}
}
