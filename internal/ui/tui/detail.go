package tui

import (
	"fmt"
	"net/http"
	"slices"
	"strings"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"

	"anagram/internal/core/check"
	"anagram/internal/core/match"
	"anagram/internal/core/show"
	"anagram/internal/flow/decide"
	"anagram/internal/flow/shown"
	"anagram/internal/store/docket"
	"anagram/internal/ui/text"
)

// drawDetail shows the chosen finding: how it stands, its fields side by side, its checks, what
// was said, and what it is tied to.
func (m *model) drawDetail(l layout) []string {
	if len(m.rows) == 0 {
		return nil
	}
	if m.looked == nil {
		_, group := m.current()
		return m.drawGroup(group)
	}
	r, f := m.looked, m.looked.shown
	w := l.detailWidth
	out := []string{strong.Render(f.Address) + "  " + f.Title}
	stand := styleOf(string(f.Status)).Render(string(f.Status)) + strings.TrimPrefix(f.StatusText, string(f.Status))
	out = append(out, wrapped(stand+", "+f.StandsText, w, "")...)
	for _, said := range f.Words {
		out = append(out, wrapped(faint.Render(said.Text()), w, "  ")...)
	}
	if f.Was != "" {
		out = append(out, f.Was+" in "+clean(m.d.Header.Target))
	}
	fields, chosen := m.drawFields(w)
	first := len(out)
	out = append(out, fields...)
	if f.Removal != "" {
		out = append(out, wrapped(f.Removal, w, "  ")...)
	}
	if f.Filled != "" {
		out = append(out, wrapped("the import gives it "+f.Filled, w, "  ")...)
	}
	if text := f.ChangedText(); text != "" {
		out = append(out, wrapped(faint.Render("last changed: "+text), w, "  ")...)
	}
	for _, c := range checksOf(m, r) {
		style := warn
		if c.Level == check.Blocker {
			style = alarm
		}
		out = append(out, wrapped(style.Render(string(c.Level))+" "+string(c.Code)+": "+c.Message+" "+c.Mend, w, "  ")...)
	}
	for _, c := range f.Said {
		out = append(out, wrapped(c.Who+", "+text.When(c.At)+": "+c.Text, w, "  ")...)
	}
	for _, links := range []struct {
		what string
		list []docket.Linked
	}{{"refers to", r.to}, {"waited for by", r.from}} {
		var names []string
		for _, one := range links.list {
			if one.Finding != 0 && !slices.Contains(names, clean(one.Address)) {
				names = append(names, clean(one.Address))
			}
		}
		if len(names) > 0 {
			out = append(out, wrapped(faint.Render(links.what+" ")+text.Some(names, 8), w, "  ")...)
		}
	}
	return m.scrolled(out, first+chosen, l.detailHeight)
}

// checksOf gives the checks of a finding, with what holds it up as things stand.
func checksOf(m *model, r *looked) []check.Check {
	out := slices.Clone(r.shown.Checks)
	for _, c := range shown.Harmless(m.held[r.ID]) {
		if !slices.ContainsFunc(out, func(have check.Check) bool { return have.Code == c.Code && have.Message == c.Message }) {
			out = append(out, c)
		}
	}
	return out
}

// scrolled gives the part of the detail that is in sight; where it is scrolled, a last line
// says how much more there is.
func (m *model) scrolled(lines []string, chosen, height int) []string {
	if len(lines) <= height {
		m.detailTop = 0
		return lines
	}
	m.detailTop = min(m.detailTop, len(lines)-height+1)
	if m.focus == inDetail && len(m.looked.Fields) > 0 { // the chosen field stays in sight
		m.detailTop = max(0, min(m.detailTop, chosen), chosen-height+3)
	}
	rest := len(lines) - m.detailTop - height + 1
	out := slices.Clone(lines[m.detailTop:min(m.detailTop+height-1, len(lines))])
	if rest > 0 {
		return append(out, faint.Render(fmt.Sprintf("%s below; Tab and the arrows go there", show.Count(rest, "line", ""))))
	}
	return append(out, lines[m.detailTop+height-1:]...)
}

// drawFields lays the fields out in columns; chosen is the line of the chosen one.
func (m *model) drawFields(width int) (lines []string, chosen int) {
	f := m.looked.shown
	if len(f.Fields) == 0 {
		return nil, 0
	}
	var heads []string
	if f.InSource {
		heads = append(heads, clean(m.d.Header.Source))
	}
	if f.InTarget {
		heads = append(heads, clean(m.d.Header.Target))
	}
	if f.Known && f.InSource && f.InTarget {
		heads = append(heads, "agreed")
	}
	const decision = 11
	name := 5
	for _, field := range f.Fields {
		name = max(name, ansi.StringWidth(field.Name))
	}
	name = min(name, 24)
	cell := max((width-name-decision-4)/len(heads)-2, 8)
	column := func(cells []string) []string {
		widths := []int{name}
		for range heads {
			widths = append(widths, cell)
		}
		return text.Columns("  ", append(widths, decision), cells, nil)
	}
	for _, line := range column(append(append([]string{"field"}, heads...), "")) {
		lines = append(lines, faint.Render(line))
	}
	for i, field := range f.Fields {
		cells := m.looked.cells(field, len(heads))
		stand := field.Decision
		if field.Moved == string(match.MovedBoth) && stand == "" {
			stand = "both moved"
		}
		for n, line := range column(append(cells, stand)) {
			if i == m.fieldAt && m.focus == inDetail {
				if n == 0 {
					chosen = len(lines)
					line = ">" + strings.TrimPrefix(line, " ")
				}
				line = strong.Render(line)
			}
			lines = append(lines, line)
		}
	}
	return lines, chosen
}

// cells gives what the columns of a field hold: as many values as there are.
func (r *looked) cells(f shown.Field, columns int) []string {
	out := []string{f.Name}
	add := func(t *string) {
		word := show.Readable(t)
		if t != nil {
			if about, ok := r.attachments[*t]; ok {
				word += " " + about
			}
		}
		out = append(out, word)
	}
	if r.shown.InSource {
		add(f.Source)
	}
	if r.shown.InTarget {
		add(f.Target)
	}
	switch {
	case columns < 3:
	case f.Known:
		add(f.Agreed)
	default:
		out = append(out, "not known")
	}
	return out
}

func wrapped(words string, width int, indent string) []string {
	lines := strings.Split(ansi.Wrap(words, max(width-len(indent), 10), " "), "\n")
	for i := range lines {
		if i > 0 {
			lines[i] = indent + lines[i]
		}
	}
	return lines
}

func styleOf(status string) lipgloss.Style {
	switch status {
	case "conflict":
		return alarm
	case "changed", "new":
		return calm
	}
	return strong
}

// attachments says of shown attachments how large they are and what they seem to be.
func (m *model) attachments(r decide.Reviewed) map[string]string {
	out := map[string]string{}
	for _, f := range r.Fields {
		for _, t := range []*string{f.Source, f.Target, f.Agreed} {
			if t == nil || !strings.HasPrefix(*t, "file sha256:") {
				continue
			}
			head := strings.TrimSuffix(strings.TrimPrefix(*t, "file sha256:"), "…")
			size, begin, ok := m.d.Found.Attachment(m.ctx, head)
			if ok {
				out[*t] = "(" + text.Size(size) + ", " + strings.Split(http.DetectContentType(begin), ";")[0] + ")"
			}
		}
	}
	return out
}
