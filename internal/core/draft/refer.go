package draft

import (
	"fmt"
	"slices"
	"strings"

	"anagram/internal/core/catalog"
	"anagram/internal/core/evidence"
	"anagram/internal/core/record"
)

// How a column that no foreign key explains is found to be a reference.
const (
	nearlyAll = 98   // of a hundred values must be ids
	noChance  = 1e-6 // how unlikely it must be that other numbers look like these ids
)

// fit says how far the values of a column are ids of a type, over all environments.
type fit struct {
	values, within int      // different values without none
	none           []string // values that are ids nowhere and may stand for no reference
	chance         float64  // that other numbers would look the same
}

func (f fit) all() bool { return f.values > 0 && f.within == f.values }

// good reports whether nearly all values are ids.
func (f fit) good() bool { return f.within > 0 && f.within*100 >= f.values*nearlyAll }

func (f fit) share() string {
	switch {
	case f.values == 0:
		return "by its name alone, without values, those"
	case f.within == f.values:
		return "all of its values are ids"
	}
	return fmt.Sprintf("%d of its %d values are ids", f.within, f.values)
}

// fits compares the values of a column with the ids of a type.
func (m *maker) fits(t *Type, column string, to *Type) fit {
	out := fit{chance: 1, none: m.none(t, column, to)}
	for side := range m.sights {
		c, ids := t.values(side, column), to.values(side, to.ID.Name)
		if c == nil || ids == nil {
			continue
		}
		h := c.Among(ids)
		for _, none := range out.none {
			if c.Set()[evidence.Number(none)] > 0 {
				h.Values--
			}
		}
		if h.Values == 0 {
			continue
		}
		if to.seen[side].Read < to.seen[side].Rows { // what is missing may just not have been read
			h.Values = max(h.Within, 1)
		}
		out.values, out.within = out.values+h.Values, out.within+h.Within
		out.chance *= c.ByChance(ids)
	}
	return out
}

// none lists the stored values that are ids on no side and by their form may mean nothing.
func (m *maker) none(t *Type, column string, to *Type) (out []string) {
	for _, none := range []string{"0", "-1", ""} {
		n := evidence.Number(none)
		here, there := false, false
		for side := range m.sights {
			c, ids := t.values(side, column), to.values(side, to.ID.Name)
			here = here || c != nil && c.Set()[n] > 0
			there = there || ids != nil && ids.Set()[n] > 0
		}
		if here && !there {
			out = append(out, none)
		}
	}
	return out
}

// mayRefer reports whether a column is of a kind that can hold ids.
func mayRefer(c catalog.Column) bool {
	return (c.Kind == record.Integer || c.Kind == record.Text) && lookable(c) && len(c.Limits.OneOf) == 0
}

// reference finds what a column points at: by its foreign key, else by its name when its
// values are ids of a type of that name, else by its values alone when no accident would make
// them ids.
func (m *maker) reference(t *Type, c catalog.Column) bool {
	if c.RefersTo != "" {
		return m.stated(t, c)
	}
	if !mayRefer(c) {
		return false
	}
	best, found := m.byName(t, c)
	made := c.Kind == record.Text && t.randomValues(c.Name) // made-up ids are no accident
	if best == nil && (c.Kind == record.Integer || made) && !sortName.MatchString(c.Name) && !countName.MatchString(c.Name) {
		best, found = m.byValues(t, c)
	}
	if best == nil {
		return false
	}
	t.Refers = append(t.Refers, Reference{Field: c.Name, To: best.Name, Why: "no foreign key; " + found.share() + " of " + best.Place,
		None: found.none})
	return true
}

// byName finds the type whose name is nearest to that of a column, and whose ids it holds.
func (m *maker) byName(t *Type, c catalog.Column) (*Type, fit) {
	var best *Type
	var found fit
	closest := 0
	for _, to := range m.all {
		near := 2 * t.named(c.Name, to)
		if near == 0 || to.ID.Name == "" || !sameKind(to, c) {
			continue
		}
		f := m.fits(t, c.Name, to)
		if f.values > 0 && !f.good() || f.values == 0 && near < 6 {
			continue
		}
		if to != t && strings.HasPrefix(t.Name, to.Name+"_") { // the same first words: most likely its owner
			near++
		}
		if near > closest || near == closest && f.chance < found.chance {
			best, closest, found = to, near, f
		}
	}
	return best, found
}

// stated takes a foreign key as it is.
func (m *maker) stated(t *Type, c catalog.Column) bool {
	to := m.byPlace[c.RefersTo]
	switch {
	case to == nil:
		t.Ignore = append(t.Ignore, Noted{Name: c.Name, Why: "it points at " + c.RefersTo + ", which is no table here"})
	case c.RefersColumn != "" && to.ID.Name != "" && c.RefersColumn != to.ID.Name:
		t.Refers = append(t.Refers, Reference{Field: c.Name, To: to.Name, Column: c.RefersColumn})
	default:
		t.Refers = append(t.Refers, Reference{Field: c.Name, To: to.Name})
	}
	return true
}

