package tui

import (
	"slices"
	"strings"

	"anagram/internal/core/decision"
	"anagram/internal/core/match"
	"anagram/internal/core/show"
	"anagram/internal/flow/decide"
	"anagram/internal/flow/shown"
	"anagram/internal/store/docket"
)

// count counts what is open, by record type in the docket's order.
func (m *model) count() {
	at := map[string]int{}
	m.types = []typeCount{{name: "all types"}}
	for _, t := range m.d.Types {
		at[t.Name] = len(m.types)
		m.types = append(m.types, typeCount{name: t.Name})
	}
	for _, l := range m.lines {
		for _, i := range []int{0, at[l.Type]} {
			m.types[i].total++
			if l.Asks() && l.Stand == decision.Undecided {
				m.types[i].open++
			}
		}
	}
	kept := m.types[:1]
	for _, t := range m.types[1:] {
		if t.total > 0 {
			kept = append(kept, t)
		}
	}
	m.types = kept
	m.typeAt = min(m.typeAt, len(m.types)-1)
}

// fits reports whether a line is among those that are shown.
func (m *model) fits(l docket.Line) bool {
	switch {
	case m.typeAt > 0 && l.Type != m.types[m.typeAt].name, m.status != "" && l.Status != m.status:
		return false
	case m.standing == decision.Undecided && (l.Stand != decision.Undecided || !l.Asks()):
		return false
	case m.standing != "" && m.standing != decision.Undecided && l.Stand != m.standing:
		return false
	case m.search != "":
		return strings.Contains(strings.ToLower(l.Address+"\n"+l.Title), m.search)
	}
	return true
}

// fill makes the rows anew, and keeps the cursor on what it was on.
func (m *model) fill() {
	id, group := m.current()
	m.rows = m.rows[:0]
	for from := 0; from < len(m.lines); {
		to := from
		for to < len(m.lines) && m.lines[to].Group == m.lines[from].Group {
			to++
		}
		m.fillGroup(from, to)
		from = to
	}
	m.at = 0
	if m.search != "" && len(m.rows) > 1 && m.rows[1].inside { // what was searched for, not its group
		m.at = 1
	}
	for i, r := range m.rows {
		if r.line >= 0 && m.lines[r.line].ID == id || r.line < 0 && id == 0 && r.group == group {
			m.at = i
			break
		}
		if r.line < 0 && r.group == group { // at least its group
			m.at = i
		}
	}
	m.keepInSight()
}

// fillGroup adds the rows of one group.
func (m *model) fillGroup(from, to int) {
	head := row{group: m.lines[from].Group, line: -1}
	var members []row
	for i := from; i < to; i++ {
		l := m.lines[i]
		if !m.fits(l) {
			continue
		}
		switch head.shown++; {
		case head.shown == 1:
			head.status = string(l.Status)
		case head.status != string(l.Status):
			head.status = "mixed"
		}
		if l.Asks() && l.Stand == decision.Undecided {
			head.open++
		}
		members = append(members, row{group: l.Group, line: i, inside: true})
	}
	switch {
	case len(members) == 1 && m.groups[head.group-1].Size == 1:
		members[0].inside = false
		m.rows = append(m.rows, members[0])
	case len(members) > 0:
		m.rows = append(m.rows, head)
		if m.open[head.group] || m.search != "" {
			m.rows = append(m.rows, members...)
		}
	}
}

// current gives the finding under the cursor, 0 for a group's row, and its group.
func (m *model) current() (id int64, group int) {
	if m.at >= len(m.rows) || len(m.rows) == 0 {
		return 0, 0
	}
	r := m.rows[m.at]
	if r.line < 0 {
		return 0, r.group
	}
	return m.lines[r.line].ID, r.group
}

// chosen gives the findings that a decision at the cursor is about: one, or the shown ones of a
// group.
func (m *model) chosen() []int64 {
	id, group := m.current()
	if id != 0 {
		return []int64{id}
	}
	var out []int64
	for _, l := range m.lines {
		if l.Group == group && m.fits(l) {
			out = append(out, l.ID)
		}
	}
	return out
}

// shownIDs gives all findings that are shown, folded ones too.
func (m *model) shownIDs() []int64 {
	var out []int64
	for _, l := range m.lines {
		if m.fits(l) {
			out = append(out, l.ID)
		}
	}
	return out
}

