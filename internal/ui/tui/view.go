package tui

import (
	"fmt"
	"strings"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"

	"anagram/internal/core/decision"
	"anagram/internal/core/show"
	"anagram/internal/flow/shown"
	"anagram/internal/ui/text"
)

// Styles: the terminal's own sixteen colours, and never the only sign of anything.
var (
	strong = lipgloss.NewStyle().Bold(true)
	faint  = lipgloss.NewStyle().Faint(true)
	cursor = lipgloss.NewStyle().Reverse(true)
	alarm  = lipgloss.NewStyle().Foreground(lipgloss.Magenta).Bold(true)
	warn   = lipgloss.NewStyle().Foreground(lipgloss.Yellow)
	calm   = lipgloss.NewStyle().Foreground(lipgloss.Blue)
)

// layout is where the regions are: side by side on a wide screen, else the detail below.
type layout struct {
	wide                                  bool
	typesWidth, listWidth, listHeight     int
	detailWidth, detailHeight, bodyHeight int
}

const (
	headLines = 2
	footLines = 3
	leastWide = 130
)

func (m *model) layout() layout {
	l := layout{typesWidth: 24, bodyHeight: max(m.height-headLines-footLines, 6)}
	if l.wide = m.width >= leastWide; l.wide {
		l.listWidth = min(64, (m.width-l.typesWidth-4)*2/5)
		l.detailWidth = m.width - l.typesWidth - l.listWidth - 4
		l.listHeight, l.detailHeight = l.bodyHeight, l.bodyHeight
		return l
	}
	l.listWidth = max(m.width-l.typesWidth-2, 20)
	l.listHeight = max(l.bodyHeight*45/100, 3)
	l.detailHeight = max(l.bodyHeight-l.listHeight-1, 2)
	l.detailWidth = m.width
	return l
}

// clean makes what is shown one line that moves nothing.
func clean(words string) string { return text.Shown(words) }

// fit makes a line exactly as wide as it has to be.
func fit(line string, width int) string {
	line = ansi.Truncate(line, width, "…")
	return line + strings.Repeat(" ", max(0, width-ansi.StringWidth(line)))
}

// draw draws the screen.
func (m *model) draw() string {
	if m.width < 60 || m.height < 16 {
		return fit("The review needs at least 60 columns and 16 lines. q leaves.", max(m.width, 1))
	}
	if m.help {
		return m.drawHelp()
	}
	l := m.layout()
	lines := m.drawHead()
	types, list := m.drawTypes(l), m.drawList(l)
	detail := m.drawDetail(l)
	switch {
	case l.wide:
		for i := range l.bodyHeight {
			lines = append(lines, fit(at(types, i), l.typesWidth)+faint.Render("│ ")+fit(at(list, i),
				l.listWidth)+faint.Render("│ ")+fit(at(detail, i), l.detailWidth))
		}
	default:
		for i := range l.listHeight {
			lines = append(lines, fit(at(types, i), l.typesWidth)+faint.Render("│ ")+fit(at(list, i), l.listWidth))
		}
		lines = append(lines, faint.Render(strings.Repeat("─", m.width)))
		for i := range l.detailHeight {
			lines = append(lines, fit(at(detail, i), l.detailWidth))
		}
	}
	return strings.Join(append(lines, m.drawFoot()...), "\n")
}

func at(lines []string, i int) string {
	if i < len(lines) {
		return lines[i]
	}
	return ""
}

func (m *model) drawHead() []string {
	h := m.d.Header
	all := m.types[0]
	left := strong.Render(fmt.Sprintf("Docket %d  %s to %s", h.Number, clean(h.Source), clean(h.Target)))
	right := fmt.Sprintf("%d open of %d", all.open, all.total)
	line := fit(left, m.width-ansi.StringWidth(right)-1) + " " + right
	sub := "parcel " + clean(h.Parcel) + ", exported " + text.When(h.ExportedAt) + " by " + clean(h.ExportedBy)
	var filters []string
	for _, f := range []struct{ name, value string }{{"status", string(m.status)}, {"decision", string(m.standing)}, {"text", m.search}} {
		if f.value != "" {
			filters = append(filters, f.name+" "+clean(f.value))
		}
	}
	if len(filters) > 0 {
		sub = "shown: " + strings.Join(filters, ", ") + "  (Esc shows all)"
	}
	return []string{line, faint.Render(fit(sub, m.width))}
}

func (m *model) drawTypes(l layout) []string {
	h := l.listHeight
	top := max(0, min(m.typeAt-h/2, len(m.types)-h))
	var out []string
	for i := top; i < len(m.types) && len(out) < h; i++ {
		t := m.types[i]
		n := fmt.Sprintf("%d/%d", t.open, t.total)
		line := fit(" "+t.name, l.typesWidth-len(n)-2) + " " + n + " "
		switch {
		case i == m.typeAt && m.focus == inTypes:
			line = cursor.Render(line)
		case i == m.typeAt:
			line = strong.Render(">" + line[1:])
		}
		out = append(out, line)
	}
	return out
}

// words of a decision in a list, all of one width.
var standWords = map[decision.Decision]string{decision.Undecided: "open", decision.Approved: "approved",
	decision.Declined: "declined", decision.Held: "held", decision.TargetKept: "kept"}

