package rows

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"anagram/internal/core/catalog"
	"anagram/internal/core/condition"
	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/environment/sqldb/engine"
)

// cell says where in a row of stored columns a field stands, and what it refers to.
type cell struct {
	record.Field
	ref     catalog.Reference
	stored  catalog.Column // its own, of a field of one column
	at      []int          // its columns
	chooser int            // column that says to which type it refers, -1 for none
}

// form says which stored columns a query delivers and what records they make.
type form struct {
	table
	names            []string // stored columns; those that tell the record come first
	lead             int      // how many of them that is
	key, fields      []cell
	deciding         []cell // beside the key: the owner and what conditions name
	only             []filter
	stampAt, stampBy int          // -1 where there is none
	beside           []int        // columns of which sums are wanted
	sums             map[int]bool // columns of bytes of which the database delivers the SHA-256
}

// bySums makes the database deliver sums of bytes instead of the bytes: those beside the fields,
// and where it is asked for those of fields.
func (s *session) bySums(f *form, fields bool) {
	if s.can.SumOf == nil {
		return
	}
	needed := map[int]bool{}
	for _, cells := range [][]cell{f.key, f.deciding} {
		for _, c := range cells {
			for _, at := range c.at {
				needed[at] = true
			}
		}
	}
	for _, only := range f.only {
		for _, c := range only.cells {
			needed[c.at[0]] = true
		}
	}
	f.sums = map[int]bool{}
	mark := func(at int) {
		if at >= f.lead && !needed[at] && f.columns[f.names[at]].Kind == record.Bytes {
			f.sums[at] = true
		}
	}
	for _, c := range f.fields {
		if c.Kind == record.Bytes && c.ref.To == nil && fields {
			mark(c.at[0])
		} else {
			needed[c.at[0]] = true
		}
	}
	for _, at := range f.beside {
		mark(at)
	}
}

// filter is a condition with the places of what it names.
type filter struct {
	*condition.Condition
	cells []cell
}

// form lays out a query of a type. Lead are the columns that come first; fields and
// conditions are what is wanted beside the key.
func (s *session) form(ctx context.Context, m *environment.Model, typ string, lead []string, fields []record.Field, stamps bool) (*form, error) {
	t, err := s.table(ctx, m, typ)
	if err != nil {
		return nil, err
	}
	f := &form{table: t, stampAt: -1, stampBy: -1}
	if lead == nil {
		lead = t.identity
	}
	f.names, f.lead = slices.Clone(lead), len(lead)
	for _, field := range m.Shapes[typ] {
		f.key = append(f.key, f.cell(field))
	}
	for _, field := range fields {
		f.fields = append(f.fields, f.cell(field))
	}
	if s.mayBeOutside(m, typ) {
		if err := s.decide(f); err != nil {
			return nil, err
		}
	}
	if stamps && t.StampAt != "" {
		f.stampAt = f.column(t.StampAt)
	}
	if stamps && t.StampBy != "" {
		f.stampBy = f.column(t.StampBy)
	}
	return f, nil
}

// column gives the position of a column, which is asked for from now on.
func (f *form) column(name string) int {
	// The lead may hold the same column as a field; a place of its own is simpler.
	if at := slices.Index(f.names[f.lead:], name); at >= 0 {
		return f.lead + at
	}
	f.names = append(f.names, name)
	return len(f.names) - 1
}

func (f *form) cell(field record.Field) cell {
	c := cell{Field: field, ref: f.Refers[field.Name], chooser: -1, stored: f.columns[field.Name]}
	for _, column := range f.Stored(field.Name) {
		c.at = append(c.at, f.column(column))
	}
	if c.ref.Chooser != "" {
		c.chooser = f.column(c.ref.Chooser)
	}
	return c
}

// decide adds what tells whether a record is outside: its owner and its condition.
func (s *session) decide(f *form) error {
	known := f.Known(s.places[f.place])
	for _, name := range f.Decides() {
		if slices.Contains(f.Key, name) || f.Refers[name].To == nil {
			continue
		}
		at := slices.IndexFunc(known, func(k record.Field) bool { return k.Name == name })
		if at >= 0 {
			f.deciding = append(f.deciding, f.cell(known[at]))
		}
	}
	if f.Only == "" {
		return nil
	}
	c, err := s.condition(f.table)
	if err != nil {
		return err
	}
	f.add(c)
	return nil
}

