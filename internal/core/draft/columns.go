package draft

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"anagram/internal/core/catalog"
	"anagram/internal/core/evidence"
	"anagram/internal/core/pattern"
	"anagram/internal/core/record"
)

// internalID recognises a number that one environment gives. A whole number that alone
// is the primary key is one unless its name says that people use it: records matched by
// an internal number would be the wrong ones.
func internalID(p catalog.Place) Noted {
	if given := givenNumber(p); len(p.Primary) != 1 {
		return given
	}
	c, _ := p.Column(p.Primary[0])
	lower := strings.ToLower(c.Name)
	named := strings.HasSuffix(lower, "id") || lower == "pk" || lower == "oid"
	switch {
	case c.RefersTo != "":
		return Noted{} // one record for each of another type: the reference is the key
	case c.Kind == record.Integer && c.Default, c.Derived && c.Given:
		return Noted{Name: c.Name}
	case c.Kind == record.Integer && (named || !codeName.MatchString(c.Name)):
		return Noted{Name: c.Name, Why: "a whole number that alone is the primary key"}
	case givenNumber(p).Name != "":
		return givenNumber(p)
	case named && (randomName.MatchString(c.Name+c.Declared) || len(p.Unique) > 0):
		return Noted{Name: c.Name, Why: "the name is that of a made-up id"}
	}
	return Noted{}
}

// givenNumber is a number beside the primary key that the database gives and holds unique.
func givenNumber(p catalog.Place) Noted {
	for _, set := range p.Unique {
		if c, ok := p.Column(set[0]); ok && len(set) == 1 && c.Kind == record.Integer && c.Default && c.RefersTo == "" &&
			evidence.IDName(c.Name) {
			return Noted{Name: c.Name, Why: "a number that the database gives"}
		}
	}
	for _, c := range p.Columns { // in a primary key of several it tells records apart alone
		if c.Kind == record.Integer && c.Default && c.RefersTo == "" && strings.EqualFold(c.Name, "id") && len(p.Primary) != 1 {
			return Noted{Name: c.Name, Why: "a number that the database gives"}
		}
	}
	return Noted{}
}

// madeBy guesses where the id of a new record comes from, where not from the database:
// from a table of counters that names this one, a made-up value, or the largest so far.
func (m *maker) madeBy(t *Type) {
	c, ok := t.place.Column(t.ID.Name)
	switch {
	case !ok || c.Default || c.Derived && c.Given:
	case c.Kind != record.Integer:
		t.MadeBy = "uuid"
	case m.counter != nil:
		t.Counter = m.counter
		t.MadeBy = "counter"
	default:
		t.MadeBy = "largest"
	}
}

// Counter is a table that keeps the last id of others, a row each.
type Counter struct{ Place, Table, Column, Last string }

var (
	counterName  = pattern.Of(`(?i)^(ids|counters?|sequences?|id_?(generator|counter|sequence)s?|sequence_data|hibernate_sequences?)$`)
	counterTable = pattern.Of(`(?i)table|entity|sequence_?name|^name$`)
	counterField = pattern.Of(`(?i)field|column`)
	counterLast  = pattern.Of(`(?i)next|last|current|value|counter`)
)

// findCounter looks for such a table by its name and columns.
func findCounter(places map[string]catalog.Place) *Counter {
	for _, name := range slices.Sorted(maps.Keys(places)) {
		if !counterName.MatchString(name) {
			continue
		}
		c := Counter{Place: name}
		for _, column := range places[name].Columns {
			switch {
			case column.Kind == record.Integer && counterLast.MatchString(column.Name):
				c.Last = column.Name
			case column.Kind == record.Text && counterField.MatchString(column.Name):
				c.Column = column.Name
			case column.Kind == record.Text && counterTable.MatchString(column.Name):
				c.Table = column.Name
			}
		}
		if c.Last != "" && c.Table != "" {
			return &c
		}
	}
	return nil
}

// describe sorts a type's columns: references, stamps, and what does not travel.
func (m *maker) describe(t *Type) {
	taken := m.together(t)
	for _, c := range t.place.Columns {
		if c.Name == t.ID.Name || c.Derived || slices.Contains(taken, c.Name) || m.oneSided(t, c) || m.stamp(t, c) {
			continue
		}
		if m.reference(t, c) || slices.Contains(t.place.Primary, c.Name) {
			continue
		}
		m.column(t, c)
	}
	for _, s := range m.sights { // what only the other side has is secret all the same
		for _, c := range s.Places[t.Place].Columns {
			if _, here := t.place.Column(c.Name); !here && secretName.MatchString(c.Name) {
				t.Secret = append(t.Secret, Noted{Name: c.Name, Why: "its name is that of a secret; it was not looked at"})
			}
		}
	}
}

