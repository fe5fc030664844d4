package draft

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"anagram/internal/core/catalog"
	"anagram/internal/core/evidence"
	"anagram/internal/core/record"
	"anagram/internal/core/show"
)

// candidate is a set of columns that may be a key.
type candidate struct {
	columns []string
	stated  bool // a unique index says so
	part    *catalog.PartlyUnique
}

// nearlyUnique is how many of a hundred records a key must tell apart to be sure of. In
// real applications a key that people rely on is often broken by a few old records.
const nearlyUnique = 98

// findKeys gives every type its key, those first that others refer to: a reference in a key
// counts as the key of what it points at.
func (m *maker) findKeys() {
	for range m.sights {
		m.keyOf = append(m.keyOf, map[*Type]map[uint64]uint64{})
	}
	byName := map[string]*Type{}
	for _, t := range m.all {
		byName[t.Name] = t
	}
	done := map[*Type]bool{}
	waits := func(t *Type) (n int) {
		for _, r := range t.Refers {
			for _, to := range r.targets() {
				if other := byName[to]; other != nil && other != t && !done[other] {
					n++
				}
			}
		}
		return n
	}
	left := slices.Clone(m.all)
	for len(left) > 0 {
		slices.SortStableFunc(left, func(a, b *Type) int { return waits(a) - waits(b) })
		t := left[0]
		left = left[1:]
		if !t.place.ReadOnly {
			// A key that needs what is not known yet would lead in a circle.
			m.findKey(t, func(name string) bool { return byName[name] == t || done[byName[name]] })
		}
		done[t] = true
	}
}