// move moves the cursor in the list.
func (m *model) move(by int) {
	m.at = max(0, min(m.at+by, len(m.rows)-1))
	m.keepInSight()
	m.look()
}

// keepInSight scrolls so that the cursor can be seen.
func (m *model) keepInSight() {
	h := m.layout().listHeight
	m.top = max(0, min(m.top, len(m.rows)-h))
	if m.at < m.top {
		m.top = m.at
	}
	if m.at >= m.top+h {
		m.top = m.at - h + 1
	}
}

// nextOpen goes to the next finding that asks for a decision, from the cursor on and around.
func (m *model) nextOpen() {
	start := 0
	if id, group := m.current(); id != 0 {
		start = m.place[id] + 1
	} else {
		for i, l := range m.lines {
			if l.Group == group {
				start = i
				break
			}
		}
	}
	for n := range m.lines {
		l := m.lines[(start+n)%len(m.lines)]
		if (l.Asks() && l.Stand == decision.Undecided || m.waits[l.ID]) && m.fits(l) {
			m.goTo(l.ID)
			return
		}
	}
	m.message = "Nothing that is shown is open."
}

// goTo puts the cursor on a finding, whatever hides it.
func (m *model) goTo(id int64) {
	at, ok := m.place[id]
	if !ok {
		return
	}
	l := m.lines[at]
	if !m.fits(l) {
		m.typeAt, m.status, m.standing, m.search = 0, "", "", ""
	}
	m.open[l.Group] = true
	m.fill()
	for i, r := range m.rows {
		if r.line == at {
			m.at = i
			break
		}
	}
	m.keepInSight()
	m.look()
}

// look reads the finding under the cursor in full.
func (m *model) look() {
	id, _ := m.current()
	m.fieldAt, m.detailTop = 0, 0
	if id == 0 {
		m.looked = nil
		return
	}
	r, to, from, err := decide.Look(m.ctx, m.d, id)
	if err != nil {
		m.failed = err
		return
	}
	short := shortened(r)
	m.looked = &looked{Reviewed: short, shown: shown.Of(m.d, short), to: to, from: from, attachments: m.attachments(r)}
}

// Long values are shortened once, not each time the screen is drawn.
const (
	mostValue = 300  // signs, above which only what differs of a value is shown
	mostShown = 2000 // signs of it
)

// shortened gives a finding whose values are as long as they can be shown.
func shortened(r decide.Reviewed) decide.Reviewed {
	r.Title = cut(r.Title)
	r.Note = cut(r.Note)
	fields := slices.Clone(r.Fields)
	for i, f := range fields {
		texts := []*string{f.Source, f.Target}
		if f.AgreedKnown {
			texts = append(texts, f.Agreed)
		}
		texts = show.Differing(texts, mostValue)
		for n, to := range []**string{&fields[i].Source, &fields[i].Target, &fields[i].Agreed} {
			if n < len(texts) && texts[n] != nil {
				short := cut(*texts[n])
				*to = &short
			}
		}
	}
	r.Fields = fields
	return r
}

func cut(text string) string {
	if len(text) <= mostShown {
		return text
	}
	runes := []rune(text[:min(len(text), 4*mostShown)])
	return string(runes[:min(len(runes), mostShown)]) + "…"
}

// settle takes over how findings stand after a decision.
func (m *model) settle(now []docket.Finding) {
	for _, f := range now {
		if at, ok := m.place[f.ID]; ok {
			m.lines[at].Stand = f.Stand()
		}
	}
	m.count()
	field := m.fieldAt
	m.fill()
	m.look()
	m.fieldAt = field
}

// cycle gives the next of some values, "" after the last.
func cycle[T comparable](now T, values []T) T {
	var none T
	if now == none {
		return values[0]
	}
	for i, v := range values {
		if v == now && i+1 < len(values) {
			return values[i+1]
		}
	}
	return none
}

// statuses are those that the docket has, in their order.
func (m *model) statuses() []match.Status {
	var out []match.Status
	for _, s := range match.Statuses() {
		if slices.ContainsFunc(m.d.Types, func(t docket.Type) bool { return s != match.Same && t.Counts[s] > 0 }) {
			out = append(out, s)
		}
	}
	return append(out, "")[:max(len(out), 1)]
}

func standings() []decision.Decision {
	return []decision.Decision{decision.Undecided, decision.Approved, decision.Declined, decision.Held, decision.TargetKept}
}
