package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/charmbracelet/x/ansi"

	"anagram/internal/core/check"
	"anagram/internal/core/group"
	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/core/show"
	"anagram/internal/flow/decide"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
	"anagram/internal/ui/text"
)

// printFull shows every finding that is meant, group by group.
func (a *app) printFull(ctx context.Context, s *session.Session, d *docket.Docket, which decide.Which, groups []decide.Grouped) error {
	out := a.out()
	byNumber := map[int]decide.Grouped{}
	for _, g := range groups {
		byNumber[g.Number] = g
	}
	last := 0
	var stamps []string
	var together collected
	err := decide.ReviewGroups(ctx, s, d, which, func(r decide.Reviewed) error {
		if r.Group != last {
			a.printTogether(together)
			together = collected{}
			if last != 0 {
				fmt.Fprintln(out)
			}
			last = r.Group
			if g := byNumber[r.Group]; g.Shown > 1 || g.Head == 0 {
				fmt.Fprintln(out, a.wrap(groupHead(d.Header, g), "  "))
			}
		}
		a.printFinding(d, r)
		for _, c := range r.Said {
			fmt.Fprintln(out, a.wrap(fmt.Sprintf("      %s, %s: %s", show.Harmless(c.Who), when(c.At), show.Harmless(c.Text)), "  "))
		}
		for _, c := range r.Checks {
			if !together.take(c) {
				a.sayCheck(c, 0)
			}
		}
		for _, stamp := range d.Header.Fills[r.Type].Changed {
			if r.Target != "" && r.Source != "" && !slices.Contains(stamps, stamp) {
				stamps = append(stamps, stamp)
			}
		}
		return nil
	})
	a.printTogether(together)
	if err == nil && len(stamps) > 0 {
		fmt.Fprintln(out)
		fmt.Fprintln(out, a.wrap("The import sets "+strings.Join(stamps, " and ")+" of what it changes where nothing else does.", ""))
	}
	return err
}

