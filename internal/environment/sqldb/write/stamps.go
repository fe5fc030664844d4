package write

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"anagram/internal/core/catalog"
	"anagram/internal/environment"
	"anagram/internal/environment/sqldb/engine"
	"anagram/internal/environment/sqldb/query"
)

// Stamps. Whether an application, a default or a trigger fills them cannot be known before:
// what is changed is written without, and what did not move by then is set. Where it is known
// that nothing does, a change sets them itself. A new record is given those that nothing is known
// to fill.

// stamped are the records of a type that were changed, with the stamps they had.
type stamped struct {
	m     *environment.Model
	table query.Table
	who   string
	had   map[string][2]string // by what tells the record: at and by, as they were stored
	ids   map[string]query.Identity
	fresh []query.Identity // of which it is not known yet what they had
}

// forNew gives the stamps that a new record is given.
func (w *writer) forNew(ctx context.Context, t query.Table, c environment.Change, given []setting) ([]setting, error) {
	var out []setting
	for _, column := range t.Stamped(t.Described, w.m.Environment, c.By) {
		if slices.ContainsFunc(given, func(s setting) bool { return s.column == column.Name }) {
			continue
		}
		stored, ok, err := w.stamp(ctx, w.m, t, column, c.By)
		if err != nil {
			return nil, err
		}
		if ok {
			out = append(out, setting{column.Name, stored})
		}
	}
	return out, nil
}

// stamp gives what to store in a stamp now; ok is false where it is not known.
func (s *Session) stamp(ctx context.Context, m *environment.Model, t query.Table, column catalog.Column, who string) (any, bool, error) {
	if s.zone == nil {
		s.zone = m.Here
	}
	var now time.Time
	if !t.IsPerson(column.Name) {
		var err error
		if now, err = s.now(ctx); err != nil {
			return nil, false, err
		}
	}
	v, ok := t.Stamp(column, m.Environment, who, now)
	if !ok {
		return nil, false, nil
	}
	stored, err := s.Dialect.Encode(v, column) // in the zone of the column already
	return stored, err == nil, err
}

