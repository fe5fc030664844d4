package rows

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/environment/sqldb/engine"
)

// Stamps. Whether an application, a default or a trigger fills them cannot be known before:
// what is changed is written without, and what did not move by then is set. A new record is
// given those that nothing is known to fill.

// stamped are the records of a type that were changed, with the stamps they had.
type stamped struct {
	m     *environment.Model
	table table
	who   string
	had   map[string][2]string // by what tells the record: at and by, as they were stored
	ids   map[string]identity
}

// forNew gives the stamps that a new record is given.
func (w *writer) forNew(ctx context.Context, t table, c environment.Change, given []setting) ([]setting, error) {
	var out []setting
	if t.StampNever {
		return out, nil
	}
	for _, name := range []string{t.StampAt, t.StampBy, t.CreatedAt, t.CreatedBy} {
		column, ok := t.columns[name]
		known := slices.ContainsFunc(slices.Concat(given, out), func(s setting) bool { return s.column == name })
		if !ok || name == "" || known || column.Default || column.Derived || slices.Contains(t.triggered, name) {
			continue
		}
		stored, ok, err := w.stamp(ctx, t, name, w.m.Environment, c.By)
		if err != nil {
			return nil, err
		}
		if ok {
			out = append(out, setting{name, stored})
		}
	}
	return out, nil
}

// stamp gives what to store in a stamp now; ok is false where it is not known.
func (s *session) stamp(ctx context.Context, t table, name, environment, who string) (any, bool, error) {
	column := t.columns[name]
	if name == t.StampBy || name == t.CreatedBy {
		if account, ok := t.StampAccount[environment]; ok {
			return account, true, nil
		}
		most := column.Limits.Characters
		if column.Kind != record.Text || who == "" || most > 0 && len([]rune(who)) > most {
			return nil, false, nil
		}
		return who, true, nil
	}
	now, err := s.now(ctx)
	if err != nil {
		return nil, false, err
	}
	var v record.Value
	switch column.Kind {
	case record.Timestamp:
		v, err = record.Parse(record.Timestamp, now.UTC().Truncate(precision(column)).Format(time.RFC3339Nano))
	case record.LocalTimestamp, record.Text:
		v, err = record.Parse(record.LocalTimestamp, now.Truncate(precision(column)).Format("2006-01-02T15:04:05.999999"))
	case record.Date:
		v, err = record.Parse(record.Date, now.Format(time.DateOnly))
	default:
		return nil, false, nil
	}
	if err != nil {
		return nil, false, err
	}
	stored, err := s.dialect.Encode(v, column)
	return stored, err == nil, err
}

// precision is the least step of a column of times.
func precision(c catalog.Column) time.Duration {
	word := strings.ToLower(c.Declared)
	if _, digits, ok := strings.Cut(word, "("); ok && len(digits) > 0 && digits[0] >= '0' && digits[0] <= '6' {
		step := time.Second
		for range digits[0] - '0' {
			step /= 10
		}
		return step
	}
	if strings.HasPrefix(word, "timestamp with") { // PostgreSQL keeps microseconds
		return time.Microsecond
	}
	return time.Second
}

// now is the time of the target's clock, in the zone in which it keeps times without one.
func (s *session) now(ctx context.Context) (time.Time, error) {
	if s.asked.IsZero() {
		about, err := s.dialect.About(ctx, s.q)
		if err != nil {
			return time.Time{}, s.explain(err)
		}
		s.asked, s.clock = time.Now(), about.Clock
		if s.clock.IsZero() {
			s.clock = s.asked
		}
		if s.zone == nil {
			s.zone = about.Zone
		}
		if s.zone == nil {
			s.zone = time.UTC
		}
	}
	return s.clock.Add(time.Since(s.asked)).In(s.zone), nil
}

