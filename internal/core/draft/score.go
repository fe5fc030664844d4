package draft

import (
	"fmt"
	"slices"
	"strings"

	"anagram/internal/core/catalog"
	"anagram/internal/core/evidence"
	"anagram/internal/core/record"
	"anagram/internal/core/show"
)

// score is what a candidate would do as a key.
type score struct {
	candidate
	plausible        bool // a unique index, a code, a name or a reference is in it
	sides            int  // that have records
	rows, apart      int  // on the side where it tells the smallest share apart
	met, might       int  // keys on both sides, and how many there could be
	compared, agreed int  // values of records that met
}

func (s score) unique() bool { return s.apart == s.rows }

func (s score) nearly() bool { return s.apart*100 >= s.rows*nearlyUnique }

// quality is between 0 and 1: how much it tells apart, how many meet, how much of them agrees.
func (s score) quality() float64 {
	if s.sides == 0 {
		return 0.5
	}
	q := float64(s.apart) / float64(max(1, s.rows))
	if !s.nearly() {
		q *= 0.6
	}
	if !s.plausible {
		q *= 0.6
	}
	if s.sides < 2 {
		return q
	}
	agree := 1.0
	if s.compared > 0 {
		agree = float64(s.agreed) / float64(s.compared)
	}
	return q * float64(s.met) / float64(max(1, s.might)) * (0.3 + 0.7*agree)
}

// convincing reports whether nothing else needs to be looked for.
func (s score) convincing() bool {
	if s.sides == 0 {
		return s.stated
	}
	if s.sides < 2 {
		return s.stated && s.unique()
	}
	return s.quality() >= 0.75 && s.nearly()
}

// sure reports whether the data of both sides confirm it.
func (s score) sure() bool {
	return s.sides > 1 && s.nearly() && s.met >= 3 && s.met*2 >= s.might && (s.compared == 0 || s.agreed*4 >= s.compared*3)
}

// does says what a match by it would meet.
func (s score) does() string {
	out := ""
	if s.sides > 0 && !s.unique() {
		out = show.Count(s.rows-s.apart, "record shares its key", "records share their key")
	} else if s.sides > 0 {
		out = "unique"
	}
	if s.sides > 1 {
		out += fmt.Sprintf(", %d of %d meet", s.met, s.might)
		if s.compared > 0 {
			out += " and agree in " + perHundred(s.agreed, s.compared)
		}
	}
	return out
}

// why gives the comment beside a key: nothing where an index says it and nothing speaks
// against it.
func (s score) why() (string, bool) {
	switch {
	case s.sure() && s.stated:
		return "", true
	case s.sure():
		return "no unique index; " + s.does(), true
	case s.sides == 0 && !s.stated:
		return "no unique index and no records; by the names of the fields alone", false
	case s.stated && s.sides < 2:
		return "", false
	case s.stated && s.met*2 >= s.might && s.might > 0:
		return "", false
	case s.stated:
		return "a unique index, but only " + s.does(), false
	default:
		return "no unique index; " + s.does(), false
	}
}

// broken says that a key does not tell all records apart.
func (s score) broken() string {
	return fmt.Sprintf("%d of %d records share their key with another: a match will name them", s.rows-s.apart, s.rows)
}

// score tries a candidate on the data of all sides.
func (m *maker) score(t *Type, c candidate) score {
	out := score{candidate: c, plausible: c.stated || slices.ContainsFunc(c.columns, func(name string) bool {
		return t.refer(name) != nil || codeName.MatchString(name) || nameName.MatchString(name) || strings.EqualFold(name, t.Name)
	})}
	keys := make([][]uint64, len(m.sights))
	worst := 2.0
	for side, table := range t.seen {
		if table == nil {
			continue
		}
		keys[side] = m.keys(t, side, c)
		if keys[side] == nil {
			continue
		}
		out.sides++
		distinct, rows := map[uint64]bool{}, 0
		for _, k := range keys[side] {
			if k != 0 {
				rows++
				distinct[k] = true
			}
		}
		if rows == 0 {
			continue
		}
		if share := float64(len(distinct)) / float64(rows); share < worst {
			worst, out.rows, out.apart = share, rows, len(distinct)
		}
	}
	if len(m.sights) == 2 && keys[0] != nil && keys[1] != nil {
		m.meet(t, c, keys, &out)
	}
	return out
}

