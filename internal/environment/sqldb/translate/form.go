package translate

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"anagram/internal/core/catalog"
	"anagram/internal/core/condition"
	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/environment/sqldb/query"
)

// Cell says where in a row of stored columns a field stands, and what it refers to.
type Cell struct {
	record.Field
	Ref     catalog.Reference
	Stored  catalog.Column // its own, of a field of one column
	At      []int          // its columns
	Chooser int            // column that says to which type it refers, -1 for none
}

// Form says which stored columns a query delivers and what records they make.
type Form struct {
	query.Table
	Names                []string // stored columns; those that tell the record come first
	Lead                 int      // how many of them that is
	KeyCells, FieldCells []Cell
	Deciding             []Cell // beside the key: the owner and what conditions name
	Filters              []Filter
	AtColumn, ByColumn   int          // -1 where there is none
	Beside               []int        // columns of which sums are wanted
	Sums                 map[int]bool // columns of bytes of which the database delivers the SHA-256
}

// Filter is a condition with the places of what it names.
type Filter struct {
	*condition.Condition
	Cells []Cell
}

// Form lays out a query of a type. Lead are the columns that come first; fields and
// conditions are what is wanted beside the key.
func (s *Translator) Form(ctx context.Context, m *environment.Model, typ string, lead []string, fields []record.Field,
	stamps bool) (*Form, error) {
	t, err := s.rows.Table(ctx, m, typ)
	if err != nil {
		return nil, err
	}
	f := &Form{Table: t, AtColumn: -1, ByColumn: -1}
	if lead == nil {
		lead = t.Identity
	}
	f.Names, f.Lead = slices.Clone(lead), len(lead)
	for _, field := range m.Shapes[typ] {
		f.KeyCells = append(f.KeyCells, f.cell(field))
	}
	for _, field := range fields {
		f.FieldCells = append(f.FieldCells, f.cell(field))
	}
	if s.MayBeOutside(m, typ) {
		if err := s.decide(f); err != nil {
			return nil, err
		}
	}
	if stamps && t.StampAt != "" {
		f.AtColumn = f.Column(t.StampAt)
	}
	if stamps && t.StampBy != "" {
		f.ByColumn = f.Column(t.StampBy)
	}
	return f, nil
}

// Column gives the position of a column, which is asked for from now on.
func (f *Form) Column(name string) int {
	// The lead may hold the same column as a field; a place of its own is simpler.
	if at := slices.Index(f.Names[f.Lead:], name); at >= 0 {
		return f.Lead + at
	}
	f.Names = append(f.Names, name)
	return len(f.Names) - 1
}

func (f *Form) cell(field record.Field) Cell {
	c := Cell{Field: field, Ref: f.Refers[field.Name], Chooser: -1, Stored: f.Columns[field.Name]}
	for _, column := range f.Stored(field.Name) {
		c.At = append(c.At, f.Column(column))
	}
	if c.Ref.Chooser != "" {
		c.Chooser = f.Column(c.Ref.Chooser)
	}
	return c
}

// decide adds what tells whether a record is outside: its owner and its condition.
func (s *Translator) decide(f *Form) error {
	known := f.Known(f.Described)
	for _, name := range f.Decides() {
		if slices.Contains(f.Key, name) || f.Refers[name].To == nil {
			continue
		}
		at := slices.IndexFunc(known, func(k record.Field) bool { return k.Name == name })
		if at >= 0 {
			f.Deciding = append(f.Deciding, f.cell(known[at]))
		}
	}
	if f.Only == "" {
		return nil
	}
	c, err := s.condition(f.Table)
	if err != nil {
		return err
	}
	f.Add(c)
	return nil
}

// Add makes records that do not fulfil a condition be passed over.
func (f *Form) Add(c *condition.Condition) {
	one := Filter{Condition: c}
	for _, field := range c.Fields() {
		one.Cells = append(one.Cells, f.cell(field))
	}
	f.Filters = append(f.Filters, one)
}

func (s *Translator) condition(t query.Table) (*condition.Condition, error) {
	if c, ok := s.conditions[t.Name]; ok {
		return c, nil
	}
	c, err := condition.Compile(t.Only, t.Name, t.Known(t.Described))
	if err == nil {
		s.conditions[t.Name] = c
	}
	return c, err
}

// MayBeOutside reports whether a type can have records that are left out: by its own
// condition, or because a key or owner refers to one that is.
func (s *Translator) MayBeOutside(m *environment.Model, typ string) bool {
	if known, ok := s.outsiders[typ]; ok {
		return known
	}
	s.outsiders[typ] = false // of a tree, while the answer is looked for
	t, ok := m.Catalog.Type(typ)
	may := ok && t.Only != ""
	if ok {
		for _, field := range t.Decides() {
			for _, to := range t.Refers[field].To {
				may = may || s.MayBeOutside(m, to)
			}
		}
	}
	s.outsiders[typ] = may
	return may
}

// rowName names a row for messages before its key is known.
func (f *Form) rowName(row []any) string {
	return fmt.Sprintf("%s with %s %s", f.Name, strings.Join(f.Names[:f.Lead], ", "), query.Identity(row[:f.Lead]).Text())
}

// Fulfils decides conditions for a row whose references have been learned.
func (s *Translator) Fulfils(m *environment.Model, f *Form, conditions []Filter, row []any) (bool, error) {
	for _, c := range conditions {
		values := make([]record.Value, len(c.Cells))
		for i, named := range c.Cells {
			var err error
			if values[i], err = s.Value(m, f.Type, row, named); err != nil {
				return false, err
			}
		}
		if holds, err := c.Holds(values, m.Catalog.Path); err != nil || !holds {
			return false, err
		}
	}
	return true, nil
}
