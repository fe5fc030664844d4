package draft

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
)

// internalID recognises a number that one environment gives. A whole number that alone
// is the primary key is one unless its name says that people use it: records matched by
// an internal number would be the wrong ones.
func internalID(p catalog.Place) Noted {
	if len(p.Primary) != 1 {
		return Noted{}
	}
	c, _ := p.Column(p.Primary[0])
	lower := strings.ToLower(c.Name)
	idName := strings.HasSuffix(lower, "id") || lower == "pk" || lower == "oid"
	switch {
	case c.RefersTo != "":
		return Noted{} // one record for each of another type: the reference is the key
	case c.Kind == record.Integer && c.Default:
		return Noted{Name: c.Name}
	case c.Kind == record.Integer && (idName || !codeName.MatchString(c.Name)):
		return Noted{c.Name, "a whole number that alone is the primary key"}
	case idName && (randomName.MatchString(c.Name+c.Declared) || len(p.Unique) > 0):
		return Noted{c.Name, "the name is that of a made-up id"}
	}
	return Noted{}
}

// madeBy guesses where the id of a new record comes from, where not from the database:
// from a table of counters that names this one, a made-up value, or the largest so far.
func (m *maker) madeBy(t *Type) {
	c, ok := t.place.Column(t.ID.Name)
	switch {
	case !ok || c.Default:
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
	counterName  = regexp.MustCompile(`(?i)^(ids|counters?|sequences?|id_?(generator|counter|sequence)s?|sequence_data|hibernate_sequences?)$`)
	counterTable = regexp.MustCompile(`(?i)table|entity|sequence_?name|^name$`)
	counterField = regexp.MustCompile(`(?i)field|column`)
	counterLast  = regexp.MustCompile(`(?i)next|last|current|value|counter`)
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
func (m *maker) describe(t *Type) error {
	taken := m.together(t)
	for _, c := range t.place.Columns {
		if c.Name == t.ID.Name || c.Derived || slices.Contains(taken, c.Name) {
			continue
		}
		done, err := m.reference(t, c)
		if err != nil {
			return err
		}
		if done || slices.Contains(t.place.Primary, c.Name) {
			continue
		}
		if err := m.column(t, c); err != nil {
			return err
		}
	}
	return nil
}

// column sorts a column that is neither a reference nor part of the key.
func (m *maker) column(t *Type, c catalog.Column) error {
	switch {
	case secretName.MatchString(c.Name) && !c.Unreadable:
		t.Secret = append(t.Secret, Noted{c.Name, "its name is that of a secret; it was not looked at"})
	case changedAt.MatchString(c.Name) && isTime(c) && t.StampAt == "" && !c.Unreadable && !derivedName.MatchString(c.Name):
		t.StampAt = c.Name
	case changedBy.MatchString(c.Name) && t.StampBy == "" && !c.Unreadable && !derivedName.MatchString(c.Name):
		t.StampBy = c.Name
	case t.ignored(c) != "":
		t.Ignore = append(t.Ignore, Noted{c.Name, t.ignored(c)})
	case c.Kind == record.Bytes:
		t.Files = append(t.Files, c.Name)
	case retiredName.MatchString(c.Name) && t.Retired == "":
		t.Retired, t.RetiredAs = c.Name, []string{"true"}
		if c.Kind == record.Integer {
			t.RetiredAs = []string{"1"}
		}
	case c.Kind == record.Text:
		return m.look(t, c)
	}
	return nil
}

// ignored says why a column does not travel, "" where it does.
func (t *Type) ignored(c catalog.Column) string {
	switch {
	case c.Unreadable:
		return "the account may not read it"
	case derivedName.MatchString(c.Name):
		return "the application computes it from a tree"
	case createdWhen.MatchString(c.Name):
		return "it says when or by whom the record was made"
	case slices.Contains(t.place.Triggered, c.Name):
		return "a trigger fills it"
	default:
		return ""
	}
}

// together takes the foreign keys of several columns, and gives the columns that only
// serve them. The field is named after what it points at.
func (m *maker) together(t *Type) []string {
	var taken []string
	for _, key := range t.place.Foreign {
		to := m.byPlace[key.To]
		if to == nil {
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

// look reads a few values of a text: addresses and paths belong to one environment.
func (m *maker) look(t *Type, c catalog.Column) error {
	if t.Title == "" && nameName.MatchString(c.Name) {
		t.Title = c.Name
	}
	values, err := m.ask.Sample(t.Place, c.Name)
	if err != nil {
		return err
	}
	if LooksSecret(values) {
		t.Secret = append(t.Secret, Noted{c.Name, "its values look like keys, tokens or hashes; they are not shown"})
		return nil
	}
	alike := 0
	for _, v := range values {
		if localValue.MatchString(v) {
			alike++
		}
	}
	switch {
	case len(values) > 0 && alike*5 >= len(values)*4:
		t.Local = append(t.Local, Noted{c.Name, "its values are addresses or paths"})
	case len(values) == 0 && localName.MatchString(c.Name), alike > 0 && localName.MatchString(c.Name):
		t.Local = append(t.Local, Noted{c.Name, "its name is that of an address or a path"})
	}
	return nil
}

func isTime(c catalog.Column) bool {
	return c.Kind == record.Timestamp || c.Kind == record.LocalTimestamp || c.Kind == record.Date
}

// reference finds what a column points at: by its foreign key, else by its name when
// all of its values are ids of a type of that name.
func (m *maker) reference(t *Type, c catalog.Column) (bool, error) {
	if c.RefersTo != "" {
		to := m.byPlace[c.RefersTo]
		if to == nil {
			t.Ignore = append(t.Ignore, Noted{c.Name, "it points at " + c.RefersTo + ", which is left out"})
			return true, nil
		}
		if c.RefersColumn != "" && to.ID.Name != "" && c.RefersColumn != to.ID.Name {
			t.Refers = append(t.Refers, Reference{Field: c.Name, To: to.Name, Column: c.RefersColumn})
			return true, nil
		}
		t.Refers = append(t.Refers, Reference{Field: c.Name, To: to.Name})
		return true, nil
	}
	base, ok := strings.CutSuffix(strings.ToLower(c.Name), "_id")
	if !ok {
		base, ok = strings.CutPrefix(strings.ToLower(c.Name), "fk_")
	}
	if !ok || c.Kind != record.Integer && c.Kind != record.Text {
		return false, nil
	}
	for _, to := range m.draft.Types {
		named := to.Name == base || strings.HasSuffix(base, "_"+to.Name) || strings.HasSuffix(to.Name, "_"+base) || base == "parent" && to == t
		if to.ID.Name == "" || !named {
			continue
		}
		found, err := m.pointsAt(t, c, to)
		if err != nil {
			return false, err
		}
		if found {
			t.Refers = append(t.Refers, Reference{Field: c.Name, To: to.Name, Why: "no foreign key, but all of its values are ids of " + to.Place})
			return true, nil
		}
	}
	return false, nil
}

// pointsAt reports whether a column has values, and all of them are ids of a type.
func (m *maker) pointsAt(t *Type, c catalog.Column, to *Type) (bool, error) {
	if own, _ := to.place.Column(to.ID.Name); own.Kind != c.Kind {
		return false, nil
	}
	values, err := m.ask.Sample(t.Place, c.Name)
	if err != nil || len(values) == 0 {
		return false, err
	}
	return m.ask.Resolves(t.Place, c.Name, to.Place, to.ID.Name)
}

func (t *Type) refersTo(field string) string {
	for _, r := range t.Refers {
		if r.Field == field {
			return r.To
		}
	}
	return ""
}
