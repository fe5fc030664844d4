package draft

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
)

// findKey takes the best unique index without the internal id; where there is none, the
// smallest set of columns that is unique in the data and looks like a name or a code.
func (m *maker) findKey(t *Type) error {
	candidates := slices.Clone(t.place.Unique)
	if t.ID.Name == "" && len(t.place.Primary) > 0 {
		candidates = append(candidates, t.place.Primary)
	}
	candidates = slices.DeleteFunc(candidates, func(columns []string) bool {
		return slices.Contains(columns, t.ID.Name) || slices.ContainsFunc(columns, func(c string) bool { return !t.mayBeKey(c) })
	})
	if len(candidates) > 0 {
		slices.SortStableFunc(candidates, func(a, b []string) int { return cmp.Compare(t.cost(a), t.cost(b)) })
		t.Key = t.ordered(candidates[0])
		t.keepKeyFields()
		return nil
	}
	guesses := t.guesses()
	rows, _, err := m.ask.Rows(t.Place)
	if err != nil {
		return err
	}
	if rows == 0 && len(guesses) > 0 {
		t.Key, t.KeyWhy = guesses[t.likeliest(guesses)], "no unique index and no records; by the names of the fields alone"
		t.keepKeyFields()
		return nil
	}
	best := 0
	for _, columns := range guesses {
		var nullable []string // the root of a tree has no parent
		for _, column := range columns {
			if t.refersTo(column) == t.Name {
				nullable = append(nullable, column)
			}
		}
		distinct, err := m.ask.Distinct(t.Place, columns, nullable)
		if err != nil {
			return err
		}
		if distinct > best {
			best, t.Key = distinct, columns
		}
		if distinct == rows {
			break
		}
	}
	switch {
	case best == rows:
		t.KeyWhy = fmt.Sprintf("no unique index; unique in the %d records that there are", rows)
	case best*100 >= rows*nearlyUnique:
		t.KeyWhy = fmt.Sprintf("no unique index; %d values in %d records, so some share theirs: a match will name them", best, rows)
	default:
		t.Key = nil
		return nil
	}
	t.keepKeyFields()
	return nil
}

// nearlyUnique is how many of a hundred records a key must tell apart to be proposed. In
// real applications a key that people rely on is often broken by a few old records.
const nearlyUnique = 98

// likeliest chooses among guesses for a table without records: within an owner where
// the type refers to another that it may belong to, else by a code or name alone.
func (t *Type) likeliest(guesses [][]string) int {
	for i, columns := range guesses {
		if len(columns) == 2 && t.refersTo(columns[0]) != "" && t.refersTo(columns[0]) != t.Name {
			if c, _ := t.place.Column(columns[0]); c.Required {
				return i
			}
		}
	}
	return 0
}

// keepKeyFields takes the fields of a guessed key out of what was guessed to be local.
func (t *Type) keepKeyFields() {
	t.Local = slices.DeleteFunc(t.Local, func(n Noted) bool { return slices.Contains(t.Key, n.Name) })
}

// mayBeKey refuses what never identifies a record everywhere.
func (t *Type) mayBeKey(column string) bool {
	c, ok := t.place.Column(column)
	in := func(list []Noted) bool {
		return slices.ContainsFunc(list, func(n Noted) bool { return n.Name == column })
	}
	return ok && !c.Derived && c.Kind != record.Bytes && c.Kind != record.JSON && !in(t.Secret) && !in(t.Ignore) && column != t.StampAt && column != t.StampBy
}

// cost orders unique sets: few columns that may be null, no random values, codes before
// names before others, few columns.
func (t *Type) cost(columns []string) int {
	total := 4 * len(columns)
	for _, name := range columns {
		c, _ := t.place.Column(name)
		if !c.Required && t.refersTo(name) != t.Name {
			total += 6
		}
		switch {
		case randomName.MatchString(name):
			total += 100
		case codeName.MatchString(name):
			total--
		case t.refersTo(name) == "" && !nameName.MatchString(name):
			total += 2
		}
	}
	return total
}