func (m *model) drawList(l layout) []string {
	var out []string
	if len(m.rows) == 0 {
		return []string{" No finding fits. Esc shows all."}
	}
	for i := m.top; i < len(m.rows) && len(out) < l.listHeight; i++ {
		r := m.rows[i]
		var line string
		if r.line < 0 {
			g := m.groups[r.group-1]
			sign := "+"
			if m.open[r.group] || m.search != "" {
				sign = "-"
			}
			stand := fmt.Sprintf("%d/%d", r.open, r.shown)
			line = fit(" "+sign+" "+clean(g.Address)+"  "+clean(g.Title), l.listWidth-22) + fmt.Sprintf(" %-11s %8s ", r.status, stand)
		} else {
			f := m.lines[r.line]
			indent := " "
			if r.inside {
				indent = "   "
			}
			stand := standWords[f.Stand]
			if f.Stand == decision.Undecided && !f.Asks() {
				stand = "to see"
			}
			if m.waits[f.ID] && f.Stand == decision.Approved {
				stand = "for you" // it has fewer approvals than the target demands
			}
			mark := " "
			if (f.Blocked || len(m.held[f.ID]) > 0) && f.Stand != decision.Declined && f.Stand != decision.Held {
				mark = "!"
			}
			line = fit(indent+mark+clean(f.Address)+"  "+clean(f.Title), l.listWidth-22) + fmt.Sprintf(" %-11s %8s ", f.Status, stand)
		}
		switch {
		case i == m.at && m.focus == inList:
			line = cursor.Render(fit(line, l.listWidth))
		case i == m.at:
			line = strong.Render(fit(">"+line[1:], l.listWidth))
		}
		out = append(out, line)
	}
	return out
}

func (m *model) drawFoot() []string {
	rule := faint.Render(strings.Repeat("─", m.width))
	if q := m.asking; q != nil {
		if q.confirm {
			return []string{rule, fit(strong.Render(q.prompt), m.width), ""}
		}
		typed := clean(q.text) + "_"
		if over := ansi.StringWidth(q.prompt+typed) + 3 - m.width; over > 0 && ansi.StringWidth(typed) > over {
			typed = "…" + ansi.TruncateLeft(typed, over+1, "")
		}
		return []string{rule, fit(strong.Render(q.prompt)+": "+typed, m.width), faint.Render(fit("Enter keeps it, Esc leaves it", m.width))}
	}
	message := m.message
	if message == "" && m.pending != "" {
		message = "note for the next decision: " + m.pending
	}
	keys := "y approve  x decline  w hold  1 source's  2 target's  o reopen  n next open  u undo  ? all keys  q leave"
	if m.width < ansi.StringWidth(keys) {
		keys = "y approve x decline w hold 1/2 side o reopen n next u undo ? keys q leave"
	}
	return []string{rule, fit(strong.Render(clean(message)), m.width), faint.Render(fit(keys, m.width))}
}

var helpLines = []string{
	"Keys", "",
	"  arrows, PgUp, PgDn, Home, End   move; right and left open and close a group",
	"  Tab                             types, findings, fields of the chosen finding",
	"  y   approve          Y   approve all that is shown",
	"  x   decline          X   decline all that is shown",
	"  w   hold             W   hold all that is shown",
	"  1   approve with the values of the source",
	"  2   keep the values of the target",
	"  o   take your decision back        u   undo your last decision",
	"  v   approve what others declined   n   the next that is open, or waits for you",
	"  n   next open finding              m   note     c   comment",
	"  /   search     s   status     d   decision     Esc   show all",
	"  j   jump to what it refers to, or what waits for it     b   back",
	"  q   leave; everything decided is kept already", "",
	"On a group a decision is about all of it that is shown; on a field, reached with",
	"Tab, about that field. + and - are groups, ! is what a check blocks, a/b is open",
	"of all.", "", "Any key goes back.",
}

func (m *model) drawHelp() string {
	out := make([]string, 0, m.height)
	for _, line := range helpLines {
		out = append(out, fit(line, m.width))
	}
	for len(out) < m.height {
		out = append(out, "")
	}
	return strings.Join(out[:m.height], "\n")
}

// kindsOf says what is in a group, for its detail.
func (m *model) drawGroup(number int) []string {
	g := m.groups[number-1]
	counts := map[string]int{}
	var order []string
	stands := map[decision.Decision]int{}
	for _, l := range m.lines {
		if l.Group != number {
			continue
		}
		key := l.Type + " " + string(l.Status)
		if counts[key] == 0 {
			order = append(order, key)
		}
		counts[key]++
		if l.Asks() || l.Stand != decision.Undecided {
			stands[l.Stand]++
		}
	}
	out := []string{strong.Render(clean(g.Address)) + "  " + clean(g.Title), shown.CauseText(g, m.d.Header.Target)}
	for _, key := range order {
		out = append(out, fmt.Sprintf("  %5d %s", counts[key], key))
	}
	var parts []string
	for _, d := range standings() {
		if stands[d] > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", stands[d], standWords[d]))
		}
	}
	return append(out, "", show.Count(g.Size, "finding", "")+": "+strings.Join(parts, ", "))
}
