package sqldb

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strings"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
	"anagram/internal/environment"
)

// Write inserts or updates one record. References are translated to this
// environment's internal ids.
func (s *session) Write(ctx context.Context, m *environment.Model, c environment.Change) error {
	t, err := s.table(ctx, m, c.Type)
	if err != nil {
		return err
	}
	fail := func(field string, cause error) error {
		return &environment.RecordError{Environment: s.name, Address: m.Catalog.Address(c.Type, c.Key), Field: field, Cause: cause}
	}
	fields, values := c.Fields, c.Values
	if c.Insert {
		fields = append(slices.Clone(m.Shapes[c.Type]), fields...)
		values = append(slices.Clone(c.Key.Parts()), values...)
	}
	var columns []string
	var args []any
	for i, field := range fields {
		if values[i].IsAbsent() {
			continue
		}
		stored, err := s.stored(ctx, m, t.Type, values[i], field, t.columns[field.Name])
		if err != nil {
			return fail(field.Name, err)
		}
		columns = append(columns, s.dialect.Quote(field.Name))
		args = append(args, stored)
	}
	if c.Insert && t.ID != "" && t.IDFrom.MadeBy != "" {
		id, err := s.newID(ctx, t)
		if err != nil {
			return err
		}
		columns = append(columns, s.dialect.Quote(t.ID))
		args = append(args, id)
	}
	for _, name := range sortedKeys(c.Fixed) {
		columns = append(columns, s.dialect.Quote(name))
		args = append(args, c.Fixed[name])
	}
	if len(columns) == 0 {
		return nil
	}
	if c.Insert {
		if !s.ready[t.place] {
			s.ready[t.place] = true
			if err := s.dialect.BeforeInserts(ctx, s.q, t.place, t.ID); err != nil {
				return s.explain(err)
			}
		}
		query := fmt.Sprintf("INSERT INTO %s (%s) VALUES (%s)", s.dialect.Place(t.place), strings.Join(columns, ", "), marks(len(columns)))
		return s.exec(ctx, query, args, fail)
	}
	found, err := s.locate(ctx, m, c.Type, []record.Key{c.Key})
	if err != nil {
		return err
	}
	ids := found[c.Key.Order()]
	if len(ids) != 1 {
		return fail("", fmt.Errorf("%d records have this key, one is expected", len(ids)))
	}
	set := strings.Join(columns, " = "+mark+", ") + " = " + mark
	var where []string
	for i, column := range t.identity {
		if ids[0][i] == nil {
			where = append(where, s.dialect.Quote(column)+" IS NULL")
			continue
		}
		where = append(where, s.dialect.Quote(column)+" = "+mark)
		args = append(args, ids[0][i])
	}
	return s.exec(ctx, fmt.Sprintf("UPDATE %s SET %s WHERE %s", s.dialect.Place(t.place), set, strings.Join(where, " AND ")), args, fail)
}

// exec runs a statement that must touch exactly one row.
func (s *session) exec(ctx context.Context, query string, args []any, fail func(string, error) error) error {
	if err := s.guard(ctx, "SAVEPOINT anagram_write"); err != nil {
		return err
	}
	var result sql.Result
	stmt, err := s.prepare(ctx, query)
	if err == nil {
		result, err = stmt.ExecContext(ctx, args...)
	}
	if err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		message, mend := s.dialect.Explain(err)
		explained := &environment.Error{Environment: s.name, Message: message, Mend: mend, Cause: err}
		if !s.dialect.Refused(err) || s.guard(ctx, "ROLLBACK TO SAVEPOINT anagram_write") != nil {
			return explained
		}
		return fail("", errors.New(strings.TrimSpace(message+" "+mend)))
	}
	if n, err := result.RowsAffected(); err == nil && n != 1 {
		return fail("", fmt.Errorf("%d rows were written, one is expected", n))
	}
	return s.guard(ctx, "RELEASE SAVEPOINT anagram_write")
}

// guard runs a statement about savepoints where the engine needs them.
func (s *session) guard(ctx context.Context, statement string) error {
	if !s.dialect.Savepoints() {
		return nil
	}
	_, err := s.q.ExecContext(ctx, statement)
	return s.explain(err)
}

// stored gives what to store for a value, translating references.
func (s *session) stored(ctx context.Context, m *environment.Model, of *catalog.Type, v record.Value, field record.Field, column catalog.Column) (any, error) {
	if words, ok := of.Words[field.Name]; ok && v.Kind() == record.Boolean {
		if v.Text() == "true" {
			return words.True, nil
		}
		return words.False, nil
	}
	if of.ByKey[field.Name] && !v.IsNull() {
		return s.dialect.Encode(v.Parts()[0], column)
	}
	if v.IsNull() || field.Kind != record.Reference {
		return s.dialect.Encode(v, column)
	}
	found, err := s.locate(ctx, m, field.Refers, []record.Key{v.Key()})
	if err != nil {
		return nil, err
	}
	ids := found[v.Text()]
	address := m.Catalog.Address(field.Refers, v.Key())
	switch len(ids) {
	case 1:
		return ids[0][0], nil
	case 0:
		return nil, fmt.Errorf("it refers to %s, which is not there", address)
	default:
		return nil, fmt.Errorf("it refers to %s, which occurs %d times", address, len(ids))
	}
}

func sortedKeys(m map[string]string) []string {
	out := make([]string, 0, len(m))
	for name := range m {
		out = append(out, name)
	}
	slices.Sort(out)
	return out
}