// ordered puts references before other fields, the parent of a tree first of all.
func (t *Type) ordered(columns []string) []string {
	out := slices.Clone(columns)
	for _, r := range t.Refers { // columns that are a reference together stand as that
		here := func(name string) bool {
			return slices.ContainsFunc(r.Columns, func(p catalog.Pair) bool { return p.Here == name })
		}
		missing := slices.ContainsFunc(r.Columns, func(p catalog.Pair) bool { return !slices.Contains(out, p.Here) })
		if r.Columns != nil && !missing {
			out = append(slices.DeleteFunc(out, here), r.Field)
		}
	}
	rank := func(name string) int {
		switch t.refersTo(name) {
		case "":
			return 2
		case t.Name:
			return 0
		default:
			return 1
		}
	}
	slices.SortStableFunc(out, func(a, b string) int { return rank(a) - rank(b) })
	return out
}

// guesses lists sets of columns that may be a key, the likeliest first.
func (t *Type) guesses() [][]string {
	var codes, names, refs []string
	for _, c := range t.place.Columns {
		switch {
		case c.Name == t.ID.Name || !t.mayBeKey(c.Name):
		case t.refersTo(c.Name) != "":
			refs = append(refs, c.Name)
		case codeName.MatchString(c.Name) && !randomName.MatchString(c.Name):
			codes = append(codes, c.Name)
		case nameName.MatchString(c.Name), strings.EqualFold(c.Name, t.Name):
			names = append(names, c.Name)
		}
	}
	refs = t.ordered(refs)
	plain := slices.Concat(codes, names)
	out := slices.Concat(singles(plain), across(refs, plain), pairs(refs), across2(pairs(refs), plain), pairs(plain))
	for _, c := range t.place.Columns { // anything else that is short and plain
		taken := c.Name == t.ID.Name || !t.mayBeKey(c.Name) || slices.Contains(plain, c.Name) || slices.Contains(refs, c.Name)
		if !taken && slices.Contains([]record.Kind{record.Text, record.Integer, record.Date}, c.Kind) {
			out = append(append(out, across(refs, []string{c.Name})...), []string{c.Name})
		}
	}
	const most = 40
	return out[:min(len(out), most)]
}

func singles(names []string) (out [][]string) {
	for _, name := range names {
		out = append(out, []string{name})
	}
	return out
}

// pairs gives every two of some names, in their order.
func pairs(names []string) (out [][]string) {
	for i, a := range names {
		for _, b := range names[i+1:] {
			out = append(out, []string{a, b})
		}
	}
	return out
}

// across gives every reference with every plain name after it.
func across(refs, plain []string) (out [][]string) {
	for _, p := range plain {
		for _, r := range refs {
			out = append(out, []string{r, p})
		}
	}
	return out
}

// across2 is across for sets of references.
func across2(sets [][]string, plain []string) (out [][]string) {
	for _, set := range sets {
		for _, p := range plain {
			out = append(out, append(slices.Clone(set), p))
		}
	}
	return out
}

// dropKeyless leaves out types without a key, then those whose key or references need them.
func (m *maker) dropKeyless() {
	dropped := map[string]bool{}
	for {
		before := len(dropped)
		m.draft.Types = slices.DeleteFunc(m.draft.Types, func(t *Type) bool {
			why := ""
			if len(t.Key) == 0 {
				why = "no key: no unique index without the internal id, and no set of columns that looks like one is unique in the data"
			}
			for _, field := range t.Key {
				if dropped[t.refersTo(field)] {
					why = "its key refers to " + t.refersTo(field) + ", which is left out"
				}
			}
			if why == "" {
				return false
			}
			dropped[t.Name] = true
			m.draft.LeftOut = append(m.draft.LeftOut, Noted{t.Place, why})
			return true
		})
		if len(dropped) == before {
			break
		}
	}
	keys := map[string][]string{}
	for _, t := range m.draft.Types {
		keys[t.Name] = t.Key
	}
	for _, t := range m.draft.Types {
		t.Refers = slices.DeleteFunc(t.Refers, func(r Reference) bool {
			if r.Column != "" && !slices.Equal(keys[r.To], []string{r.Column}) {
				return true // a code that is not the key: the value itself means the same everywhere
			}
			if dropped[r.To] {
				t.Ignore = append(t.Ignore, Noted{r.Field, "it points at " + r.To + ", which is left out"})
			}
			return dropped[r.To]
		})
	}
	slices.SortFunc(m.draft.LeftOut, func(a, b Noted) int { return strings.Compare(a.Name, b.Name) })
}
