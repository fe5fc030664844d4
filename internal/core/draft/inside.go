package draft

import (
	"fmt"
	"slices"

	"anagram/internal/core/evidence"
	"anagram/internal/core/record"
)

// Ids within values: a list of them, one at a path of JSON, or one between other characters
// of a text.

// inside looks for ids within the texts and documents of a type.
func (m *maker) inside(t *Type) {
	rows := m.metRows(t)
	for _, c := range t.place.Columns {
		if c.Kind != record.Text && c.Kind != record.JSON || slices.Contains(t.Key, c.Name) || !t.carried(c.Name) ||
			t.refer(c.Name) != nil || m.chooses(t, c.Name) || c.Derived {
			continue
		}
		var found []Reference
		for _, w := range evidence.Ways(c.Name, c.Kind, t.some(c.Name)) {
			if to, why, sure := m.idsBy(t, c.Name, w, rows); to != nil {
				found = append(found, Reference{Field: c.Name, To: to.Name, Why: why, Sure: sure, Form: w.Form, Text: w.Text})
			}
		}
		for i, r := range found {
			if i == 0 || r.Form == found[0].Form {
				t.Refers = append(t.Refers, r)
			}
		}
	}
}

// idsBy finds whose ids stand in a column in one way: where both sides agree once they are
// taken for that, else by the name beside them, else where no accident would make them ids.
func (m *maker) idsBy(t *Type, column string, w evidence.Way, rows [][2]int) (to *Type, why string, sure bool) {
	found := make([]*evidence.Column, len(m.sights))
	some := false
	for side := range m.sights {
		c := t.values(side, column)
		if c == nil {
			continue
		}
		ids := &evidence.Column{}
		for _, text := range c.Some {
			for _, id := range w.Find(text) {
				ids.Values = append(ids.Values, evidence.Number(id))
			}
		}
		if len(ids.Values) > 0 {
			found[side], some = ids, true
		}
	}
	if !some {
		return nil, "", false
	}
	return m.whose(t, column, w, rows, found)
}

// whose weighs the types whose ids numbers may be.
func (m *maker) whose(t *Type, column string, w evidence.Way, rows [][2]int, found []*evidence.Column) (to *Type, why string, sure bool) {
	var named, unlikely, agreed *Type
	closest, most, several := 0, 0, false
	for _, other := range m.draft.Types {
		if other.ID.Name == "" {
			continue
		}
		all, chance := other.holds(found)
		if !all {
			continue
		}
		if n := m.agreeInside(t, column, w, other, rows); n > most {
			agreed, most = other, n
		}
		if near := t.named(w.Hint, other); near > closest {
			named, closest = other, near
		}
		if chance < noChance {
			several = unlikely != nil
			unlikely = other
		}
	}
	switch {
	case agreed != nil:
		return agreed, "both sides agree once the numbers in it are ids of " + agreed.Place, true
	case named != nil && (closest > 1 || w.Form == "list" || evidence.IDName(w.Hint)):
		return named, "all numbers there are ids of " + named.Place, false
	case unlikely != nil && !several:
		return unlikely, "all numbers there are ids of " + unlikely.Place + ", which is no accident", false
	}
	return nil, "", false
}

// holds reports whether all that was found on each side are ids of a type, and how likely that
// is by chance.
func (t *Type) holds(found []*evidence.Column) (bool, float64) {
	within, all, chance := 0, 0, 1.0
	for side, ids := range found {
		if theirs := t.values(side, t.ID.Name); ids != nil && theirs != nil {
			h := ids.Among(theirs)
			within, all, chance = within+h.Within, all+h.Values, chance*ids.ByChance(theirs)
		}
	}
	return all > 0 && within == all, chance
}

// agreeInside counts the records that met in whose values the ids differ and mean the same, 0
// where hardly all do.
func (m *maker) agreeInside(t *Type, column string, w evidence.Way, to *Type, rows [][2]int) int {
	if len(rows) == 0 || m.keyOf[0][to] == nil || m.keyOf[1][to] == nil {
		return 0
	}
	a, b := t.values(0, column), t.values(1, column)
	if a == nil || b == nil {
		return 0
	}
	first, second := texts(a), texts(b)
	agreed, of, moved := 0, 0, 0
	for _, r := range rows {
		x, y := w.Find(first[a.Values[r[0]]]), w.Find(second[b.Values[r[1]]])
		if len(x) == 0 || len(x) != len(y) {
			continue
		}
		of++
		same := true
		for i := range x {
			same = same && m.keyOf[0][to][evidence.Number(x[i])] == m.keyOf[1][to][evidence.Number(y[i])]
		}
		if same {
			agreed++
			if fmt.Sprint(x) != fmt.Sprint(y) {
				moved++
			}
		}
	}
	if moved < 2 || agreed*100 < of*90 {
		return 0
	}
	return agreed
}
