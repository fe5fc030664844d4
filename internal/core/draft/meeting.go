package draft

import (
	"slices"

	"anagram/internal/core/catalog"
	"anagram/internal/core/evidence"
	"anagram/internal/core/record"
)

// What records tell that met by their key: the internal id is the column in which they
// disagree, and a column that agrees only when its numbers are taken for ids is a reference.

// metRows gives the rows of records that met, first side and second.
func (m *maker) metRows(t *Type) (out [][2]int) {
	if len(m.sights) != 2 || t.seen[0] == nil || t.seen[1] == nil || len(t.Key) == 0 || !t.score.nearly() {
		return nil
	}
	a, b := m.keys(t, 0, t.score.candidate), m.keys(t, 1, t.score.candidate)
	if a == nil || b == nil {
		return nil
	}
	first, second := onceOnly(a), onceOnly(b)
	for row, k := range a {
		if k == 0 || first[k] != row {
			continue
		}
		if other, ok := second[k]; ok && other >= 0 && len(out) < mostCompared {
			out = append(out, [2]int{row, other})
		}
	}
	return out
}

// agreeRaw counts how many records that met hold the same in a column, as it is stored.
func (m *maker) agreeRaw(t *Type, column string) (agreed, of int) {
	if len(m.sights) != 2 {
		return 0, 0
	}
	a, b := t.values(0, column), t.values(1, column)
	if a == nil || b == nil {
		return 0, 0
	}
	for _, r := range m.metRows(t) {
		x, y := a.Values[r[0]], b.Values[r[1]]
		if x == 0 && y == 0 {
			continue
		}
		if of++; x == y {
			agreed++
		}
	}
	return agreed, of
}

// otherID takes a number that alone is the primary key for an internal id where records that
// met by something else disagree in it, and for the key where it is the only thing by which
// they meet and then agree.
func (m *maker) otherID(t *Type) {
	if len(t.place.Primary) != 1 {
		return
	}
	c, _ := t.place.Column(t.place.Primary[0])
	if t.refer(c.Name) != nil {
		return
	}
	if c.Kind != record.Integer {
		if len(t.Key) == 0 || slices.Contains(t.Key, c.Name) || t.ID.Name == c.Name {
			return
		}
		if t.ID.Name == "" {
			t.ID = Noted{Name: c.Name, Why: "the primary key, and records are told by something else"}
			return
		}
		t.score = m.score(t, candidate{columns: []string{c.Name}, stated: true})
		t.Key, t.found, t.ways = []string{c.Name}, "", nil
		t.KeyWhy, t.KeySure = t.score.why()
	}
	if t.ID.Name == "" && !slices.Contains(t.Key, c.Name) && len(t.Key) > 0 {
		if agreed, of := m.agreeRaw(t, c.Name); of >= 3 && agreed*2 < of {
			t.ID = Noted{Name: c.Name, Why: "records that are the same on both sides have other numbers", Sure: true}
		}
		return
	}
	if t.ID.Name != c.Name || evidence.IDName(c.Name) || t.score.quality() >= 0.5 || t.sides() < 2 {
		return
	}
	id := t.ID
	t.ID = Noted{}
	if s := m.score(t, candidate{columns: []string{c.Name}, stated: true}); s.sure() && s.quality() > 0.9 {
		t.score, t.Key, t.KeyWhy, t.KeySure, t.found, t.ways = s, []string{c.Name}, "", true, "", nil
		return
	}
	t.ID = id
}

// byMeeting finds references that neither names nor values alone tell: a column of numbers in
// which records that met disagree, and agree once the numbers are taken for ids of one type.
func (m *maker) byMeeting(t *Type) {
	rows := m.metRows(t)
	if len(rows) < 4 {
		return
	}
	for _, c := range t.place.Columns {
		if !t.numbers(c) || c.Name == t.ID.Name || c.Derived || !t.carried(c.Name) || t.refer(c.Name) != nil ||
			slices.Contains(t.Key, c.Name) || m.chooses(t, c.Name) || t.Retired.Field == c.Name {
			continue
		}
		if best := m.translates(t, c.Name, rows); best != nil {
			f := m.fits(t, c.Name, best)
			t.Refers = append(t.Refers, Reference{Field: c.Name, To: best.Name,
				Why: "no foreign key; both sides agree once its numbers are ids of " + best.Place, Sure: true, None: f.none})
		}
	}
}

// numbers reports whether a column holds whole numbers, as texts too.
func (t *Type) numbers(c catalog.Column) bool {
	if c.Kind != record.Text || !lookable(c) {
		return c.Kind == record.Integer
	}
	for side := range t.seen {
		if v := t.values(side, c.Name); v != nil && v.Filled() > 0 && !v.Whole() {
			return false
		}
	}
	return len(t.some(c.Name)) > 0
}

// translates gives the one type as whose ids the numbers of a column agree on both sides.
func (m *maker) translates(t *Type, column string, rows [][2]int) *Type {
	a, b := t.values(0, column), t.values(1, column)
	if a == nil || b == nil {
		return nil
	}
	var best *Type
	bestAgreed := 0
	for _, to := range m.all {
		first, second := m.keyOf[0][to], m.keyOf[1][to]
		if to.ID.Name == "" || first == nil || second == nil || !m.mayHold(t, column, to) {
			continue
		}
		f := m.fits(t, column, to)
		if !f.good() {
			continue
		}
		agreed, of, moved := 0, 0, 0
		different := map[uint64]bool{}
		for _, r := range rows {
			x, y := a.Values[r[0]], b.Values[r[1]]
			kx, ky := translated(x, f.none, first), translated(y, f.none, second)
			if kx == 0 && ky == 0 {
				continue
			}
			of++
			if kx == ky {
				agreed++
				if x != y {
					moved++
					different[x] = true
				}
			}
		}
		if of >= 4 && agreed*100 >= of*90 && moved*10 >= of*3 && len(different) >= 2 && agreed > bestAgreed {
			best, bestAgreed = to, agreed
		}
	}
	return best
}

// texts gives the texts of a column by their numbers, as far as they were kept.
func texts(c *evidence.Column) map[uint64]string {
	out := make(map[uint64]string, len(c.Some))
	for _, text := range c.Some {
		out[evidence.Number(text)] = text
	}
	return out
}

// again weighs the key once more: references that were found since are compared by what they
// mean.
func (m *maker) again(t *Type) {
	if t.sides() < 2 || len(t.Key) == 0 {
		return
	}
	t.score = m.score(t, t.score.candidate)
	t.KeyWhy, t.KeySure = t.score.why()
}

// ownEverywhere takes a field that differs in nearly every record that met, where the others
// agree, for one that belongs to each environment.
func (m *maker) ownEverywhere(t *Type) {
	rows := m.metRows(t)
	if len(rows) < 10 {
		return
	}
	for _, c := range t.place.Columns {
		if c.Kind != record.Text && c.Kind != record.Integer || slices.Contains(t.Key, c.Name) || !t.compares(c) ||
			t.refer(c.Name) != nil || m.chooses(t, c.Name) || t.Retired.Field == c.Name || slices.Contains(t.Files, c.Name) {
			continue
		}
		agreed, of := m.agreeRaw(t, c.Name)
		if of < 10 || agreed*20 > of {
			continue
		}
		t.Local = append(t.Local, Noted{Name: c.Name, Why: "it differs in nearly every record that both sides have"})
		t.doubtful(c.Name + " differs in nearly every record that both sides have, and is taken for local: it is not compared")
	}
}