// pointedAt takes a number that foreign keys of others point at for the internal id of a type
// that has none by its primary key.
func (m *maker) pointedAt(t *Type) {
	for _, c := range t.place.Columns {
		to := m.byPlace[c.RefersTo]
		if to == nil || to.ID.Name != "" || c.RefersColumn == "" {
			continue
		}
		if there, ok := to.place.Column(c.RefersColumn); ok && there.Kind == record.Integer && there.RefersTo == "" &&
			!slices.Equal(to.place.Primary, []string{there.Name}) {
			to.ID = Noted{Name: there.Name, Why: "foreign keys point at it"}
		}
	}
}

func sameKind(to *Type, c catalog.Column) bool {
	own, ok := to.place.Column(to.ID.Name)
	return ok && (own.Kind == c.Kind || c.Kind == record.Text && own.Kind == record.Integer && evidence.IDName(c.Name))
}

// mayHold looks at a few values of a column before all are compared with the ids of a type.
func (m *maker) mayHold(t *Type, column string, to *Type) bool {
	for side := range m.sights {
		c, ids := t.values(side, column), to.values(side, to.ID.Name)
		if c == nil || ids == nil || to.seen[side].Read < to.seen[side].Rows {
			continue
		}
		if !c.MayBe(ids) {
			return false
		}
	}
	return true
}

// byValues finds the one type whose ids a column holds though nothing in its name says so.
func (m *maker) byValues(t *Type, c catalog.Column) (*Type, fit) {
	var best *Type
	var found fit
	for _, to := range m.all {
		if to.ID.Name == "" || !sameKind(to, c) || !m.mayHold(t, c.Name, to) {
			continue
		}
		f := m.fits(t, c.Name, to)
		if !f.all() || f.chance > noChance {
			continue
		}
		if best != nil {
			return nil, fit{} // of two it cannot be told which
		}
		best, found = to, f
	}
	return best, found
}

// named says how near the name of a column is to that of a type, see evidence.Near.
func (t *Type) named(column string, to *Type) int {
	return evidence.Near(column, evidence.Named{Type: to.Name, Place: to.Place, Singular: Singular(bare(to.Place)), ID: to.ID.Name,
		Itself: to == t})
}

// bare is the name of a place without its schema.
func bare(place string) string {
	if _, name, ok := strings.Cut(place, "."); ok {
		return name
	}
	return place
}

func (t *Type) refersTo(field string) string {
	if r := t.refer(field); r != nil {
		return r.To
	}
	return ""
}

func (t *Type) refer(field string) *Reference {
	for i := range t.Refers {
		if t.Refers[i].Field == field {
			return &t.Refers[i]
		}
	}
	return nil
}

// chosen finds ids whose type another column chooses: object_id beside object_type.
func (m *maker) chosen(t *Type) {
	for _, c := range t.place.Columns {
		guess := t.refer(c.Name)
		if guess != nil && (guess.Why == "" || guess.To == t.Name) || c.Name == t.ID.Name || !mayRefer(c) || c.Name == t.StampBy ||
			c.Name == t.CreatedBy {
			continue
		}
		for _, chooser := range t.place.Columns {
			if chooser.Name != c.Name && (chooser.Kind == record.Text || chooser.Kind == record.Integer) &&
				evidence.Chooses(chooser.Name, c.Name) && m.chosenBy(t, c, chooser) {
				break
			}
		}
	}
}

// chosenBy takes a reference whose type a column chooses. It reports whether nothing else is to
// be looked for.
func (m *maker) chosenBy(t *Type, c, chooser catalog.Column) bool {
	r, why := m.byWords(t, c, chooser)
	if t.refer(c.Name) != nil { // found by its name before
		several := r != nil && len(slices.Compact(r.targets())) > 1
		if !several {
			if len(t.some(chooser.Name)) > 1 {
				t.doubtful(c.Name + " may point at other types as well, by " + chooser.Name)
			}
			return true
		}
		t.Refers = slices.DeleteFunc(t.Refers, func(o Reference) bool { return o.Field == c.Name })
	}
	if r == nil {
		return false
	}
	t.Refers = append(t.Refers, *r)
	if why != "" && t.Only.Name == "" && plainName(chooser.Name) {
		t.Only = Noted{Name: oneOf(chooser, r.Words), Why: why}
	}
	t.Ignore = slices.DeleteFunc(t.Ignore, func(n Noted) bool { return n.Name == chooser.Name || n.Name == c.Name })
	return true
}

