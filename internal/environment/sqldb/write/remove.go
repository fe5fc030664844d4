package write

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/environment/sqldb/engine"
	"anagram/internal/environment/sqldb/query"
)

// Removing a record that an import made, as that import is taken back. Nothing may refer to
// it: what the database would do then, such as removing more or emptying references, is not
// left to it.

// removal makes the statement that removes one record.
func (w *writer) removal(ctx context.Context, t query.Table, c environment.Change, st statement) (statement, error) {
	ids, err := w.whereIs(ctx, t, c)
	if err != nil {
		return st, err
	}
	if len(ids) != 1 {
		return st, st.fail("", fmt.Errorf("%d records have this key, one is expected", len(ids)))
	}
	where, args := w.WhereIdentity("", t, ids[0])
	by, err := w.referrer(ctx, t, ids[0])
	switch {
	case err != nil:
		return st, err
	case by != "":
		return st, st.fail("", fmt.Errorf("%s refers to it by a foreign key, so it is not removed", by))
	}
	st.Query, st.Args = "DELETE FROM "+w.Dialect.Place(t.At)+" WHERE "+where, args
	return st, nil
}

// referrer names a table with a row that refers to the record by a foreign key; "" for none.
// A record that refers to itself alone does not count.
func (s *Session) referrer(ctx context.Context, t query.Table, id query.Identity) (string, error) {
	keys, err := s.referring(ctx, t)
	if err != nil {
		return "", err
	}
	for _, key := range keys {
		where, args := s.WhereIdentity("t.", t, id)
		if key.Itself {
			itself, more := s.WhereIdentity("o.", t, id)
			where, args = where+" AND NOT ("+itself+")", append(args, more...)
		}
		query := fmt.Sprintf("SELECT 1 FROM %s o JOIN %s t ON %s WHERE %s LIMIT 1", key.From, s.Dialect.Place(t.At),
			s.joined(t, key), where)
		found := errors.New("found")
		err := s.Scan(ctx, 1, func([]any) error { return found }, query, args...)
		if errors.Is(err, found) {
			return "a record of " + key.Name, nil
		}
		if err != nil {
			return "", err
		}
	}
	return "", nil
}

// referring lists the foreign keys that point at a table, from the database the first time.
func (s *Session) referring(ctx context.Context, t query.Table) ([]engine.Referring, error) {
	if keys, ok := s.referrers[t.At]; ok {
		return keys, nil
	}
	keys, err := s.Dialect.Referring(ctx, s.Q, t.At)
	if err != nil {
		return nil, s.Explain(err)
	}
	s.referrers[t.At] = keys
	return keys, nil
}

// joined is the condition that a row o refers to a row t by a foreign key.
func (s *Session) joined(t query.Table, key engine.Referring) string {
	var on []string
	for _, pair := range key.Pairs {
		there := pair.There
		if there == "" && len(t.Described.Primary) == 1 {
			there = t.Described.Primary[0]
		}
		on = append(on, "o."+s.Dialect.Quote(pair.Here)+" = t."+s.Dialect.Quote(there))
	}
	return strings.Join(on, " AND ")
}

// Held tells what refers to records by foreign keys from tables that are none of the catalog's.
func (s *Session) Held(ctx context.Context, m *environment.Model, typ string, keys []record.Key) ([]string, error) {
	held := make([]string, len(keys))
	t, err := s.Table(ctx, m, typ)
	if err != nil {
		return nil, err
	}
	all, err := s.referring(ctx, t)
	if err != nil {
		return nil, err
	}
	own := map[string]bool{}
	for _, other := range m.Catalog.Types {
		own[strings.ToLower(s.Dialect.Place(other.Place(m.Environment)))] = true
	}
	foreign := slices.DeleteFunc(slices.Clone(all), func(key engine.Referring) bool { return own[strings.ToLower(key.From)] })
	if len(foreign) == 0 {
		return held, nil
	}
	found, err := s.Find(ctx, m, typ, keys)
	if err != nil {
		return nil, err
	}
	by := map[string]int{}
	var where []string
	var args []any
	for i, key := range keys {
		for _, id := range found[key.Order()] {
			by[id.MapKey()] = i
			one, more := s.WhereIdentity("t.", t, id)
			where, args = append(where, "("+one+")"), append(args, more...)
		}
	}
	if len(where) == 0 {
		return held, nil
	}
	columns := make([]string, len(t.Identity))
	for i, column := range t.Identity {
		columns[i] = "t." + s.Dialect.Quote(column)
	}
	for _, key := range foreign {
		text := fmt.Sprintf("SELECT DISTINCT %s FROM %s o JOIN %s t ON %s WHERE %s", strings.Join(columns, ", "), key.From,
			s.Dialect.Place(t.At), s.joined(t, key), strings.Join(where, " OR "))
		if err := s.Scan(ctx, len(columns), func(row []any) error {
			if i, ok := by[query.Identity(row).MapKey()]; ok {
				held[i] = "a record of " + key.Name
			}
			return nil
		}, text, args...); err != nil {
			return nil, err
		}
	}
	return held, nil
}