// willStamp notes that a record is changed, before it is.
func (w *writer) willStamp(t table, c environment.Change, id identity) {
	if t.StampNever || t.StampAt == "" && t.StampBy == "" {
		return
	}
	of := w.touched[t.Name]
	if of == nil {
		of = &stamped{m: w.m, table: t, had: map[string][2]string{}, ids: map[string]identity{}}
		w.touched[t.Name] = of
	}
	of.who = c.By
	key := id.mapKey()
	if _, known := of.ids[key]; known {
		return
	}
	of.ids[key] = id
}

// readStamps reads the stamps of some records.
func (s *session) readStamps(ctx context.Context, of *stamped, ids []identity, give func(key string, at, by string)) error {
	t := of.table
	columns := slices.Clone(t.identity)
	for _, name := range []string{t.StampAt, t.StampBy} {
		if name != "" {
			columns = append(columns, name)
		}
	}
	return s.whereIn(ctx, len(columns), s.selectFrom(t, columns), t.identity, ids, "", func(row []any) error {
		stamps := [2]string{}
		at := len(t.identity)
		for i, name := range []string{t.StampAt, t.StampBy} {
			if name != "" {
				stamps[i] = fmt.Sprintf("%T %s", row[at], engine.StoredText(row[at]))
				at++
			}
		}
		give(identity(row[:len(t.identity)]).mapKey(), stamps[0], stamps[1])
		return nil
	})
}

// beforeStamps remembers what the stamps of some records are, once, before they change.
func (w *writer) beforeStamps(ctx context.Context) error {
	for _, typ := range slices.Sorted(maps.Keys(w.touched)) {
		of := w.touched[typ]
		var ids []identity
		for key, id := range of.ids {
			if _, known := of.had[key]; !known {
				ids = append(ids, id)
			}
		}
		if len(ids) == 0 {
			continue
		}
		if err := w.readStamps(ctx, of, ids, func(key, at, by string) { of.had[key] = [2]string{at, by} }); err != nil {
			return err
		}
	}
	return nil
}

// setStamps sets the stamps that did not move when their records did.
func (s *session) setStamps(ctx context.Context) error {
	for _, typ := range slices.Sorted(maps.Keys(s.touched)) {
		of := s.touched[typ]
		t := of.table
		var ids []identity
		for _, key := range slices.Sorted(maps.Keys(of.ids)) {
			ids = append(ids, of.ids[key])
		}
		for part := range slices.Chunk(ids, batch) {
			var stands [2][]identity
			if err := s.readStamps(ctx, of, part, func(key, at, by string) {
				had, known := of.had[key]
				for i, is := range []string{at, by} {
					if known && is == had[i] {
						stands[i] = append(stands[i], of.ids[key])
					}
				}
			}); err != nil {
				return err
			}
			for i, name := range []string{t.StampAt, t.StampBy} {
				if err := s.setStamp(ctx, of, name, stands[i]); err != nil {
					return err
				}
			}
		}
	}
	s.touched = map[string]*stamped{}
	return nil
}

func (s *session) setStamp(ctx context.Context, of *stamped, name string, ids []identity) error {
	t := of.table
	if name == "" || len(ids) == 0 || t.columns[name].Derived {
		return nil
	}
	stored, ok, err := s.stamp(ctx, t, name, of.m.Environment, of.who)
	if err != nil || !ok {
		return err
	}
	for _, id := range ids {
		var where []string
		args := []any{stored}
		for i, column := range t.identity {
			if id[i] == nil {
				where = append(where, s.dialect.Quote(column)+" IS NULL")
				continue
			}
			where, args = append(where, s.dialect.Quote(column)+" = "+engine.Mark), append(args, id[i])
		}
		stmt, err := s.prepare(ctx, fmt.Sprintf("%s %s SET %s = %s WHERE %s", verb(s.can.Update, "UPDATE"), s.dialect.Place(t.place), s.dialect.Quote(name), engine.Mark, strings.Join(where, " AND ")))
		if err == nil {
			_, err = stmt.ExecContext(ctx, args...)
		}
		if err != nil {
			return s.explain(err)
		}
	}
	return nil
}