// byWords finds the type for each word of a chooser. The reason says which words have none.
func (m *maker) byWords(t *Type, c, chooser catalog.Column) (*Reference, string) {
	words := t.some(chooser.Name)
	slices.Sort(words)
	words = slices.Compact(words)
	if len(words) == 0 || len(words) > 40 {
		return nil, ""
	}
	r := Reference{Field: c.Name, Chooser: chooser.Name, Words: map[string]string{}}
	var without []string
	within, all := 0, 0
	for _, word := range words {
		to, f := m.forWord(t, c, chooser.Name, word)
		if to == nil {
			without = append(without, word)
			continue
		}
		r.Words[word] = to.Name
		within, all = within+f.within, all+f.values
	}
	if len(r.Words) == 0 {
		return nil, ""
	}
	r.Why = fmt.Sprintf("%d of %d values are ids of what %s says", within, all, chooser.Name)
	if len(without) == 0 {
		return &r, ""
	}
	return &r, fmt.Sprintf("%s %s no type here", strings.Join(without[:min(3, len(without))], ", "),
		map[bool]string{true: "has", false: "have"}[len(without) == 1])
}

// forWord finds the type whose ids stand beside a word.
func (m *maker) forWord(t *Type, c catalog.Column, chooser, word string) (*Type, fit) {
	part := t.where(chooser, word)
	var best *Type
	var found fit
	by := 0
	several := false
	for _, to := range m.all {
		if to.ID.Name == "" || !sameKind(to, c) {
			continue
		}
		f := m.fits(part, c.Name, to)
		near := wordNames(word, to)
		if !f.good() || near == 0 && !f.all() {
			continue
		}
		unlikelier := near == 0 && f.chance < found.chance/1000
		switch {
		case best == nil, near > by, near == by && unlikelier:
			best, found, by, several = to, f, near, false
		case near == by && f.chance < found.chance*1000:
			several = true
		}
	}
	if several && by == 0 {
		return nil, fit{}
	}
	return best, found
}

// wordNames says how near a word in the data is to the name of a type.
func wordNames(word string, to *Type) int {
	w := strings.ToLower(word)
	last := Singular(w[strings.LastIndexAny(w, `.\/:`)+1:])
	name := strings.ToLower(to.Name)
	flat := func(s string) string { return strings.NewReplacer("_", "", "-", "", ".", "").Replace(s) }
	switch {
	case w == strings.ToLower(to.Place), last == name, flat(Singular(w)) == flat(name), flat(last) == flat(name):
		return 3
	case strings.HasSuffix(name, "_"+last):
		return 2
	case len(w) <= 3 && len(w) > 0 && strings.HasPrefix(name, w):
		return 1
	}
	return 0
}

// where gives a type's view of the rows in which a column has a value.
func (t *Type) where(column, value string) *Type {
	out := &Type{Name: t.Name, Place: t.Place, place: t.place, rows: t.rows}
	n := evidence.Number(value)
	for side, s := range t.seen {
		c := t.values(side, column)
		if c == nil {
			out.seen = append(out.seen, nil)
			continue
		}
		out.seen = append(out.seen, s.Where(func(row int) bool { return c.Values[row] == n }))
	}
	return out
}

func plainName(column string) bool {
	return plainWord.MatchString(column) && !strings.ContainsAny(column, ".-")
}

// oneOf writes a condition for some values of a column.
func oneOf(c catalog.Column, words map[string]string) string {
	var out []string
	for word := range words {
		out = append(out, literal(c, word))
	}
	slices.Sort(out)
	return c.Name + " in [" + strings.Join(out, ", ") + "]"
}

// unknownIDs leaves out columns that are named like internal ids of what nobody knows, unless
// both sides have the same values.
func (m *maker) unknownIDs(t *Type) {
	for _, c := range t.place.Columns {
		if c.Kind != record.Integer || !evidence.IDName(c.Name) || c.Derived || !t.carried(c.Name) || c.Name == t.ID.Name ||
			t.refersTo(c.Name) != "" || t.refer(c.Name) != nil || m.chooses(t, c.Name) {
			continue
		}
		if slices.Contains(t.Key, c.Name) {
			t.doubtful(c.Name + " in its key is named like an internal id, of no table here")
			continue
		}
		if agreed, of := m.agreeRaw(t, c.Name); of >= 3 && agreed*100 >= of*95 {
			continue
		}
		if len(t.some(c.Name)) == 0 {
			continue
		}
		t.Ignore = append(t.Ignore, Noted{Name: c.Name,
			Why: "named like an internal id, of no table here; carry it only if it means the same everywhere"})
	}
}

func (m *maker) chooses(t *Type, column string) bool {
	return slices.ContainsFunc(t.Refers, func(r Reference) bool {
		return r.Chooser == column || slices.ContainsFunc(r.Columns, func(p catalog.Pair) bool { return p.Here == column })
	})
}

// carried reports whether a field travels, as far as the draft has decided.
func (t *Type) carried(column string) bool {
	in := func(list []Noted) bool {
		return slices.ContainsFunc(list, func(n Noted) bool { return n.Name == column })
	}
	return !in(t.Ignore) && !in(t.Derived) && !in(t.Local) && !in(t.Secret) &&
		!slices.Contains([]string{t.StampAt, t.StampBy, t.CreatedAt, t.CreatedBy}, column)
}
