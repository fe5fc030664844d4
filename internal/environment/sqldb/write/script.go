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
	"anagram/internal/environment/sqldb/engine"
	"anagram/internal/environment/sqldb/query"
	"anagram/internal/environment/sqldb/translate"
)

// Script begins a text of statements that somebody else can run.
func (s *Session) Script() environment.Script { return &script{s: s} }

// script is a text in the making. Each step moves anagram_script from one number to the next, and
// does so only from the one before: whatever a client does about an error, nothing after it is
// written.
type script struct {
	s       *Session
	n       int // steps so far
	checked bool
}

func (t *script) Begin() string { return t.s.Can.Script.Begin }

func (t *script) End() string { return t.s.Can.Script.End(t.n) }

// step goes on where a count of rows is as it has to be.
func (t *script) step(refuses, place, where string, rows int) string {
	t.n++
	return fmt.Sprintf("UPDATE anagram_script SET %s = CASE WHEN n = %d AND (SELECT count(*) FROM %s WHERE %s) = %d THEN 1 END, n = %d;\n",
		refuses, t.n-1, place, where, rows, t.n)
}

// guard is the condition that all steps so far were done.
func (t *script) guard() string { return fmt.Sprintf("(SELECT n FROM anagram_script) = %d", t.n) }

// Check is the step that fails where a record is not as it was, or where a new one is there
// already. Values that the engine might compare otherwise are left out.
func (t *script) Check(ctx context.Context, m *environment.Model, c environment.Change) (string, error) {
	if c.Expect == nil {
		return "", nil
	}
	s := t.s
	f, err := s.Form(ctx, m, c.Type, nil, nil, false)
	if err != nil {
		return "", err
	}
	fail := func(err error) error {
		return &environment.RecordError{Environment: s.Name, Address: m.Catalog.Address(c.Type, c.Key), Cause: err}
	}
	where, err := s.keyCondition(ctx, m, c.Type, stands(c), c.There != nil)
	if err != nil {
		return "", fail(err)
	}
	rows, out := 0, ""
	if !c.Insert {
		rows = 1
		same, err := s.holds(ctx, m, f.Table, c.Fields, c.Expect)
		if err != nil {
			return "", fail(err)
		}
		where += same
	}
	if !t.checked {
		t.checked = true
		done, err := s.done(ctx, m, f.Table, c)
		if err != nil {
			return "", fail(err)
		}
		out = fmt.Sprintf("UPDATE anagram_script SET %s = CASE WHEN (SELECT count(*) FROM %s WHERE %s) = 0 THEN 1 END;\n",
			engine.RunBefore, s.Dialect.Place(f.At), done)
	}
	return out + t.step(engine.NotAsExpected, s.Dialect.Place(f.At), where, rows), nil
}

// stands gives the key under which the record of a change is found.
func stands(c environment.Change) record.Key {
	switch {
	case c.There != nil:
		return *c.There
	case c.Was != nil:
		return *c.Was
	}
	return c.Key
}