// oneSided takes the columns that not every environment has: nothing of them is compared, and
// what is secret stays so.
func (m *maker) oneSided(t *Type, c catalog.Column) bool {
	for _, s := range m.sights {
		if p, there := s.Places[t.Place]; there {
			if _, has := p.Column(c.Name); has {
				continue
			}
			if secretName.MatchString(c.Name) {
				t.Secret = append(t.Secret, Noted{Name: c.Name, Why: "its name is that of a secret; it was not looked at"})
			} else {
				t.Ignore = append(t.Ignore, Noted{Name: c.Name, Why: "it is not in " + s.Name})
			}
			return true
		}
	}
	return false
}

// stamp takes the columns that say when and by whom a record was made or changed, whatever
// they point at: they would bring people along.
func (m *maker) stamp(t *Type, c catalog.Column) bool {
	if c.Unreadable || secretName.MatchString(c.Name) || slices.Contains(t.place.Primary, c.Name) {
		return false
	}
	into := func(at *string, name *pattern.Pattern, fits bool) bool {
		if !fits || !name.MatchString(c.Name) || *at != "" {
			return false
		}
		*at = c.Name
		return true
	}
	by := c.Kind == record.Integer || c.Kind == record.Text
	switch {
	case into(&t.StampAt, changedAt, isTime(c)), into(&t.CreatedAt, createdAt, isTime(c)):
		return true
	case into(&t.StampBy, changedBy, by), into(&t.CreatedBy, createdBy, by):
		m.person(t, c)
		return true
	}
	return false
}

// person finds where the people are whose ids are in a column.
func (m *maker) person(t *Type, c catalog.Column) {
	if t.Person != nil || c.RefersTo == "" && c.Kind != record.Integer {
		return
	}
	for _, place := range slices.Sorted(maps.Keys(m.byPlace)) {
		to := m.byPlace[place]
		if c.RefersTo != "" && c.RefersTo != place || c.RefersTo == "" && (!to.people() || !m.fits(t, c.Name, to).all()) ||
			to.ID.Name == "" {
			continue
		}
		for _, name := range []*pattern.Pattern{loginName, nameName, mailName} {
			for _, col := range to.place.Columns {
				if col.Kind == record.Text && !col.Unreadable && name.MatchString(col.Name) && col.Name != to.ID.Name {
					t.Person = &Person{Place: place, ID: to.ID.Name, Name: col.Name}
					return
				}
			}
		}
	}
}

// column sorts a column that is neither a reference nor part of the primary key.
func (m *maker) column(t *Type, c catalog.Column) {
	switch {
	case secretName.MatchString(c.Name) && !c.Unreadable:
		t.Secret = append(t.Secret, Noted{Name: c.Name, Why: "its name is that of a secret; it was not looked at"})
	case t.derived(c) != "":
		t.Derived = append(t.Derived, Noted{Name: c.Name, Why: t.derived(c)})
	case t.ignored(c) != "":
		t.Ignore = append(t.Ignore, Noted{Name: c.Name, Why: t.ignored(c)})
	case c.Kind == record.Bytes:
		t.Files = append(t.Files, c.Name)
	case c.Kind == record.Integer && countName.MatchString(c.Name):
		t.Local = append(t.Local, Noted{Name: c.Name, Why: "it counts: production's numbers are never set back"})
	case t.retired(c):
	case c.Kind == record.Text:
		m.text(t, c)
	}
}

// derived says why the application makes a column from others, "" where it does not.
func (t *Type) derived(c catalog.Column) string {
	tree := t.Name != "" && slices.ContainsFunc(t.place.Columns, func(o catalog.Column) bool {
		return o.RefersTo == t.Place || strings.Contains(strings.ToLower(o.Name), "parent")
	})
	switch {
	case c.Kind == record.Integer && derivedName.MatchString(c.Name):
		return "the application computes it from a tree"
	case strings.EqualFold(c.Declared, "tsvector"), cacheName.MatchString(c.Name) && c.Kind != record.Boolean && !isTime(c):
		return "the application makes it from other fields"
	case tree && c.Kind == record.Text && pathName.MatchString(c.Name):
		return "the application computes it from a tree"
	}
	return ""
}