// now is the time of the target's clock, in the zone in which it keeps times without one.
func (s *Session) now(ctx context.Context) (time.Time, error) {
	if s.asked.IsZero() {
		about, err := s.Dialect.About(ctx, s.Q)
		if err != nil {
			return time.Time{}, s.Explain(err)
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

// forChanged gives the stamps that a changed record is given with its values.
func (w *writer) forChanged(ctx context.Context, t query.Table, c environment.Change, given []setting) ([]setting, error) {
	if t.StampNever || !t.Described.Quiet {
		return nil, nil
	}
	var out []setting
	for _, name := range []string{t.StampAt, t.StampBy} {
		column, there := t.Columns[name]
		if name == "" || !there || column.Derived || slices.ContainsFunc(slices.Concat(given, out),
			func(s setting) bool { return s.column == name }) {
			continue
		}
		stored, ok, err := w.stamp(ctx, w.m, t, column, c.By)
		if err != nil {
			return nil, err
		}
		if ok {
			out = append(out, setting{name, stored})
		}
	}
	return out, nil
}

// willStamp notes that a record is changed, before it is.
func (w *writer) willStamp(t query.Table, c environment.Change, id query.Identity) {
	if t.StampNever || t.StampAt == "" && t.StampBy == "" || t.Described.Quiet {
		return
	}
	of := w.touched[t.Name]
	if of == nil {
		of = &stamped{m: w.m, table: t, had: map[string][2]string{}, ids: map[string]query.Identity{}}
		w.touched[t.Name] = of
	}
	of.who = c.By
	key := id.MapKey()
	if _, known := of.ids[key]; known {
		return
	}
	of.ids[key] = id
	of.fresh = append(of.fresh, id)
}

// readStamps reads the stamps of some records.
func (s *Session) readStamps(ctx context.Context, of *stamped, ids []query.Identity, give func(key string, at, by string)) error {
	t := of.table
	columns := slices.Clone(t.Identity)
	for _, name := range []string{t.StampAt, t.StampBy} {
		if name != "" {
			columns = append(columns, name)
		}
	}
	return s.WhereIn(ctx, len(columns), s.SelectFrom(t, columns), t.Identity, ids, "", func(row []any) error {
		stamps := [2]string{}
		at := len(t.Identity)
		for i, name := range []string{t.StampAt, t.StampBy} {
			if name != "" {
				stamps[i] = fmt.Sprintf("%T %s", row[at], engine.StoredText(row[at]))
				at++
			}
		}
		give(query.Identity(row[:len(t.Identity)]).MapKey(), stamps[0], stamps[1])
		return nil
	})
}

// beforeStamps remembers what the stamps of some records are, once, before they change.
func (w *writer) beforeStamps(ctx context.Context) error {
	for _, typ := range slices.Sorted(maps.Keys(w.touched)) {
		of := w.touched[typ]
		if len(of.fresh) == 0 {
			continue
		}
		if err := w.readStamps(ctx, of, of.fresh, func(key, at, by string) { of.had[key] = [2]string{at, by} }); err != nil {
			return err
		}
		of.fresh = nil
	}
	return nil
}

// SetStamps sets the stamps that did not move when their records did.
func (s *Session) SetStamps(ctx context.Context) error {
	for _, typ := range slices.Sorted(maps.Keys(s.touched)) {
		of := s.touched[typ]
		t := of.table
		var ids []query.Identity
		for _, key := range slices.Sorted(maps.Keys(of.ids)) {
			ids = append(ids, of.ids[key])
		}
		column, _, unsigned := t.Unsigned(t.Described, of.m.Environment, of.who, false)
		for part := range slices.Chunk(ids, query.Batch) {
			var both, onlyAt, onlyBy, nobody []query.Identity
			if err := s.readStamps(ctx, of, part, func(key, at, by string) {
				had, known := of.had[key]
				switch id := of.ids[key]; {
				case !known:
				case unsigned && by == had[1] && (at == had[0] || !t.Described.HasTriggers && !t.Described.AnyTrigger):
					nobody = append(nobody, id)
				case at == had[0] && by == had[1]:
					both = append(both, id)
				case at == had[0]:
					onlyAt = append(onlyAt, id)
				case by == had[1]:
					onlyBy = append(onlyBy, id)
				}
			}); err != nil {
				return err
			}
			if len(nobody) > 0 { // time and person are written together, or nothing is
				return &environment.Error{Environment: s.Name, Message: fmt.Sprintf("%s of %s (%s %s) was changed, and who did it cannot be written into %s; nothing in %s fills it.",
					"a record", t.Name, strings.Join(t.Identity, ", "), nobody[0].Text(), column, s.Name),
					Mend: fmt.Sprintf("Name the account that stands for imports under stamp: of %s in the catalog, account: {%s: …}, or say write: never there, and match again.", t.Name, s.Name)}
			}
			if err := errors.Join(s.set(ctx, of, both, t.StampAt, t.StampBy), s.set(ctx, of, onlyAt, t.StampAt),
				s.set(ctx, of, onlyBy, t.StampBy)); err != nil {
				return err
			}
		}
	}
	s.touched = map[string]*stamped{}
	return nil
}

// set sets some stamps of some records.
func (s *Session) set(ctx context.Context, of *stamped, ids []query.Identity, names ...string) error {
	t := of.table
	var sets []string
	var stored []any
	for _, name := range names {
		column, there := t.Columns[name]
		if name == "" || !there || len(ids) == 0 || column.Derived {
			continue
		}
		value, ok, err := s.stamp(ctx, of.m, t, column, of.who)
		if err != nil {
			return err
		}
		if ok {
			sets, stored = append(sets, s.Dialect.Quote(name)+" = "+engine.Mark), append(stored, value)
		}
	}
	if len(sets) == 0 {
		return nil
	}
	update := func(where string, args ...any) error {
		stmt, err := s.Prepare(ctx, fmt.Sprintf("%s %s SET %s WHERE %s", verb(s.Can.Update, "UPDATE"), s.Dialect.Place(t.At),
			strings.Join(sets, ", "), where))
		if err == nil {
			_, err = stmt.ExecContext(ctx, slices.Concat(stored, args)...)
		}
		return s.Explain(err)
	}
	quoted := make([]string, len(t.Identity))
	for i, column := range t.Identity {
		quoted[i] = s.Dialect.Quote(column)
	}
	var whole []query.Identity
	for _, id := range ids {
		if !id.HasNull() {
			whole = append(whole, id)
			continue
		}
		var where []string
		var args []any
		for i := range t.Identity {
			if id[i] == nil {
				where = append(where, quoted[i]+" IS NULL")
				continue
			}
			where, args = append(where, quoted[i]+" = "+engine.Mark), append(args, id[i])
		}
		if err := update(strings.Join(where, " AND "), args...); err != nil {
			return err
		}
	}
	for len(whole) > 0 {
		n := min(len(whole), atOnce)
		if n < atOnce {
			n = 1 // a statement that is prepared once for each number would be many
		}
		var args []any
		for _, id := range whole[:n] {
			args = append(args, id...)
		}
		if err := update(s.Dialect.In(quoted, n), args...); err != nil {
			return err
		}
		whole = whole[n:]
	}
	return nil
}

// atOnce is how many records get a stamp in one statement.
const atOnce = 100