func (r Reference) targets() []string {
	if r.Chooser == "" {
		return []string{r.To}
	}
	var out []string
	for _, to := range r.Words {
		out = append(out, to)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// findKey weighs what may be the key of a type.
func (m *maker) findKey(t *Type, known func(typ string) bool) {
	possible := func(columns []string) bool {
		own := 0
		for _, r := range t.Refers {
			if !slices.Contains(columns, r.Field) && !slices.ContainsFunc(r.columns(),
				func(c string) bool { return slices.Contains(columns, c) }) {
				continue
			}
			if slices.ContainsFunc(r.targets(), func(to string) bool { return !known(to) }) {
				return false
			}
			if r.To == t.Name {
				own++
			}
		}
		return own < len(columns)
	}
	var tried []score
	for _, c := range t.stated() {
		if possible(c.columns) {
			tried = append(tried, m.score(t, c))
		}
	}
	best := choose(t, tried)
	if best == nil || !best.convincing() {
		guesses := t.guesses()
		slices.SortStableFunc(guesses, func(a, b []string) int {
			return cmp.Compare(t.cost(candidate{columns: a}), t.cost(candidate{columns: b}))
		})
		for _, columns := range guesses {
			if !possible(columns) || !m.worthTrying(t, columns) || slices.ContainsFunc(tried,
				func(s score) bool { return sameSet(s.columns, columns) }) {
				continue
			}
			tried = append(tried, m.score(t, candidate{columns: columns}))
			if last := tried[len(tried)-1]; last.unique() && last.quality() >= 1-asGood { // nothing that costs more could be better enough
				break
			}
		}
		best = choose(t, tried)
	}
	if best == nil {
		return
	}
	t.score, t.part = *best, best.part
	t.Key = t.ordered(best.columns)
	t.KeyWhy, t.KeySure = best.why()
	if !best.unique() {
		t.doubtful(best.broken())
	}
	t.ways = others(t, *best, tried)
	t.keepKeyFields()
	m.onlyInUse(t)
	m.remember(t)
}

// worthTrying looks at a part of the rows, so that what tells hardly any apart is not weighed on
// all of them.
func (m *maker) worthTrying(t *Type, columns []string) bool {
	const part, apart = 2_000, 3 // a third of these have to differ
	for side, table := range t.seen {
		if table == nil || table.Read <= part {
			continue
		}
		head := &Type{Name: t.Name, Place: t.Place, place: t.place, ID: t.ID, Refers: t.Refers, seen: make([]*evidence.Table, len(t.seen))}
		head.seen[side] = table.Where(func(row int) bool { return row < part }, columns...)
		keys := m.plainKeys(head, side, columns)
		seen := map[uint64]bool{}
		for _, k := range keys {
			seen[k] = true
		}
		return keys == nil || len(seen)*apart >= part
	}
	return true
}

func sameSet(a, b []string) bool {
	a, b = slices.Clone(a), slices.Clone(b)
	slices.Sort(a)
	slices.Sort(b)
	return slices.Equal(a, b)
}

// asGood is by how much the quality of two candidates may differ for them to be as good.
const asGood = 0.05

// choose takes what tells records apart on every side and meets best; of what is about as
// good, the one that people would use.
func choose(t *Type, tried []score) *score {
	var best *score
	top := 0.0
	for i := range tried {
		top = max(top, tried[i].quality())
	}
	for i := range tried {
		s := &tried[i]
		if s.quality() < top-asGood {
			continue
		}
		if best == nil || t.price(*s) < t.price(*best) {
			best = s
		}
	}
	return best
}

// price is the cost of a candidate, with what it costs that some records share their key.
func (t *Type) price(s score) int {
	if s.unique() {
		return t.cost(s.candidate)
	}
	return t.cost(s.candidate) + 6
}

// others says what the next best candidates would do, for a key that is not sure.
func others(t *Type, best score, tried []score) (out []string) {
	if best.unique() && (best.sides < 2 || best.convincing()) {
		return nil
	}
	rest := slices.Clone(tried)
	slices.SortStableFunc(rest, func(a, b score) int { return cmp.Compare(b.quality(), a.quality()) })
	for _, s := range rest {
		if !slices.Equal(s.columns, best.columns) && len(out) < 3 && s.quality() > 0.3 {
			out = append(out, list(t.ordered(s.columns))+": "+s.does())
		}
	}
	return out
}

// stated lists the unique indexes that can be a key.
func (t *Type) stated() (out []candidate) {
	sets := slices.Clone(t.place.Unique)
	if len(t.place.Primary) > 0 && !slices.Contains(t.place.Primary, t.ID.Name) {
		sets = append([][]string{t.place.Primary}, sets...)
	}
	fits := func(columns []string) bool {
		return !slices.Contains(columns, t.ID.Name) && !slices.ContainsFunc(columns, func(c string) bool { return !t.mayBeKey(c) })
	}
	for _, columns := range sets {
		if fits(columns) {
			out = append(out, candidate{columns: columns, stated: true})
		}
	}
	for _, p := range t.place.Partly {
		if fits(p.Columns) && !slices.Contains(p.Columns, p.Field) && t.refer(p.Field) == nil {
			out = append(out, candidate{columns: p.Columns, stated: true, part: &p})
		}
	}
	return out
}

// keepKeyFields takes the fields of a key out of what was guessed of them before.
func (t *Type) keepKeyFields() {
	in := func(n Noted) bool { return slices.Contains(t.Key, n.Name) }
	t.Local, t.Derived, t.Ignore = slices.DeleteFunc(t.Local, in), slices.DeleteFunc(t.Derived, in), slices.DeleteFunc(t.Ignore, in)
	if slices.Contains(t.Key, t.Retired.Field) {
		t.Retired = Retired{}
	}
}

// mayBeKey refuses what never identifies a record everywhere.
func (t *Type) mayBeKey(column string) bool {
	c, ok := t.place.Column(column)
	in := func(list []Noted) bool {
		return slices.ContainsFunc(list, func(n Noted) bool { return n.Name == column })
	}
	return ok && lookable(c) && !c.Derived && !c.NoEquality && c.Kind != record.JSON && !in(t.Secret) && !in(t.Ignore) && !in(t.Derived) &&
		!slices.Contains([]string{t.StampAt, t.StampBy, t.CreatedAt, t.CreatedBy}, column)
}

// cost orders sets of columns as people would choose: what a unique index says, few columns,
// none that may be null, no random values, codes before names before others.
func (t *Type) cost(c candidate) int {
	total := 4 * len(c.columns)
	switch {
	case !c.stated:
		total += 8
	case sameSet(c.columns, t.place.Primary):
		total -= 4 // what the database itself tells them by
	}
	if !c.stated && len(c.columns) == 1 && t.refer(c.columns[0]) != nil && t.ID.Name != "" {
		total += 5 // one record for each of another, but only so far
	}
	for _, name := range c.columns {
		total += t.columnCost(name, len(c.columns))
	}
	return total
}

// columnCost is what one of several columns costs.
func (t *Type) columnCost(name string, of int) (total int) {
	column, _ := t.place.Column(name)
	if !column.Required && t.refersTo(name) != t.Name {
		total += 6
	}
	switch {
	case randomName.MatchString(name), t.randomValues(name):
		total += 100
	case column.Kind == record.Integer && t.refersTo(name) == "" && evidence.IDName(name) && t.refer(name) == nil:
		total += 50 // an internal id of nobody knows what
	case codeName.MatchString(name):
		total--
	case longName.MatchString(name):
		total += 8
	case sortName.MatchString(name) && of > 1:
		total++ // the place in a list
	case sortName.MatchString(name):
		total += 3
	case t.refer(name) == nil && !nameName.MatchString(name) && !strings.EqualFold(name, t.Name):
		total += 2
	}
	return total
}

// randomValues reports whether a column holds made-up values.
func (t *Type) randomValues(column string) bool {
	some := t.some(column)
	random := 0
	for _, v := range some {
		if uuidValue.MatchString(v) || hexValue.MatchString(v) {
			random++
		}
	}
	return len(some) > 0 && random*5 >= len(some)*4
}

// ordered puts references before other fields, the parent of a tree first of all, and what
// chooses the type of a reference before it.
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
		chooser := slices.ContainsFunc(t.Refers, func(r Reference) bool { return r.Chooser == name && slices.Contains(out, r.Field) })
		r := t.refer(name)
		switch {
		case r != nil && r.To == t.Name:
			return 0
		case chooser:
			return 1
		case r != nil:
			return 2
		case sortName.MatchString(name), longName.MatchString(name):
			return 4
		}
		return 3
	}
	slices.SortStableFunc(out, func(a, b string) int { return rank(a) - rank(b) })
	return out
}