// ignored says why a column does not travel, "" where it does.
func (t *Type) ignored(c catalog.Column) string {
	switch {
	case c.Unreadable:
		return "the account may not read it"
	case createdAt.MatchString(c.Name) && isTime(c), changedAt.MatchString(c.Name) && isTime(c), createdBy.MatchString(c.Name),
		changedBy.MatchString(c.Name):
		return "it says when or by whom the record was made or changed"
	case slices.Contains(t.place.Triggered, c.Name):
		return "a trigger fills it"
	case isTime(c) && slices.ContainsFunc(t.some(c.Name), func(v string) bool { return strings.HasPrefix(v, "0000-00-00") }):
		return "it holds 0000-00-00, which is no time and cannot be carried"
	default:
		return ""
	}
}

// retired takes a column that says that a record is out of use.
func (t *Type) retired(c catalog.Column) bool {
	if t.Retired.Field != "" {
		return false
	}
	no, yes := "false", "true"
	if c.Kind == record.Integer {
		no, yes = "0", "1"
	}
	flag := c.Kind == record.Boolean || c.Kind == record.Integer && t.onlyHas(c.Name, "0", "1")
	switch {
	case isTime(c) && !c.Required && retiredWhen.MatchString(c.Name):
		t.Retired = Retired{Field: c.Name, When: "not null", Why: "by its name"}
	case flag && retiredFlag.MatchString(c.Name):
		t.Retired = Retired{Field: c.Name, Values: []string{yes}, Why: "by its name"}
	case flag && inUseFlag.MatchString(c.Name):
		t.Retired = Retired{Field: c.Name, Values: []string{no}, Why: "by its name"}
	case c.Kind == record.Text && statusName.MatchString(c.Name):
		var words []string
		for _, v := range append(t.some(c.Name), c.Limits.OneOf...) {
			if retiredWord.MatchString(v) && !slices.Contains(words, v) {
				words = append(words, v)
			}
		}
		if len(words) == 0 {
			return false
		}
		slices.Sort(words)
		t.Retired = Retired{Field: c.Name, Values: words, Why: "by these words"}
	default:
		return false
	}
	return true
}

// onlyHas reports whether nothing else was seen in a column.
func (t *Type) onlyHas(column string, values ...string) bool {
	for _, v := range t.some(column) {
		if !slices.Contains(values, v) {
			return false
		}
	}
	return true
}

// text looks at the texts of a column: addresses and paths belong to one environment.
func (m *maker) text(t *Type, c catalog.Column) {
	if t.Title == "" && nameName.MatchString(c.Name) {
		t.Title = c.Name
	}
	var values []string
	for _, v := range t.some(c.Name) {
		if v != "" {
			values = append(values, v)
		}
	}
	if LooksSecret(values) {
		t.Secret = append(t.Secret, Noted{Name: c.Name, Why: "its values look like keys, tokens or hashes; they are not shown"})
		return
	}
	alike := 0
	for _, v := range values {
		if localValue.MatchString(v) {
			alike++
		}
	}
	switch {
	case len(values) > 0 && alike*5 >= len(values)*4:
		t.Local = append(t.Local, Noted{Name: c.Name, Why: "its values are addresses or paths"})
	case len(values) == 0 && localName.MatchString(c.Name), alike > 0 && localName.MatchString(c.Name):
		t.Local = append(t.Local, Noted{Name: c.Name, Why: "its name is that of an address or a path"})
	}
}

// together takes the foreign keys of several columns, and gives the columns that only
// serve them. The field is named after what it points at.
func (m *maker) together(t *Type) []string {
	var taken []string
	for _, key := range t.place.Foreign {
		to := m.byPlace[key.To]
		if to == nil || to.place.ReadOnly {
			continue
		}
		name := to.Name
		for n := 2; slices.ContainsFunc(t.Refers, func(r Reference) bool { return r.Field == name }); n++ {
			name = fmt.Sprintf("%s_%d", to.Name, n)
		}
		if _, column := t.place.Column(name); column {
			name += "_ref"
		}
		t.Refers = append(t.Refers, Reference{Field: name, To: to.Name, Columns: key.Pairs})
		for _, pair := range key.Pairs {
			if c, _ := t.place.Column(pair.Here); c.RefersTo == "" {
				taken = append(taken, pair.Here)
			}
		}
	}
	return taken
}
