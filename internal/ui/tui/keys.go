package tui

import (
	"fmt"
	"slices"
	"strings"
	"unicode"

	tea "charm.land/bubbletea/v2"

	"anagram/internal/core/decision"
	"anagram/internal/core/match"
	"anagram/internal/core/show"
	"anagram/internal/flow/decide"
	"anagram/internal/store/docket"
	"anagram/internal/ui/text"
)

// question is something that is typed, or confirmed.
type question struct {
	prompt  string
	text    string
	confirm bool // any key but y is no
	done    func(text string)
}

// press takes a key; it is true where the person leaves.
func (m *model) press(key tea.KeyPressMsg) bool {
	name := key.String()
	if name == "ctrl+c" {
		return true
	}
	if m.asking != nil {
		m.answer(key)
		return false
	}
	m.message = ""
	if m.help {
		m.help = false
		return false
	}
	if m.arrows(name) {
		return false
	}
	switch name {
	case "q":
		return true
	case "?":
		m.help = true
	default:
		if do, ok := m.commands()[name]; ok {
			do()
		}
	}
	return false
}

// answer takes a key while something is typed.
func (m *model) answer(key tea.KeyPressMsg) {
	q := m.asking
	switch name := key.String(); {
	case q.confirm:
		m.asking = nil
		if name == "y" {
			q.done("y")
		}
	case name == "esc":
		m.asking = nil
	case name == "enter":
		m.asking = nil
		q.done(q.text)
	case name == "backspace":
		if runes := []rune(q.text); len(runes) > 0 {
			q.text = string(runes[:len(runes)-1])
		}
	case name == "ctrl+u":
		q.text = ""
	case name == "space":
		q.text += " "
	default:
		if key.Text != "" && !strings.ContainsFunc(key.Text, unicode.IsControl) {
			q.text += key.Text
		}
	}
}

func (m *model) ask(prompt, text string, done func(string)) {
	m.asking = &question{prompt: prompt, text: text, done: done}
}

// arrows moves about; it is false for any other key.
func (m *model) arrows(name string) bool {
	page := m.layout().listHeight
	steps := map[string]int{"up": -1, "down": 1, "pgup": -page, "pgdown": page, "home": -len(m.lines) - 1, "end": len(m.lines) + 1}
	by, ok := steps[name]
	switch {
	case name == "tab":
		m.focus = (m.focus + 1) % 3
		return true
	case name == "shift+tab":
		m.focus = (m.focus + 2) % 3
		return true
	case name == "right" || name == "enter":
		m.fold(true)
		return true
	case name == "left":
		m.fold(false)
		return true
	case !ok:
		return false
	}
	switch m.focus {
	case inTypes:
		m.typeAt = max(0, min(m.typeAt+by, len(m.types)-1))
		m.at, m.top = 0, 0
		m.fill()
		m.look()
	case inDetail:
		if m.looked != nil && len(m.looked.Fields) > 0 {
			m.fieldAt = max(0, min(m.fieldAt+by, len(m.looked.Fields)-1))
		}
		m.detailTop = max(0, m.detailTop+by)
	default:
		m.move(by)
	}
	return true
}

// fold opens the group under the cursor, or closes the one that it is in.
func (m *model) fold(open bool) {
	if m.focus != inList {
		m.focus = inList
		return
	}
	id, group := m.current()
	if group == 0 || m.groups[group-1].Size == 1 || open && id != 0 {
		return
	}
	m.open[group] = open
	if !open {
		for i, r := range m.rows { // the cursor goes to the group's row
			if r.group == group && r.line < 0 {
				m.at = i
			}
		}
	}
	m.fill()
	m.look()
}

// commands are the keys that do something.
func (m *model) commands() map[string]func() {
	approve := decide.Request{Decision: decision.Approved}
	source := decide.Request{Decision: decision.Approved, Take: decide.TakeSource}
	target := decide.Request{Decision: decision.Approved, Take: decide.TakeTarget}
	decline, hold, reopen := decide.Request{Decision: decision.Declined}, decide.Request{Decision: decision.Held},
		decide.Request{Decision: decision.Undecided}
	return map[string]func(){
		"y": func() { m.decide(approve) }, "x": func() { m.decide(decline) }, "w": func() { m.decide(hold) },
		"o": func() { m.decide(reopen) },
		"1": func() { m.decide(source) }, "2": func() { m.decide(target) },
		"Y": func() { m.decideShown(approve, "approve") }, "X": func() { m.decideShown(decline, "decline") },
		"W": func() { m.decideShown(hold, "hold") },
		"n": m.nextOpen, "v": m.overrule, "u": m.takeBack, "m": m.note, "c": m.comment, "j": m.jump, "b": m.back,
		"s": func() { m.status = cycle(m.status, m.statuses()); m.filtered() },
		"d": func() { m.standing = cycle(m.standing, standings()); m.filtered() },
		"/": func() {
			m.ask("search", m.search, func(text string) { m.search = strings.ToLower(strings.TrimSpace(text)); m.filtered() })
		},
		"esc": func() { m.status, m.standing, m.search, m.typeAt = "", "", "", 0; m.filtered() },
	}
}

