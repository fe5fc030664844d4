package write

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/google/uuid"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/environment/sqldb/query"
	"anagram/internal/environment/sqldb/translate"
)

// Script writes one change as a statement that somebody else can run. References are
// looked up by key in the statement itself, as their ids may not be there yet.
func (s *Session) Script(ctx context.Context, m *environment.Model, c environment.Change) (string, error) {
	f, err := s.Form(ctx, m, c.Type, nil, nil, false)
	if err != nil {
		return "", err
	}
	fail := func(field string, cause error) error {
		return &environment.RecordError{Environment: s.Name, Address: m.Catalog.Address(c.Type, c.Key), Field: field, Cause: cause}
	}
	var set assigned
	fields, values := writtenWithKey(m, c)
	for i, field := range fields {
		if values[i].IsAbsent() {
			continue
		}
		written, err := s.scripted(ctx, m, f.Table, field, values[i])
		if err != nil {
			return "", fail(field.Name, err)
		}
		for n, column := range f.Stored(field.Name) {
			if !makes(f.Table, column) {
				set.add(s.Dialect.Quote(column), written[n])
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(c.Fixed)) {
		set.add(s.Dialect.Quote(name), s.Dialect.Literal(c.Fixed[name]))
	}
	if c.Insert && f.ID != "" {
		id, err := s.scriptedID(f)
		if err != nil {
			return "", fail(f.ID, err)
		}
		if id != "" {
			set.add(s.Dialect.Quote(f.ID), id)
		}
	}
	if c.Insert {
		s.scriptStamps(ctx, m, f.Table, c.By, &set)
	}
	first := s.scriptStandIns(f.Table, c, &set)
	switch {
	case len(set.columns) == 0:
		return "", nil
	case c.Insert:
		expected, err := s.expected(ctx, m, f.Table, c, c.Key)
		if err != nil {
			return "", fail("", err)
		}
		return expected + first + fmt.Sprintf("%s INTO %s (%s) VALUES (%s);", verb(s.Can.Insert, "INSERT"), s.Dialect.Place(f.At),
			strings.Join(set.columns, ", "), strings.Join(set.expressions, ", ")), nil
	}
	stands := c.Key
	if c.Was != nil {
		stands = *c.Was
	}
	where, err := s.keyCondition(ctx, m, c.Type, stands)
	if err != nil {
		return "", fail("", err)
	}
	expected, err := s.expected(ctx, m, f.Table, c, stands)
	if err != nil {
		return "", fail("", err)
	}
	return expected + fmt.Sprintf("%s %s SET %s WHERE %s;", verb(s.Can.Update, "UPDATE"), s.Dialect.Place(f.At), set.list(), where), nil
}

// scriptStandIns adds what stands in references of a new record that get their values later,
// and gives what has to be said before.
func (s *Session) scriptStandIns(t query.Table, c environment.Change, set *assigned) string {
	stand := s.standIn(t, c)
	for _, in := range stand {
		set.add(s.Dialect.Quote(in.column), s.Dialect.Literal(in.stored))
	}
	if len(stand) > 0 && s.Can.Defer != "" {
		return s.Can.Defer + ";\n"
	}
	return ""
}

// Frame begins and ends a script.
func (s *Session) Frame() (begin, end string) { return s.Can.Frame[0], s.Can.Frame[1] }

// expected is the statement that fails where a record is not as it was, or where a new one
// is there already. Values that the engine might compare otherwise are left out.
func (s *Session) expected(ctx context.Context, m *environment.Model, t query.Table, c environment.Change, key record.Key) (string, error) {
	if c.Expect == nil {
		return "", nil
	}
	where, err := s.keyCondition(ctx, m, c.Type, key)
	if err != nil {
		return "", err
	}
	count := 1
	if c.Insert {
		count = 0
	}
	for i, v := range c.Expect {
		field := c.Fields[i]
		column, ref := t.Columns[field.Name], t.Refers[field.Name]
		plain := ref.To == nil && !v.IsNull()
		if c.Insert || v.IsAbsent() || column.NoEquality || ref.Inside != nil || plain &&
			(!s.Dialect.Decides(column, v) || t.Words[field.Name] != (catalog.Words{})) {
			continue
		}
		written, err := s.scripted(ctx, m, t, field, v)
		if err != nil {
			return "", err
		}
		for n, name := range t.Stored(field.Name) {
			if written[n] == "NULL" {
				where += " AND " + s.Dialect.Quote(name) + " IS NULL"
			} else {
				where += " AND " + s.Dialect.Quote(name) + " = " + written[n]
			}
		}
	}
	return fmt.Sprintf("INSERT INTO anagram_expected SELECT CASE WHEN count(*) = %d THEN 1 END FROM %s WHERE %s;\n", count,
		s.Dialect.Place(t.At), where), nil
}

// scriptStamps adds the stamps of a new record that nothing is known to fill.
func (s *Session) scriptStamps(ctx context.Context, m *environment.Model, t query.Table, who string, set *assigned) {
	for _, column := range t.Stamped(t.Described, m.Environment, who) {
		if column.Kind == record.Timestamp {
			set.add(s.Dialect.Quote(column.Name), "CURRENT_TIMESTAMP")
		} else if stored, ok, err := s.stamp(ctx, m, t, column, who); err == nil && ok {
			set.add(s.Dialect.Quote(column.Name), s.Dialect.Literal(stored))
		}
	}
}

// writtenWithKey gives the fields and values of a change, with those of the key where it
// is written.
func writtenWithKey(m *environment.Model, c environment.Change) ([]record.Field, []record.Value) {
	if !c.Insert && c.Was == nil {
		return c.Fields, c.Values
	}
	return slices.Concat(m.Shapes[c.Type], c.Fields), slices.Concat(c.Key.Parts(), c.Values)
}

// assigned is columns with what they get, each once.
type assigned struct{ columns, expressions []string }

func (a *assigned) add(column, expression string) {
	if !slices.Contains(a.columns, column) {
		a.columns, a.expressions = append(a.columns, column), append(a.expressions, expression)
	}
}

func (a *assigned) list() string {
	out := make([]string, len(a.columns))
	for i, column := range a.columns {
		out[i] = column + " = " + a.expressions[i]
	}
	return strings.Join(out, ", ")
}

// scriptedID gives the expression for the internal id of a new record, "" where the
// database gives one.
func (s *Session) scriptedID(f *translate.Form) (string, error) {
	switch {
	case f.Columns[f.ID].Given:
		return "", nil
	case f.IDFrom.MadeBy == "uuid":
		return s.Dialect.Literal(uuid.NewString()), nil
	case f.IDFrom.MadeBy == "counter":
		return "",
			errors.New("its internal id comes from a table of counters, which a script cannot keep in step. Write the files as csv or jsonl, or import")
	case f.IDFrom.MadeBy == "largest" || s.Can.NoIDs:
		return fmt.Sprintf("(SELECT coalesce(max(x.i), 0) + 1 FROM (SELECT %s AS i FROM %s) x)", s.Dialect.Quote(f.ID),
			s.Dialect.Place(f.At)), nil
	default:
		return "", nil
	}
}

// scripted gives an expression for each column of a field.
func (s *Session) scripted(ctx context.Context, m *environment.Model, t query.Table, field record.Field, v record.Value) ([]string, error) {
	ref, column := t.Refers[field.Name], t.Columns[field.Name]
	one := func(v record.Value) ([]string, error) {
		stored, err := s.Encode(m, t.Type, v, column)
		return []string{s.Dialect.Literal(stored)}, err
	}
	if words, ok := t.Words[field.Name]; ok && v.Kind() == record.Boolean {
		word := words.False
		if v.Text() == "true" {
			word = words.True
		}
		return []string{s.Dialect.Literal(word)}, nil
	}
	switch {
	case v.IsNull() && ref.None != nil:
		return []string{s.Dialect.Literal(translate.StoredNone(ref.None[0], column)[0])}, nil
	case v.IsNull():
		return slices.Repeat([]string{"NULL"}, max(1, len(ref.Columns))), nil
	case ref.ByKey:
		return one(v.Parts()[0])
	case ref.Inside != nil:
		return nil,
			errors.New("it has internal ids inside its value, which a script cannot look up. Write the files as csv or jsonl, or import")
	case ref.To == nil:
		return one(v)
	}
	where, err := s.keyCondition(ctx, m, v.Refers(), v.Key())
	if err != nil {
		return nil, err
	}
	to, err := s.Table(ctx, m, v.Refers())
	if err != nil {
		return nil, err
	}
	var out []string
	for _, there := range (translate.Cell{Field: field, Ref: ref}).By(m, v.Refers()) {
		// A table inside a table: some engines refuse to read what they are writing.
		out = append(out, fmt.Sprintf("(SELECT x.i FROM (SELECT %s AS i FROM %s WHERE %s) x)", s.Dialect.Quote(there),
			s.Dialect.Place(to.At), where))
	}
	return out, nil
}

// keyCondition is the condition that a row has a key.
func (s *Session) keyCondition(ctx context.Context, m *environment.Model, typ string, key record.Key) (string, error) {
	t, err := s.Table(ctx, m, typ)
	if err != nil {
		return "", err
	}
	var parts []string
	for i, field := range m.Shapes[typ] {
		written, err := s.scripted(ctx, m, t, field, key.Parts()[i])
		if err != nil {
			return "", err
		}
		for n, column := range t.Stored(field.Name) {
			if written[n] == "NULL" {
				parts = append(parts, s.Dialect.Quote(column)+" IS NULL")
			} else {
				parts = append(parts, s.Dialect.Quote(column)+" = "+written[n])
			}
		}
	}
	return strings.Join(parts, " AND "), nil
}