// mostCompared bounds how many records that meet are compared for a candidate.
const mostCompared = 1_000

// meet counts what is on both sides, and how far it agrees.
func (m *maker) meet(t *Type, c candidate, keys [][]uint64, out *score) {
	first := onceOnly(keys[0])
	second := onceOnly(keys[1])
	out.might = min(len(first), len(second))
	var rows [][2]int
	for row, k := range keys[0] { // in the order of the rows, so that the same facts give the same
		if k == 0 || first[k] != row {
			continue
		}
		if other, ok := second[k]; ok && other >= 0 && first[k] >= 0 {
			out.met++
			if len(rows) < mostCompared {
				rows = append(rows, [2]int{row, other})
			}
		}
	}
	for _, column := range t.place.Columns {
		if slices.Contains(c.columns, column.Name) || !t.compares(column) {
			continue
		}
		a, b := m.column2(t, 0, column.Name), m.column2(t, 1, column.Name)
		if a == nil || b == nil {
			continue
		}
		for _, r := range rows {
			if a[r[0]] == 0 && b[r[1]] == 0 {
				continue // two nulls say nothing
			}
			out.compared++
			if a[r[0]] == b[r[1]] {
				out.agreed++
			}
		}
	}
}

// onceOnly gives the row of each key, -1 where several have it.
func onceOnly(keys []uint64) map[uint64]int {
	out := make(map[uint64]int, len(keys))
	for row, k := range keys {
		if k == 0 {
			continue
		}
		if _, twice := out[k]; twice {
			out[k] = -1
			continue
		}
		out[k] = row
	}
	return out
}

// compares reports whether a column says something about two records being one.
func (t *Type) compares(c catalog.Column) bool {
	return c.Name != t.ID.Name && !c.Derived && lookable(c) && t.carried(c.Name) && c.Kind != record.Boolean
}

// column2 gives the values of a column in a form that is the same on both sides: a reference
// as the key of what it points at. Nil where that is not known.
func (m *maker) column2(t *Type, side int, column string) []uint64 {
	c := t.values(side, column)
	if c == nil {
		return nil
	}
	r := t.refer(column)
	if r == nil || r.Column != "" || r.Columns != nil || r.Form != "" {
		if r != nil && r.Form != "" {
			return nil
		}
		return c.Values
	}
	if r.Chooser != "" {
		return m.chosenKeys(t, side, c, r)
	}
	to := m.typeNamed(r.To)
	if to == t {
		return nil // the tree itself: see keys
	}
	known := m.keyOf[side][to]
	if known == nil {
		return nil
	}
	out := make([]uint64, len(c.Values))
	for row, v := range c.Values {
		out[row] = translated(v, r.None, known)
	}
	return out
}

func translated(v uint64, none []string, known map[uint64]uint64) uint64 {
	if v == 0 || slices.ContainsFunc(none, func(n string) bool { return evidence.Number(n) == v }) {
		return 0
	}
	if k := known[v]; k != 0 {
		return k
	}
	return mix(v, 77) // leads nowhere
}

func (m *maker) chosenKeys(t *Type, side int, c *evidence.Column, r *Reference) []uint64 {
	words := t.values(side, r.Chooser)
	if words == nil {
		return nil
	}
	by := map[uint64]map[uint64]uint64{}
	for word, name := range r.Words {
		by[evidence.Number(word)] = m.keyOf[side][m.typeNamed(name)]
	}
	out := make([]uint64, len(c.Values))
	for row, v := range c.Values {
		out[row] = translated(v, r.None, by[words.Values[row]])
	}
	return out
}

func (m *maker) typeNamed(name string) *Type {
	for _, t := range m.all {
		if t.Name == name {
			return t
		}
	}
	return nil
}

