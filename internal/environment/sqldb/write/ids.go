package write

import (
	"context"
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"

	"github.com/google/uuid"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
	"anagram/internal/environment/sqldb/engine"
	"anagram/internal/environment/sqldb/query"
)

// Internal ids that the database does not give by itself.

// newID makes the internal id of a new record.
func (s *Session) newID(ctx context.Context, t query.Table) (any, error) {
	if t.IDFrom.MadeBy == "uuid" {
		id := uuid.New()
		if t.Columns[t.ID].Kind == record.Bytes {
			return id[:], nil
		}
		return id.String(), nil
	}
	last, begun := s.lastIDs[t.At]
	if !begun {
		var err error
		if last, err = s.largestID(ctx, t); err != nil {
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
		s.counters[t.At] = t.IDFrom.Counter
	}
	if most, err := strconv.Atoi(t.Columns[t.ID].Limits.Most); err == nil && last >= most || last == math.MaxInt {
		return nil,
			fmt.Errorf("the largest %s in %s is %d, and no larger one fits into the column. Make room there, or say in the catalog where its ids come from", t.ID, t.At, last)
	}
	s.lastIDs[t.At] = last + 1
	if t.Columns[t.ID].Kind == record.Text {
		return strconv.Itoa(last + 1), nil
	}
	return int64(last + 1), nil
}

// largestID gives the largest internal id so far, 0 where there is none. Numbers kept as
// texts are compared as numbers; other texts are none.
func (s *Session) largestID(ctx context.Context, t query.Table) (int, error) {
	if t.Columns[t.ID].Kind != record.Text {
		return s.Number(ctx, fmt.Sprintf("SELECT coalesce(max(%s), 0) FROM %s", s.Dialect.Quote(t.ID), s.Dialect.Place(t.At)))
	}
	last := 0
	return last, s.Query(ctx, 1, func(row []any) error {
		if n, err := strconv.Atoi(strings.TrimSpace(engine.StoredText(row[0]))); err == nil {
			last = max(last, n)
		}
		return nil
	}, s.SelectFrom(t, []string{t.ID}))
}

func (s *Session) counterRow(c catalog.Counter) (where string, args []any) {
	var parts []string
	for _, field := range slices.Sorted(maps.Keys(c.Where)) {
		parts = append(parts, s.Dialect.Quote(field)+" = "+engine.Mark)
		args = append(args, c.Where[field])
	}
	return strings.Join(parts, " AND "), args
}

// readCounter reads the last id that was given and keeps others from giving one until
// the end of the transaction.
func (s *Session) readCounter(ctx context.Context, c catalog.Counter) (int, error) {
	where, args := s.counterRow(c)
	last := 0
	err := s.Query(ctx, 1, func(row []any) error {
		text := strings.TrimSpace(engine.StoredText(row[0]))
		if row[0] == nil || text == "" {
			return nil // it has given none so far
		}
		n, err := strconv.Atoi(text)
		if err != nil {
			return fmt.Errorf("%s: the counter %s.%s holds %q, which is no number. Correct it there", s.Name, c.At, c.Last, text)
		}
		last = n
		return nil
	}, fmt.Sprintf("SELECT %s FROM %s WHERE %s%s", s.Dialect.Quote(c.Last), s.Dialect.Place(c.At), where, s.Dialect.ForUpdate()), args...)
	return last, err
}

// KeepCounters writes the last ids that were given, before the commit.
func (s *Session) KeepCounters(ctx context.Context) error {
	for _, place := range slices.Sorted(maps.Keys(s.counters)) {
		c := s.counters[place]
		delete(s.counters, place) // a later write reads it again
		where, args := s.counterRow(c)
		query := fmt.Sprintf("UPDATE %s SET %s = %s WHERE %s", s.Dialect.Place(c.At), s.Dialect.Quote(c.Last), engine.Mark, where)
		result, err := s.Q.ExecContext(ctx, engine.Marked(s.Dialect, query), append([]any{int64(s.lastIDs[place])}, args...)...)
		if err != nil {
			return s.Explain(err)
		}
		if n, err := result.RowsAffected(); err != nil || n > 0 {
			continue
		}
		columns := []string{s.Dialect.Quote(c.Last)}
		for _, field := range slices.Sorted(maps.Keys(c.Where)) {
			columns = append(columns, s.Dialect.Quote(field))
		}
		query = fmt.Sprintf("INSERT INTO %s (%s) VALUES (%s)", s.Dialect.Place(c.At), strings.Join(columns, ", "),
			engine.Marks(len(columns)))
		if _, err := s.Q.ExecContext(ctx, engine.Marked(s.Dialect, query), append([]any{int64(s.lastIDs[place])}, args...)...); err != nil {
			return s.Explain(err)
		}
	}
	return nil
}