// guesses lists sets of columns that may be a key, the likeliest first, up to four columns.
func (t *Type) guesses() [][]string {
	var codes, names, refs, rest []string
	for _, c := range t.place.Columns {
		r := t.refer(c.Name)
		switch {
		case c.Name == t.ID.Name || !t.mayBeKey(c.Name) || t.Retired.Field == c.Name || t.constant(c.Name):
		case r != nil && r.Form != "":
		case r != nil && r.Chooser != "":
			refs = append([]string{c.Name}, refs...)
		case r != nil:
			refs = append(refs, c.Name)
		case codeName.MatchString(c.Name) && !randomName.MatchString(c.Name):
			codes = append(codes, c.Name)
		case nameName.MatchString(c.Name), strings.EqualFold(c.Name, t.Name), Singular(strings.ToLower(c.Name)) == strings.ToLower(t.Name):
			names = append(names, c.Name)
		case slices.Contains([]record.Kind{record.Text, record.Integer, record.Date, record.Boolean}, c.Kind):
			rest = append(rest, c.Name)
		}
	}
	refs = t.ordered(refs)
	slices.SortStableFunc(rest, func(a, b string) int {
		return t.cost(candidate{columns: []string{a}}) - t.cost(candidate{columns: []string{b}})
	})
	if len(rest) > 8 {
		rest = rest[:8]
	}
	plain := slices.Concat(codes, names)
	sets := slices.Concat(singles(plain), across(singles(refs), plain), pairs(refs), across(pairs(refs), plain), pairs(plain),
		across(across(singles(refs), codes), names), across(singles(refs), rest), singles(rest), singles(refs),
		across(singles(plain), rest), across(across(singles(refs), plain), rest),
		across(pairs(refs), rest), across(across(pairs(refs), codes), names), across(across(pairs(refs), plain), rest), triples(refs),
		across(across(singles(refs), rest), rest), pairs(rest))
	var out [][]string
	for _, set := range sets {
		whole := t.withChoosers(set)
		if len(whole) <= 4 && !slices.ContainsFunc(out, func(o []string) bool { return sameSet(o, whole) }) {
			out = append(out, whole)
		}
		if len(out) == mostGuesses {
			break
		}
	}
	return out
}