func (m *model) filtered() {
	m.fill()
	m.look()
}

// decide decides on what is under the cursor: a finding, a group, or in the detail one field.
func (m *model) decide(r decide.Request) {
	ids := m.chosen()
	if m.focus == inDetail && m.looked != nil && len(m.looked.Fields) > 0 {
		r.Field = m.looked.Fields[m.fieldAt].Field
	}
	m.apply(ids, r)
}

// decideShown decides on all that is shown, once that is confirmed.
func (m *model) decideShown(r decide.Request, verb string) {
	ids := m.shownIDs()
	if len(ids) == 0 {
		return
	}
	m.asking = &question{confirm: true, prompt: fmt.Sprintf("%s all %s shown? y is yes, any other key no", verb,
		show.Count(len(ids), "finding", "")), done: func(string) { m.apply(ids, r) }}
}

// apply decides, and then shows it.
func (m *model) apply(ids []int64, r decide.Request) {
	if len(ids) == 0 {
		return
	}
	r.Note = m.pending
	came, err := decide.Directly(m.ctx, m.s, m.d, ids, r)
	if err != nil {
		m.message = "Nothing was decided: " + err.Error()
		return
	}
	before, refused := came.Before, came.Refused
	m.pending = ""
	if len(before) > 0 {
		m.undo, m.undone = append(m.undo, before), true
		m.decided += len(before)
	}
	what := show.Count(len(before), "finding", "")
	if r.Field != "" && len(before) == 1 {
		what = "field " + r.Field
	}
	done := string(r.Decision)
	if r.Decision == decision.Undecided {
		done = "opened again"
	}
	if r.Take == decide.TakeTarget {
		done = "settled: " + m.d.Header.Target + " keeps its values"
	}
	var said []string
	if len(before) > 0 || refused+came.OfOthers == 0 {
		said = append(said, what+" "+done+".")
	}
	if refused > 0 {
		how := "press 1 or 2 to say whose values are right, or x or w"
		if m.d.Header.Restores > 0 {
			how = "press 1 for what was there before (none of what the import made), 2 for what is there now, or x or w"
		}
		said = append(said, fmt.Sprintf("%s passed over: %s.", show.Count(refused, "finding", ""), how))
	}
	if came.OfOthers > 0 {
		said = append(said, fmt.Sprintf("%s decided by others alone stays so: only they take that back.",
			show.Count(came.OfOthers, "finding", "")))
	}
	if stopped := stoppedText(came.Now, r, m.s.Who); stopped != "" {
		said = append(said, stopped)
	}
	for _, f := range came.Now {
		delete(m.waits, f.ID)
	}
	said = append(said, consequences(m)...)
	m.message = strings.Join(said, " ")
	m.settle(came.Now)
}

// consequences says what a decision newly holds up, and what it frees.
func consequences(m *model) []string {
	before := m.held
	now, err := readHeld(m)
	if err != nil || now == nil {
		m.failed = err
		return nil
	}
	m.held = now
	newly, freed := decide.Since(before, now, func(id int64) string { return m.lines[m.place[id]].Address })
	var said []string
	if causes := decide.Causes(newly); len(causes) > 0 {
		words := fmt.Sprintf("%s cannot be imported yet: %s", show.Count(len(newly), "of them", "of them"), causes[0].Message)
		if len(causes) > 1 {
			words += fmt.Sprintf(" And %s.", show.Count(len(causes)-1, "cause more", "causes more"))
		}
		said = append(said, words)
	}
	if freed > 0 {
		said = append(said, fmt.Sprintf("%s held up any more.", show.Count(freed, "record is not", "records are not")))
	}
	return said
}

// stoppedText says of which approved findings others' words go before.
func stoppedText(now []docket.Finding, r decide.Request, who string) string {
	if r.Decision != decision.Approved || r.Overrule {
		return ""
	}
	n := 0
	var people []string
	for _, f := range now {
		others := f.Stoppers(who)
		if len(others) > 0 {
			n++
		}
		for _, name := range others {
			if !slices.Contains(people, name) {
				people = append(people, name)
			}
		}
	}
	if n == 0 {
		return ""
	}
	return fmt.Sprintf("%s declined or held by %s: v overrules that.", show.Count(n, "of them stays", "of them stay"), text.Some(people, 3))
}