func mix(a, b uint64) uint64 {
	a ^= b + 0x9E3779B97F4A7C15 + a<<6 + a>>2
	a *= 0xFF51AFD7ED558CCD
	a ^= a >> 33
	return a | 1
}

// keys gives the key of each row under a candidate, 0 where the row does not count. Nil is
// that it cannot be told.
func (m *maker) keys(t *Type, side int, c candidate) []uint64 {
	table := t.seen[side]
	out := make([]uint64, table.Read)
	for row := range out {
		out[row] = 1
	}
	var parent *evidence.Column
	var none []string
	for _, name := range c.columns {
		if r := t.refer(name); r != nil && r.To == t.Name && r.Chooser == "" && r.Columns == nil && r.Column == "" {
			if parent != nil {
				return nil
			}
			parent, none = t.values(side, name), r.None
			if parent == nil {
				return nil
			}
			continue
		}
		values := m.column2(t, side, name)
		if values == nil {
			return nil
		}
		for row, v := range values {
			out[row] = mix(out[row], v)
		}
	}
	if parent != nil {
		out = below(out, parent, t.values(side, t.ID.Name), none)
	}
	if c.part != nil {
		inUse := t.inUse(side, *c.part)
		for row := range out {
			if inUse == nil || !inUse(row) {
				out[row] = 0
			}
		}
	}
	return out
}

// plainKeys is keys as they are stored, which tell as many apart as what they mean does at most.
func (m *maker) plainKeys(t *Type, side int, columns []string) []uint64 {
	out := make([]uint64, t.seen[side].Read)
	for _, name := range columns {
		c := t.values(side, name)
		if c == nil {
			return nil
		}
		for row, v := range c.Values {
			out[row] = mix(out[row], v)
		}
	}
	return out
}

// below makes paths of the keys of a tree: each with that of its parent before it.
func below(own []uint64, parent, ids *evidence.Column, none []string) []uint64 {
	if ids == nil {
		return nil
	}
	rowOf := make(map[uint64]int, len(ids.Values))
	for row, id := range ids.Values {
		rowOf[id] = row
	}
	out := make([]uint64, len(own))
	for row := range own {
		var path []int
		at := row
		for out[at] == 0 && len(path) <= len(own) {
			path = append(path, at)
			up := parent.Values[at]
			next, ok := rowOf[up]
			if up == 0 || !ok || slices.ContainsFunc(none, func(n string) bool { return evidence.Number(n) == up }) ||
				slices.Contains(path, next) && len(path) < 64 || len(path) == len(own) {
				out[at] = mix(own[at], 3)
				break
			}
			at = next
		}
		for _, r := range slices.Backward(path) {
			if out[r] == 0 {
				out[r] = mix(own[r], out[rowOf[parent.Values[r]]])
			}
		}
	}
	return out
}

// inUse gives the test of rows that an index counts.
func (t *Type) inUse(side int, p catalog.PartlyUnique) func(row int) bool {
	c := t.values(side, p.Field)
	if c == nil {
		return nil
	}
	value := p.Value
	if column, _ := t.place.Column(p.Field); column.Kind == record.Boolean {
		value = literal(column, p.Value)
	}
	n := evidence.Number(value)
	return func(row int) bool {
		switch p.When {
		case "null":
			return c.Values[row] == 0
		case "not null":
			return c.Values[row] != 0
		}
		return c.Values[row] == n
	}
}

// remember keeps the key of each internal id, for what refers to it.
func (m *maker) remember(t *Type) {
	for side, table := range t.seen {
		if table == nil {
			continue
		}
		c := t.score.candidate
		c.part = nil
		keys := m.keys(t, side, c)
		ids := t.values(side, t.ID.Name)
		if ids == nil && len(t.place.Primary) == 1 {
			ids = t.values(side, t.place.Primary[0])
		}
		if keys == nil || ids == nil {
			continue
		}
		known := make(map[uint64]uint64, len(keys))
		for row, id := range ids.Values {
			known[id] = keys[row]
		}
		m.keyOf[side][t] = known
	}
}