// constant reports whether a column tells no two records apart, where there are some.
func (t *Type) constant(column string) bool {
	for side, table := range t.seen {
		if c := t.values(side, column); c != nil && table.Read > 1 {
			set := c.Set()
			if len(set) > 1 || len(set) == 1 && c.Filled() < table.Read {
				return false
			}
		}
	}
	return t.sides() > 0 && t.most() > 1
}

const mostGuesses = 120

// withChoosers adds what chooses the type of a reference: one tells nothing without the other.
func (t *Type) withChoosers(set []string) []string {
	out := slices.Clone(set)
	for _, name := range set {
		if r := t.refer(name); r != nil && r.Chooser != "" && !slices.Contains(out, r.Chooser) {
			out = append([]string{r.Chooser}, out...)
		}
	}
	return out
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

func triples(names []string) (out [][]string) {
	for i, a := range names {
		for _, rest := range pairs(names[i+1:]) {
			out = append(out, append([]string{a}, rest...))
		}
	}
	return out
}

// across gives every set with every plain name after it.
func across(sets [][]string, plain []string) (out [][]string) {
	for _, p := range plain {
		for _, set := range sets {
			if !slices.Contains(set, p) {
				out = append(out, append(slices.Clone(set), p))
			}
		}
	}
	return out
}

// onlyInUse says that a key holds among what is in use only, where an index says so.
func (m *maker) onlyInUse(t *Type) {
	p := t.part
	if p == nil || !plainName(p.Field) || t.Only.Name != "" {
		return
	}
	why := "an index holds the key unique among these alone"
	switch p.When {
	case "null":
		t.Only = Noted{Name: p.Field + " == null", Why: why}
	case "not null":
		t.Only = Noted{Name: p.Field + " != null", Why: why}
	default:
		c, _ := t.place.Column(p.Field)
		t.Only = Noted{Name: p.Field + " == " + literal(c, p.Value), Why: why}
	}
	t.Ignore = slices.DeleteFunc(t.Ignore, func(n Noted) bool { return n.Name == p.Field })
	if t.Retired.Field == p.Field {
		t.Retired = Retired{} // what is out of use is outside
	}
}

// pointsOutside says of a type whose records refer to some that another type leaves out as out
// of use: an export would stop there.
func (m *maker) pointsOutside(t *Type) {
	for _, r := range t.Refers {
		to := m.typeNamed(r.To)
		if r.Chooser != "" || r.Form != "" || r.Columns != nil || to == nil || to == t || to.part == nil || to.Only.Name == "" {
			continue
		}
		n := 0
		for side := range m.sights {
			c, ids := t.values(side, r.Field), to.values(side, to.ID.Name)
			if c == nil || ids == nil {
				continue
			}
			inUse := to.inUse(side, *to.part)
			for row, id := range ids.Values {
				if inUse != nil && !inUse(row) {
					n += c.Set()[id]
				}
			}
		}
		if n > 0 {
			t.doubtful(fmt.Sprintf("%s in %s to %s that only: of %s leaves out, where an export stops",
				show.Count(n, "record refers", "records refer"), r.Field, to.Place, to.Name))
		}
	}
}

// literal writes a value of a column as a condition has it.
func literal(c catalog.Column, value string) string {
	switch c.Kind {
	case record.Boolean:
		return map[bool]string{true: "true", false: "false"}[slices.Contains([]string{"true", "1", "t"}, value)]
	case record.Integer, record.Decimal:
		return value
	default:
		return "'" + strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(value) + "'"
	}
}

func percent(part, whole int) int {
	if whole == 0 {
		return 0
	}
	return part * 100 / whole
}

func perHundred(part, whole int) string { return fmt.Sprintf("%d %%", percent(part, whole)) }
