package match

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/known"
	"anagram/internal/core/record"
	"anagram/internal/tests"
)

// Two environments live for some steps: people edit, create and remove, records are matched, imported
// and taken back. What a match finds by what is remembered is held against a model that remembers
// nothing but sees all that happened.

// cell is a record of one side, with who changed it last.
type cell struct {
	v      [2]string // name and price
	at, by string
}

type sideNow map[string]cell

func (s sideNow) copy() sideNow {
	out := sideNow{}
	for k, v := range s {
		out[k] = v
	}
	return out
}

func (s sideNow) records(stamped bool) []record.Record {
	var keys []string
	for k := range s {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	var out []record.Record
	for _, k := range keys {
		r := rec(k, s[k].v[0], s[k].v[1])
		if stamped {
			r.ChangedAt, r.ChangedBy = s[k].at, s[k].by
		}
		out = append(out, r)
	}
	return out
}

// wrote is what an import did to one record.
type wrote struct {
	key    string
	fields []int
	before *cell // nil where the record was made
	after  cell
	real   [2]string       // stamp of the last person before, "" for none
	was    *record.Record  // what was known before
	status Status          // of the finding
	apart  bool            // made on both sides on its own
	values [2]record.Value // that were written
}

// event is what happened, as the model sees it.
type event struct {
	kind  string // match, import or restore
	s, t  sideNow
	wrote []wrote
	takes int // of a restore: the event that it takes back
}

// life is what goes on.
type life struct {
	r       *rand.Rand
	stamped bool
	clock   int
	s, t    sideNow
	entries map[string]*record.Record // what is remembered
	covered bool
	log     []event
}

func (l *life) now() string {
	l.clock++
	return fmt.Sprintf("2026-01-01T00:%02d:%02d", l.clock/60, l.clock%60)
}

var people = []string{"ida", "ruth", "jonas"}

// edit changes, makes or removes a record on one side.
func (l *life) edit() {
	side := []sideNow{l.s, l.t}[l.r.IntN(2)]
	key := string(rune('A' + l.r.IntN(4)))
	c, there := side[key]
	switch {
	case there && l.r.IntN(4) == 0:
		delete(side, key)
		return
	case there:
		c.v[l.r.IntN(2)] = string(rune('a' + l.r.IntN(3)))
	default:
		c.v = [2]string{string(rune('a' + l.r.IntN(3))), string(rune('a' + l.r.IntN(3)))}
	}
	c.at, c.by = l.now(), people[l.r.IntN(len(people))]
	side[key] = c
}

// match finds what Join finds by what is remembered, and remembers.
func (l *life) match(t *testing.T) []Finding {
	var kept []record.Record
	for _, k := range []string{"A", "B", "C", "D"} {
		if l.entries[k] != nil {
			kept = append(kept, *l.entries[k])
		}
	}
	next := map[string]*record.Record{}
	var found []Finding
	in := Input{Fields: fields, Source: stream(l.s.records(l.stamped)), Target: stream(l.t.records(l.stamped)), Agreed: stream(kept),
		SourceName: "sandbox", TargetName: "production",
		InScope: func(record.Key) bool { return true }, Ambiguous: func(record.Key) bool { return false },
		Remember: func(m Met) error {
			kept := known.Match{Fields: fields, Compared: len(fields), Docket: len(l.log) + 1, At: "T"}.After(true,
				slices.Contains(m.Reasons, CreatedOnBoth), m.Source, m.Target, m.Agreed)
			if kept != nil {
				next[kept.Key.Parts()[0].Text()] = kept
			}
			return nil
		}}
	if l.covered {
		in.Covers = func(record.Key) bool { return true }
	}
	_, err := Join(in, func(f Finding) error { found = append(found, f); return nil })
	require.NoError(t, err)
	l.log = append(l.log, event{kind: "match", s: l.s.copy(), t: l.t.copy()})
	l.entries, l.covered = next, true
	return found
}

// bring imports some of what was found with the values of the source.
func (l *life) bring(found []Finding) {
	at, by := l.now(), "mara"
	e := event{kind: "import"}
	for _, f := range found {
		if l.r.IntN(3) == 0 || f.Source == nil || f.Status == TargetEdit {
			continue
		}
		key := f.Key.Parts()[0].Text()
		w := wrote{key: key, status: f.Status, was: l.entries[key], apart: slices.Contains(f.Reasons, CreatedOnBoth),
			values: [2]record.Value{record.AbsentValue(), record.AbsentValue()}}
		c, there := l.t[key]
		if there {
			before := c
			w.before = &before
			if f.Agreed != nil || l.stamped {
				w.real[0], w.real[1] = known.Changed(f.Agreed, "production", f.Target)
			}
		}
		for i := range fields {
			differs := !there || l.s[key].v[i] != c.v[i]
			if moved := f.Moved(i); !differs || there && f.Status == Changed && moved == MovedTarget {
				continue
			}
			w.fields = append(w.fields, i)
			c.v[i], w.values[i] = l.s[key].v[i], f.Source.Values[i]
		}
		c.at, c.by = at, by
		w.after = c
		l.t[key] = c
		own := l.own(w, len(l.log)+1, false)
		l.entries[key] = known.Taught{Record: record.Record{Key: f.Key, Values: w.values[:]}, Own: own}.Over(fields, l.entries[key])
		e.wrote = append(e.wrote, w)
	}
	if len(e.wrote) > 0 {
		l.log = append(l.log, e)
	}
}

func (l *life) own(w wrote, docket int, restore bool) *known.Own {
	if !l.stamped {
		return nil
	}
	c := l.t[w.key]
	own := &known.Own{Docket: docket, In: "production", At: c.at, By: c.by, Restore: restore}
	if restore {
		own.WasAt, own.WasBy = w.real[0], w.real[1]
	}
	return own
}

// Moved tells who moved a field of a finding.
func (f Finding) Moved(field int) Moved {
	for _, d := range f.Differences {
		if d.Field == field {
			return d.Moved
		}
	}
	return MovedUnknown
}

// takeBack takes the last import back, as far as nobody changed since what it wrote.
func (l *life) takeBack() {
	last := len(l.log) - 1
	for last >= 0 && l.log[last].kind == "match" {
		last--
	}
	if last < 0 || l.log[last].kind != "import" {
		return
	}
	at := l.now()
	e := event{kind: "restore", takes: last}
	for _, w := range l.log[last].wrote {
		c, there := l.t[w.key]
		switch {
		case !there || c != w.after:
			continue
		case w.before == nil:
			delete(l.t, w.key)
			taught := known.Taught{Record: record.Record{Key: rec(w.key).Key, Values: []record.Value{record.AbsentValue(), record.AbsentValue()}}}
			for i, f := range fields { // as it was before, where the record was agreed on
				if taught.Record.Values[i] = record.AbsentValue(); w.was != nil && !w.was.Values[i].IsAbsent() {
					taught.Record.Values[i] = w.was.Values[i]
				} else {
					taught.Forget = append(taught.Forget, f.Name)
				}
			}
			taught.Gone = w.was == nil
			l.entries[w.key] = taught.Over(fields, l.entries[w.key])
		default:
			for _, i := range w.fields {
				c.v[i] = w.before.v[i]
			}
			c.at, c.by = at, "mara"
			l.t[w.key] = c
			taught := known.Taught{Record: record.Record{Key: rec(w.key).Key, Values: []record.Value{record.AbsentValue(), record.AbsentValue()}}}
			for _, i := range w.fields {
				if w.was != nil && !w.was.Values[i].IsAbsent() {
					taught.Record.Values[i] = w.was.Values[i]
				} else {
					taught.Forget = append(taught.Forget, fields[i].Name)
				}
			}
			taught.Gone = w.apart
			taught.Own = l.own(w, len(l.log)+1, true)
			l.entries[w.key] = taught.Over(fields, l.entries[w.key])
		}
		if l.entries[w.key] == nil {
			delete(l.entries, w.key)
		}
		e.wrote = append(e.wrote, w)
	}
	l.log = append(l.log, e)
}

// model sees what happened, and remembers nothing.
type model []event

// agreed gives the value on which both sides agreed last in a field, before an event.
func (m model) agreed(key string, field, before int) (string, bool) {
	for i := before - 1; i >= 0; i-- {
		e := m[i]
		switch e.kind {
		case "match":
			s, inS := e.s[key]
			t, inT := e.t[key]
			switch {
			case !inS && !inT:
				return "", false
			case inS && inT && s.v[field] == t.v[field] && !m.apart(key, i):
				return s.v[field], true
			}
		case "import":
			for _, w := range e.wrote {
				if w.key == key && slices.Contains(w.fields, field) {
					return w.after.v[field], true
				}
			}
		case "restore":
			for _, w := range e.wrote {
				if w.key == key && slices.Contains(w.fields, field) {
					return m.agreed(key, field, e.takes)
				}
			}
		}
	}
	return "", false
}

// met reports whether both sides had a record before an event, and it was not gone from both since.
func (m model) met(key string, before int) bool {
	for i := before - 1; i >= 0; i-- {
		e := m[i]
		switch e.kind {
		case "match":
			_, inS := e.s[key]
			_, inT := e.t[key]
			switch {
			case !inS && !inT:
				return false
			case inS && inT && !m.apart(key, i):
				return true
			}
		case "import":
			if slices.ContainsFunc(e.wrote, func(w wrote) bool { return w.key == key }) {
				return true
			}
		case "restore":
			if slices.ContainsFunc(e.wrote, func(w wrote) bool { return w.key == key }) {
				return m.met(key, e.takes)
			}
		}
	}
	return false
}

// apart reports whether both sides have a record at a match that differs and that was not on both
// before, though all was compared before.
func (m model) apart(key string, at int) bool {
	s, inS := m[at].s[key]
	t, inT := m[at].t[key]
	if !inS || !inT || s.v == t.v || m.met(key, at) {
		return false
	}
	return slices.ContainsFunc(m[:at], func(e event) bool { return e.kind == "match" })
}

// person tells who changed the target's record last, imports and restores aside: the stamp itself, or
// that from before an import that was taken back; "" where only an import did.
func (m model) person(key string, c cell, before int) (string, string) {
	for i := before - 1; i >= 0; i-- {
		for _, w := range m[i].wrote {
			switch {
			case w.key != key:
			case m[i].kind == "import" && w.after.at == c.at && w.after.by == c.by:
				return "", ""
			case m[i].kind == "restore" && c.by == "mara":
				if w.before == nil {
					return "", ""
				}
				return m.person(key, *w.before, m[i].takes)
			}
		}
	}
	return c.at, c.by
}

// says gives what the model says of a key at the last match.
func (m model) says(key string, stamped bool) string {
	last := len(m) - 1
	s, inS := m[last].s[key]
	t, inT := m[last].t[key]
	met := m.met(key, last)
	switch {
	case !inS && !inT:
		return ""
	case !inT && met:
		return "conflict [removed-in-target]"
	case !inT:
		return "new"
	case !inS && met:
		for i := range t.v {
			if a, ok := m.agreed(key, i, last); ok && a != t.v[i] {
				return "target-only [removed-in-source edited-since]"
			}
		}
		return "target-only [removed-in-source]"
	case !inS:
		return "target-only"
	case s.v == t.v:
		return ""
	case m.apart(key, last):
		return "conflict [created-on-both]"
	}
	status, unknown := "target-edit", false
	for i := range s.v {
		a, ok := m.agreed(key, i, last)
		switch {
		case s.v[i] == t.v[i]:
		case !ok:
			unknown = true
			fallthrough
		case a == t.v[i]:
			if status == "target-edit" {
				status = "changed"
			}
		case a != s.v[i]:
			status = "conflict [both-moved]"
		}
	}
	at, _ := m.person(key, t, last)
	if unknown && stamped && at > s.at && status != "target-edit" {
		if status == "conflict [both-moved]" {
			return "conflict [both-moved target-newer]"
		}
		return "conflict [target-newer]"
	}
	return status
}

func TestWorldsThatLive(t *testing.T) {
	r := rand.New(rand.NewPCG(77, 3))
	seen := map[string]int{}
	for world := range tests.Times(300, 5_000) {
		l := &life{r: r, stamped: world%3 > 0, s: sideNow{}, t: sideNow{}, entries: map[string]*record.Record{}}
		for range 4 + r.IntN(4) {
			l.edit()
		}
		var found []Finding
		for range 4 + r.IntN(9) {
			switch n := r.IntN(10); {
			case n < 5:
				l.edit()
			case n < 7:
				found = l.match(t)
				l.hold(t, world, found, seen)
			case n < 9:
				found = l.match(t)
				l.hold(t, world, found, seen)
				l.bring(found)
			default:
				l.takeBack()
			}
		}
		l.hold(t, world, l.match(t), seen)
	}
	assert.GreaterOrEqual(t, len(seen), 9, "every kind of finding occurred: %v", seen)
}

// hold holds what was found against the model.
func (l *life) hold(t *testing.T, world int, found []Finding, seen map[string]int) {
	t.Helper()
	got := map[string]string{}
	for _, f := range found {
		text := string(f.Status)
		if len(f.Reasons) > 0 {
			text += fmt.Sprintf(" %v", f.Reasons)
		}
		got[f.Key.Parts()[0].Text()] = text
		seen[text]++
	}
	m := model(l.log)
	for _, key := range []string{"A", "B", "C", "D"} {
		require.Equal(t, m.says(key, l.stamped), got[key], "world %d, %s, stamps %t, %s", world, key, l.stamped, l.told(key))
	}
}

// told is what happened to a key, for whoever reads a failure.
func (l *life) told(key string) string {
	out := ""
	for _, e := range l.log {
		switch e.kind {
		case "match":
			out += fmt.Sprintf("\nmatch %v | %v", e.s[key], e.t[key])
		default:
			for _, w := range e.wrote {
				if w.key == key {
					out += fmt.Sprintf("\n%s %v, before %v, after %v", e.kind, w.fields, w.before, w.after)
				}
			}
		}
	}
	return out
}