// Write writes one change. References are looked up by key in the statement itself, as their ids
// may not be there yet.
func (t *script) Write(ctx context.Context, m *environment.Model, c environment.Change) (string, error) {
	s := t.s
	f, err := s.Form(ctx, m, c.Type, nil, nil, false)
	if err != nil {
		return "", err
	}
	fail := func(field string, cause error) error {
		return &environment.RecordError{Environment: s.Name, Address: m.Catalog.Address(c.Type, c.Key), Field: field, Cause: cause}
	}
	var set assigned
	refers := ""
	fields, values := writtenWithKey(m, c)
	for i, field := range fields {
		if values[i].IsAbsent() {
			continue
		}
		written, err := s.scripted(ctx, m, f.Table, field, values[i])
		if err != nil {
			return "", fail(field.Name, err)
		}
		there, err := t.referred(ctx, m, f.Table, field, values[i])
		if err != nil {
			return "", fail(field.Name, err)
		}
		refers += there
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
	if len(set.columns) == 0 {
		return "", nil
	}
	text := ""
	if c.Insert {
		text = fmt.Sprintf("%s INTO %s (%s) SELECT %s%s WHERE %s;\n", verb(s.Can.Insert, "INSERT"), s.Dialect.Place(f.At),
			strings.Join(set.columns, ", "), strings.Join(set.expressions, ", "), s.Can.Script.From, t.guard())
	} else {
		where, err := s.keyCondition(ctx, m, c.Type, stands(c), c.There != nil)
		if err != nil {
			return "", fail("", err)
		}
		text = fmt.Sprintf("%s %s SET %s WHERE %s AND %s;\n", verb(s.Can.Update, "UPDATE"), s.Dialect.Place(f.At), set.list(), where,
			t.guard())
	}
	done, err := s.done(ctx, m, f.Table, c)
	if err != nil {
		return "", fail("", err)
	}
	return refers + first + text + t.step(engine.NotAsWritten, s.Dialect.Place(f.At), done, 1), nil
}

// referred is the step that fails where what a value refers to is not there once; "" of others.
func (t *script) referred(ctx context.Context, m *environment.Model, in query.Table, field record.Field, v record.Value) (string, error) {
	if ref := in.Refers[field.Name]; ref.To == nil || ref.ByKey || ref.Inside != nil || v.IsNull() {
		return "", nil
	}
	where, err := t.s.keyCondition(ctx, m, v.Refers(), v.Key(), false)
	if err != nil {
		return "", err
	}
	to, err := t.s.Table(ctx, m, v.Refers())
	if err != nil {
		return "", err
	}
	return t.step(engine.NotReferred, t.s.Dialect.Place(to.At), where, 1), nil
}

// done is the condition of a record that holds what a change writes, as far as the engine can
// tell.
func (s *Session) done(ctx context.Context, m *environment.Model, t query.Table, c environment.Change) (string, error) {
	key, spelled := c.Key, false
	if c.Was == nil && c.There != nil {
		key, spelled = *c.There, true
	}
	where, err := s.keyCondition(ctx, m, c.Type, key, spelled)
	if err != nil {
		return "", err
	}
	same, err := s.holds(ctx, m, t, c.Fields, c.Values)
	return where + same, err
}

// holds is the condition, after others, that a row has these values. Those that the engine might
// compare otherwise are left out, and attachments that are not at hand.
func (s *Session) holds(ctx context.Context, m *environment.Model, t query.Table, fields []record.Field,
	values []record.Value) (string, error) {
	out := ""
	for i, v := range values {
		field := fields[i]
		column, ref := t.Columns[field.Name], t.Refers[field.Name]
		if v.Kind() == record.Bytes && s.Can.SumOf != nil {
			out += " AND " + s.Can.SumOf(s.Dialect.Quote(field.Name)) + " = '" + v.Text() + "'"
			continue
		}
		plain := ref.To == nil && !v.IsNull()
		if v.IsAbsent() || v.Kind() != record.Bytes && (column.NoEquality || ref.Inside != nil || plain &&
			(!s.Dialect.Decides(column, v) || t.Words[field.Name] != (catalog.Words{}))) {
			continue
		}
		same, err := s.sameAs(ctx, m, t, field, v, true)
		if err != nil {
			return "", err
		}
		out += " AND " + same
	}
	return out, nil
}

// sameAs is the condition that a row has a value in a field: exactly, or as the column's
// collation takes it.
func (s *Session) sameAs(ctx context.Context, m *environment.Model, t query.Table, field record.Field, v record.Value,
	exact bool) (string, error) {
	written, err := s.scripted(ctx, m, t, field, v)
	if err != nil {
		return "", err
	}
	var parts []string
	for n, name := range t.Stored(field.Name) {
		column := s.Dialect.Quote(name)
		switch {
		case written[n] == "NULL":
			parts = append(parts, column+" IS NULL")
		case exact && t.Refers[field.Name].To == nil && !v.IsNull():
			stored, err := s.Encode(m, t.Type, v, t.Columns[name])
			if words, ok := t.Words[field.Name]; err != nil || ok && words != (catalog.Words{}) {
				parts = append(parts, column+" = "+written[n])
				continue
			}
			parts = append(parts, s.Can.Same(column, t.Columns[name], stored, written[n]))
		default:
			parts = append(parts, column+" = "+written[n])
		}
	}
	return strings.Join(parts, " AND "), nil
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
	where, err := s.keyCondition(ctx, m, v.Refers(), v.Key(), false)
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

// keyCondition is the condition that a row has a key: as it is spelled, or, of a field whose rule
// takes several spellings for one, as the column's collation takes it.
func (s *Session) keyCondition(ctx context.Context, m *environment.Model, typ string, key record.Key, spelled bool) (string, error) {
	t, err := s.Table(ctx, m, typ)
	if err != nil {
		return "", err
	}
	var parts []string
	for i, field := range m.Shapes[typ] {
		same, err := s.sameAs(ctx, m, t, field, key.Parts()[i], spelled || field.Rule == (record.Rule{}))
		if err != nil {
			return "", err
		}
		parts = append(parts, same)
	}
	return strings.Join(parts, " AND "), nil
}