// overrule asks for the note that goes with an overruling, and approves.
func (m *model) overrule() {
	r := decide.Request{Decision: decision.Approved, Overrule: true}
	if f := m.looked; f != nil && (f.Status == match.Conflict || f.Status == match.TargetEdit || f.Removes()) {
		r.Take = decide.TakeSource
	}
	m.ask("overrule, with the note", m.pending, func(text string) {
		m.pending = strings.TrimSpace(text)
		m.decide(r)
	})
}

// takeBack brings back what the last decision changed.
func (m *model) takeBack() {
	if len(m.undo) == 0 && !m.undone { // of an earlier screen, or by command: the last one
		last, err := decide.LastOwn(m.ctx, m.s, m.d)
		if err != nil {
			m.message = "It could not be undone: " + err.Error()
			return
		}
		if len(last) > 0 {
			m.undo = append(m.undo, last)
		}
	}
	m.undone = true
	if len(m.undo) == 0 {
		m.message = "There is nothing to undo."
		return
	}
	last := m.undo[len(m.undo)-1]
	now, err := decide.Undo(m.ctx, m.s, m.d, last)
	if err != nil {
		m.message = "It could not be undone: " + err.Error()
		return
	}
	m.undo = m.undo[:len(m.undo)-1]
	said := append([]string{show.Count(len(last), "finding stands", "findings stand") + " as before."}, consequences(m)...)
	m.message = strings.Join(said, " ")
	m.settle(now)
	if len(now) == 1 {
		m.goTo(now[0].ID)
	}
}

// note asks for a note: for the decision that there is, else for the next one.
func (m *model) note() {
	m.ask("note", m.pending, func(text string) {
		m.pending = strings.TrimSpace(text)
		if m.looked == nil || m.looked.Decision == decision.Undecided || m.pending == "" {
			return
		}
		switch m.looked.Decision {
		case decision.Approved:
			r := decide.Request{Decision: decision.Approved}
			if m.looked.Status == "conflict" || m.looked.Status == "target-edit" || m.looked.Removes() {
				r.Take = decide.TakeSource
			}
			m.apply(m.chosen(), r)
		case decision.TargetKept:
			m.apply(m.chosen(), decide.Request{Decision: decision.Approved, Take: decide.TakeTarget})
		default:
			m.apply(m.chosen(), decide.Request{Decision: m.looked.Decision})
		}
	})
}

// comment asks for a comment on the finding under the cursor.
func (m *model) comment() {
	if m.looked == nil {
		m.message = "A comment is about one record: open the group with the right arrow."
		return
	}
	address := m.looked.Address
	m.ask("comment", "", func(text string) {
		if strings.TrimSpace(text) == "" {
			return
		}
		if _, err := decide.Comment(m.ctx, m.s, m.d, address, text, ""); err != nil {
			m.message = err.Error()
			return
		}
		m.message = "Kept with " + address + "."
		m.look()
	})
}

// jump goes to what the finding refers to, or to what waits for it: to the next of them each
// time.
func (m *model) jump() {
	if m.looked == nil {
		return
	}
	var list []docket.Linked
	for _, l := range append(append([]docket.Linked{}, m.looked.to...), m.looked.from...) {
		if _, here := m.place[l.Finding]; here {
			list = append(list, l)
		}
	}
	if len(list) == 0 {
		m.message = m.looked.Address + " is tied to no other finding."
		return
	}
	go1 := func(n int) {
		m.came = append(m.came, m.looked.ID)
		m.goTo(list[n].Finding)
	}
	if len(list) == 1 {
		go1(0)
		return
	}
	var words []string
	for i, l := range list[:min(len(list), 9)] {
		words = append(words, fmt.Sprintf("%d %s", i+1, show.Harmless(l.Address)))
	}
	m.ask("jump to which? "+strings.Join(words, "  "), "", func(text string) {
		var n int
		if _, err := fmt.Sscanf(text, "%d", &n); err == nil && n >= 1 && n <= len(list) {
			go1(n - 1)
		}
	})
}

// back goes to where the last jump came from.
func (m *model) back() {
	if len(m.came) == 0 {
		return
	}
	id := m.came[len(m.came)-1]
	m.came = m.came[:len(m.came)-1]
	m.goTo(id)
}
