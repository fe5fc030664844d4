package read

import (
	"fmt"
	"strings"

	"anagram/internal/core/condition"
	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/environment/sqldb/engine"
	"anagram/internal/environment/sqldb/translate"
)

// query begins a statement for the form's columns.
func (s *Reader) selectForm(f *translate.Form) string {
	if len(f.Sums) == 0 {
		return s.SelectFrom(f.Table, f.Names)
	}
	out := make([]string, len(f.Names))
	for i, name := range f.Names {
		column, ok := f.Columns[name]
		if !ok {
			column.Name = name
		}
		if out[i] = s.Dialect.Select(column); f.Sums[i] {
			out[i] = s.Can.SumOf(s.Dialect.Quote(name))
		}
	}
	return fmt.Sprintf("SELECT %s FROM %s", strings.Join(out, ", "), s.Dialect.Place(f.At))
}

// bySums makes the database deliver sums of bytes instead of the bytes: those beside the fields,
// and where it is asked for those of fields.
func (s *Reader) bySums(f *translate.Form, fields bool) {
	if s.Can.SumOf == nil {
		return
	}
	needed := map[int]bool{}
	for _, cells := range [][]translate.Cell{f.KeyCells, f.Deciding} {
		for _, c := range cells {
			for _, at := range c.At {
				needed[at] = true
			}
		}
	}
	for _, only := range f.Filters {
		for _, c := range only.Cells {
			needed[c.At[0]] = true
		}
	}
	f.Sums = map[int]bool{}
	mark := func(at int) {
		if at >= f.Lead && !needed[at] && f.Columns[f.Names[at]].Kind == record.Bytes {
			f.Sums[at] = true
		}
	}
	for _, c := range f.FieldCells {
		if c.Kind == record.Bytes && c.Ref.To == nil && fields {
			mark(c.At[0])
		} else {
			needed[c.At[0]] = true
		}
	}
	for _, at := range f.Beside {
		mark(at)
	}
}

// narrow gives the part of conditions that the database can decide, and its values.
func (s *Reader) narrow(m *environment.Model, f *translate.Form, conditions []translate.Filter) (string, []any) {
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
func (s *Reader) term(m *environment.Model, f *translate.Form, t *condition.Term) (string, []any, bool) {
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
	column, ok := f.Columns[t.Field.Name]
	if !ok || column.Kind != t.Field.Kind || f.Refers[column.Name].To != nil {
		return "", nil, false
	}
	quoted := s.Dialect.Quote(column.Name)
	switch t.Op {
	case "null":
		return quoted + " IS NULL", nil, true
	case "not null":
		return quoted + " IS NOT NULL", nil, true
	}
	var args []any
	for _, v := range t.Values {
		stored, err := s.Encode(m, f.Type, v, column)
		if err != nil || !s.Dialect.Decides(column, v) {
			return "", nil, false
		}
		args = append(args, stored)
	}
	if t.Op == "=" {
		return s.Dialect.In([]string{quoted}, len(args)), args, true
	}
	return quoted + " " + sqlOps[t.Op] + " " + engine.Mark, args, true
}