// groupHead says in one line what holds a group together and what is in it.
func groupHead(h docket.Header, g decide.Grouped) string {
	head := strong.Render(g.Address)
	if g.Title != "" {
		head += "  " + show.Harmless(g.Title)
	}
	return head + faint.Render("  "+causeText(h, g)+kindsText(g.Counts))
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

func (a *app) printTogether(c collected) {
	for i, of := range c.checks {
		a.sayCheck(of, c.n[i]-1)
	}
}

// sayCheck says a check, and how many more records it holds for.
func (a *app) sayCheck(c check.Check, more int) {
	words := fmt.Sprintf("      %s %s: %s", tone(string(c.Level)), c.Code, c.Message)
	if more > 0 {
		words += fmt.Sprintf(" So it is with %s.", show.Count(more, "more record", ""))
	}
	fmt.Fprintln(a.out(), a.wrap(words+" "+c.Mend, "  "))
}

// printFinding shows one record: its address, where it stands, and its fields with
// source and target side by side.
func (a *app) printFinding(d *docket.Docket, r decide.Reviewed) {
	h := d.Header
	out := a.out()
	head := "  " + strong.Render(r.Address)
	if r.Title != "" {
		head += "  " + show.Harmless(r.Title)
	}
	stand := tone(string(r.Status)) + strings.TrimPrefix(decide.StatusText(r.Finding), string(r.Status))
	stand += ", " + standText(h, r)
	fmt.Fprintln(out, ansi.Truncate(head, a.width(), "…"))
	fmt.Fprintln(out, a.wrap("    "+stand, ""))
	if r.Was != "" {
		fmt.Fprintln(out, a.wrap(fmt.Sprintf("      %s in %s", r.Was, h.Target), ""))
	}
	switch {
	case r.Adds() || r.Status == match.TargetOnly:
		var parts []string
		for _, f := range r.Fields {
			value := f.Source
			if r.Status == match.TargetOnly {
				value = f.Target
			}
			text := f.Field + ": " + shorten(show.Readable(value), 400)
			if f.Decision != "" {
				text += " (" + f.Decision + ")"
			}
			parts = append(parts, text)
		}
		if len(parts) > 0 {
			fmt.Fprintln(out, a.wrap("      "+strings.Join(parts, "; "), ""))
		}
		if removal := decide.RemovalText(h, r.Finding); removal != "" {
			fmt.Fprintln(out, a.wrap("      "+removal, ""))
		}
		if filled := decide.FilledText(h, r.Finding); filled != "" {
			fmt.Fprintln(out, a.wrap("      the import gives it "+filled, ""))
		}
	default:
		a.printFields(d, r)
	}
}

func shorten(text string, most int) string { return ansi.Truncate(text, most, "…") }

func standText(h docket.Header, r decide.Reviewed) string {
	text := string(r.Decision)
	stand := r.Stand()
	if r.Decision == docket.Undecided && stand != docket.Approved {
		text = string(stand)
	}
	fields := r.ApprovedFields()
	chosen := slices.ContainsFunc(r.Fields, func(f docket.Field) bool {
		return slices.Contains(fields, f.Field) && r.Proposes(f) != match.Write
	})
	switch {
	case text == string(docket.TargetKept):
		text = h.Target + " keeps its values, approved"
	case stand != docket.Approved:
	case r.Removes():
		text = "removal approved"
	case r.Adds():
		text = string(docket.Approved)
	default:
		text = string(docket.Approved)
		if n := len(fields); n < len(r.Fields) {
			text = fmt.Sprintf("%d of %s approved", n, count(len(r.Fields), "field"))
		}
		if chosen {
			text += " with the values of " + h.Source
		}
	}
	if r.DecidedBy != "" {
		text += " by " + r.DecidedBy + ", " + when(r.DecidedAt)
		if others := without(r.Approvers, r.DecidedBy); len(others) > 0 && r.Decision == docket.Approved {
			text += ", and by " + strings.Join(others, ", ")
		}
	}
	if r.ByRule {
		text = strings.Replace(text, " by "+r.DecidedBy, " by a standing rule", 1)
	}
	if r.Before.Docket != 0 && stand == docket.Undecided {
		text += fmt.Sprintf("; approved before by %s in docket %d, as it still is", r.Before.Who, r.Before.Docket)
	}
	if r.CarriedFrom != 0 {
		text += fmt.Sprintf(", carried over from docket %d", r.CarriedFrom)
	}
	if r.Note != "" {
		text += ": " + show.Harmless(r.Note)
	}
	return text
}

func without(names []string, name string) []string {
	return slices.DeleteFunc(slices.Clone(names), func(n string) bool { return n == name })
}

// shownField is a field as a review shows it: of long texts and of JSON only what differs.
type shownField struct {
	name                   string
	source, target, agreed string
	moved, decision        string
}

// fieldsShown gives the lines of a finding's fields. Room is how wide a value may be before
// only what differs of it is shown.
func fieldsShown(d *docket.Docket, r decide.Reviewed, room int) []shownField {
	t, _ := d.Type(r.Type)
	var out []shownField
	for _, f := range r.Fields {
		texts := []*string{f.Source, f.Target}
		if f.AgreedKnown {
			texts = append(texts, f.Agreed)
		}
		line := func(name string, texts []*string) shownField {
			shown := shownField{name: name, source: show.Readable(texts[0]), target: show.Readable(texts[1]), agreed: "not known", moved: f.Moved, decision: f.Decision}
			if f.AgreedKnown {
				shown.agreed = show.Readable(texts[2])
			}
			return shown
		}
		long := slices.ContainsFunc(texts, func(text *string) bool { return text != nil && ansi.StringWidth(*text) > room })
		at := record.FieldAt(t.Fields, f.Field)
		if places, ok := show.JSONPlaces(texts); ok && long && at >= 0 && t.Fields[at].Kind == record.JSON && len(places) <= mostPlaces {
			for _, p := range places {
				values := slices.Clone(p.Values)
				for i, v := range values {
					if v == nil {
						values[i] = &nothingThere
					}
				}
				out = append(out, line(strings.TrimSuffix(f.Field+"."+p.Path, "."), values))
			}
			continue
		}
		if long {
			texts = show.Differing(texts, room)
		}
		out = append(out, line(f.Field, texts))
	}
	return out
}

// mostPlaces is in how many places JSON values may differ to be shown place by place.
const mostPlaces = 30

var nothingThere = "(not there)"

// printFields shows the differing fields in columns; long values are wrapped in theirs.
func (a *app) printFields(d *docket.Docket, r decide.Reviewed) {
	if len(r.Fields) == 0 {
		return
	}
	known := slices.ContainsFunc(r.Fields, func(f docket.Field) bool { return f.AgreedKnown })
	heads := []string{d.Header.Source, d.Header.Target}
	if known {
		heads = append(heads, "agreed")
	}
	const indent = 6
	decisions, moved := 0, 0
	if slices.ContainsFunc(r.Fields, func(f docket.Field) bool { return f.Decision != "" }) {
		decisions = len(docket.TargetKept) + 2
	}
	if known {
		moved = len("source") + 2
	}
	roomFor := func(name int) int { return (a.width()-indent-name-decisions-moved)/len(heads) - 2 }
	lines := fieldsShown(d, r, max(2*roomFor(20), 40))
	name, widest := len("field"), 0
	for _, f := range lines {
		name = max(name, ansi.StringWidth(f.name))
		for _, v := range []string{f.source, f.target, f.agreed} {
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
	if known {
		widths, head = append(widths, moved-2), append(head, "moved")
	}
	widths = append(widths, max(decisions, 1))
	a.printLines(text.Columns(strings.Repeat(" ", indent), widths, head, faint.Render))
	for _, f := range lines {
		cells := []string{f.name, f.source, f.target}
		if known {
			cells = append(cells, f.agreed, f.moved)
		}
		a.printLines(text.Columns(strings.Repeat(" ", indent), widths, append(cells, f.decision), nil))
	}
}