// add makes records that do not fulfil a condition be passed over.
func (f *form) add(c *condition.Condition) {
	one := filter{Condition: c}
	for _, field := range c.Fields() {
		one.cells = append(one.cells, f.cell(field))
	}
	f.only = append(f.only, one)
}

func (s *session) condition(t table) (*condition.Condition, error) {
	if c, ok := s.conditions[t.Name]; ok {
		return c, nil
	}
	c, err := condition.Compile(t.Only, t.Name, t.Known(s.places[t.place]))
	if err == nil {
		s.conditions[t.Name] = c
	}
	return c, err
}

// mayBeOutside reports whether a type can have records that are left out: by its own
// condition, or because a key or owner refers to one that is.
func (s *session) mayBeOutside(m *environment.Model, typ string) bool {
	if known, ok := s.outsiders[typ]; ok {
		return known
	}
	s.outsiders[typ] = false // of a tree, while the answer is looked for
	t, ok := m.Catalog.Type(typ)
	may := ok && t.Only != ""
	if ok {
		for _, field := range t.Decides() {
			for _, to := range t.Refers[field].To {
				may = may || s.mayBeOutside(m, to)
			}
		}
	}
	s.outsiders[typ] = may
	return may
}

// query begins a statement for the form's columns.
func (s *session) selectForm(f *form) string {
	if len(f.sums) == 0 {
		return s.selectFrom(f.table, f.names)
	}
	out := make([]string, len(f.names))
	for i, name := range f.names {
		column, ok := f.columns[name]
		if !ok {
			column.Name = name
		}
		if out[i] = s.dialect.Select(column); f.sums[i] {
			out[i] = s.can.SumOf(s.dialect.Quote(name))
		}
	}
	return fmt.Sprintf("SELECT %s FROM %s", strings.Join(out, ", "), s.dialect.Place(f.place))
}

// narrow gives the part of conditions that the database can decide, and its values.
func (s *session) narrow(m *environment.Model, f *form, conditions []filter) (string, []any) {
	var parts []string
	var args []any
	for _, c := range conditions {
		if c.Narrow() == nil {
			continue
		}
		if text, values, ok := s.term(m, f, c.Narrow()); ok {
			parts, args = append(parts, text), append(args, values...)
		}
	}
	return strings.Join(parts, " AND "), args
}

var sqlOps = map[string]string{"<": "<", "<=": "<=", ">": ">", ">=": ">="}

// term writes a term as a condition of SQL. What the engine might decide otherwise
// than the condition itself is left out of an And, and makes an Or undecidable.
func (s *session) term(m *environment.Model, f *form, t *condition.Term) (string, []any, bool) {
	terms, word := t.And, " AND "
	if t.Or != nil {
		terms, word = t.Or, " OR "
	}
	if terms != nil {
		var parts []string
		var args []any
		for i := range terms {
			text, values, ok := s.term(m, f, &terms[i])
			if !ok && t.Or != nil {
				return "", nil, false
			}
			if ok {
				parts, args = append(parts, text), append(args, values...)
			}
		}
		return "(" + strings.Join(parts, word) + ")", args, len(parts) > 0
	}
	column, ok := f.columns[t.Field.Name]
	if !ok || column.Kind != t.Field.Kind || f.Refers[column.Name].To != nil {
		return "", nil, false
	}
	quoted := s.dialect.Quote(column.Name)
	switch t.Op {
	case "null":
		return quoted + " IS NULL", nil, true
	case "not null":
		return quoted + " IS NOT NULL", nil, true
	}
	var args []any
	for _, v := range t.Values {
		stored, err := s.encode(m, f.Type, v, column)
		if err != nil || !s.dialect.Decides(column, v) {
			return "", nil, false
		}
		args = append(args, stored)
	}
	if t.Op == "=" {
		return s.dialect.In([]string{quoted}, len(args)), args, true
	}
	return quoted + " " + sqlOps[t.Op] + " " + engine.Mark, args, true
}

// rowName names a row for messages before its key is known.
func (f *form) rowName(row []any) string {
	return fmt.Sprintf("%s with %s %s", f.Name, strings.Join(f.names[:f.lead], ", "), identity(row[:f.lead]).text())
}
