package rows

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/google/uuid"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
	"anagram/internal/environment/sqldb/engine"
)

// Internal ids that the database does not give by itself.

// newID makes the internal id of a new record.
func (s *session) newID(ctx context.Context, t table) (any, error) {
	if t.IDFrom.MadeBy == "uuid" {
		id := uuid.New()
		if t.columns[t.ID].Kind == record.Bytes {
			return id[:], nil
		}
		return id.String(), nil
	}
	last, begun := s.lastIDs[t.place]
	if !begun {
		var err error
		id := s.dialect.Quote(t.ID)
		if t.columns[t.ID].Kind == record.Text { // a number kept as text: 10 comes after 9
			id = "CAST(" + id + " AS DECIMAL(38,0))"
		}
		if last, err = s.number(ctx, fmt.Sprintf("SELECT coalesce(max(%s), 0) FROM %s", id, s.dialect.Place(t.place))); err != nil {
			return nil, err
		}
		if t.IDFrom.MadeBy == "counter" {
			counted, err := s.readCounter(ctx, t.IDFrom.Counter)
			if err != nil {
				return nil, err
			}
			last = max(last, counted) // a counter that lags behind the data is passed over
		}
	}
	if t.IDFrom.MadeBy == "counter" {
		s.counters[t.place] = t.IDFrom.Counter
	}
	s.lastIDs[t.place] = last + 1
	return int64(last + 1), nil
}

func (s *session) counterRow(c catalog.Counter) (where string, args []any) {
	var parts []string
	for _, field := range slices.Sorted(maps.Keys(c.Where)) {
		parts = append(parts, s.dialect.Quote(field)+" = "+engine.Mark)
		args = append(args, c.Where[field])
	}
	return strings.Join(parts, " AND "), args
}

// readCounter reads the last id that was given and keeps others from giving one until
// the end of the transaction.
func (s *session) readCounter(ctx context.Context, c catalog.Counter) (int, error) {
	where, args := s.counterRow(c)
	last := 0
	err := s.query(ctx, 1, func(row []any) error {
		_, err := fmt.Sscan(engine.StoredText(row[0]), &last)
		return err
	}, fmt.Sprintf("SELECT %s FROM %s WHERE %s%s", s.dialect.Quote(c.Last), s.dialect.Place(c.At), where, s.dialect.ForUpdate()), args...)
	return last, err
}

// keepCounters writes the last ids that were given, before the commit.
func (s *session) keepCounters(ctx context.Context) error {
	for _, place := range slices.Sorted(maps.Keys(s.counters)) {
		c := s.counters[place]
		delete(s.counters, place) // a later write reads it again
		where, args := s.counterRow(c)
		query := fmt.Sprintf("UPDATE %s SET %s = %s WHERE %s", s.dialect.Place(c.At), s.dialect.Quote(c.Last), engine.Mark, where)
		result, err := s.q.ExecContext(ctx, engine.Marked(s.dialect, query), append([]any{int64(s.lastIDs[place])}, args...)...)
		if err != nil {
			return s.explain(err)
		}
		if n, err := result.RowsAffected(); err != nil || n > 0 {
			continue
		}
		columns := []string{s.dialect.Quote(c.Last)}
		for _, field := range slices.Sorted(maps.Keys(c.Where)) {
			columns = append(columns, s.dialect.Quote(field))
		}
		query = fmt.Sprintf("INSERT INTO %s (%s) VALUES (%s)", s.dialect.Place(c.At), strings.Join(columns, ", "), engine.Marks(len(columns)))
		if _, err := s.q.ExecContext(ctx, engine.Marked(s.dialect, query), append([]any{int64(s.lastIDs[place])}, args...)...); err != nil {
			return s.explain(err)
		}
	}
	return nil
}
