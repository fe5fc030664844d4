package write

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/environment/sqldb/engine"
	"anagram/internal/environment/sqldb/query"
)

// statement is one change as the database gets it; it must touch exactly one row.
type statement struct {
	engine.Statement
	change int // which one
	fail   func(field string, cause error) error
	hint   string // what else may be the matter where no row is touched
	check  bool   // no row is touched where the record is not as expected
	more   []appending
	id     query.Identity // of the row that is changed; nil where it is added
}

// Write carries out changes in their order, as many at a time as the engine can take.
// References are translated to this environment's internal ids.
func (s *Session) Write(ctx context.Context, m *environment.Model, changes []environment.Change) ([]error, error) {
	w := &writer{Session: s, m: m, refused: make([]error, len(changes))}
	if err := w.lookAhead(ctx, changes); err != nil {
		return nil, err
	}
	for i, c := range changes {
		if err := w.take(ctx, i, c); err != nil {
			return nil, err
		}
	}
	return w.refused, w.flush(ctx)
}

// take makes a change wait for its turn, and carries out what waits where it is time to.
func (w *writer) take(ctx context.Context, i int, c environment.Change) error {
	if c.Remove && len(w.waiting) > 0 { // what refers to it may be about to be changed
		if err := w.flush(ctx); err != nil {
			return err
		}
	}
	st, err := w.statement(ctx, c)
	var record *environment.RecordError
	if errors.As(err, &record) && len(w.waiting) > 0 {
		// What it refers to may be among those that wait.
		if err := w.flush(ctx); err != nil {
			return err
		}
		st, err = w.statement(ctx, c)
	}
	switch {
	case errors.As(err, &record):
		w.refused[i] = err
		return nil
	case err != nil || st.Query == "":
		return err
	}
	st.change = i
	if err := w.tooLong(ctx, st); err != nil {
		st.closeMore()
		w.refused[i] = err
		return nil
	}
	w.waiting = append(w.waiting, st)
	if w.size += st.size(); w.size > w.room() || c.Was != nil || c.Remove {
		if err := w.flush(ctx); err != nil {
			return err
		}
	}
	if len(st.more) > 0 {
		if err := w.inPieces(ctx, c, i, st); err != nil {
			return err
		}
	}
	if c.Was != nil || c.Remove { // what is known by the old key has another one now
		w.ForgetAll()
	}
	return nil
}

// inPieces writes the statement that waits last, and what follows the first pieces of its
// attachments.
func (w *writer) inPieces(ctx context.Context, c environment.Change, i int, st statement) error {
	defer st.closeMore()
	if err := w.flush(ctx); err != nil || w.refused[i] != nil {
		return err
	}
	t, err := w.Table(ctx, w.m, c.Type)
	if err != nil {
		return err
	}
	id := st.id
	if id == nil {
		w.Forget()
		found, err := w.Find(ctx, w.m, c.Type, []record.Key{c.Key})
		if err != nil {
			return err
		}
		if len(found[c.Key.Order()]) != 1 {
			w.refused[i] = st.fail("", fmt.Errorf("%d records have this key, one is expected", len(found[c.Key.Order()])))
			return nil
		}
		id = found[c.Key.Order()][0]
	}
	err = w.append(ctx, t, id, st)
	var record *environment.RecordError
	if errors.As(err, &record) {
		w.refused[i] = err
		return nil
	}
	return err
}

// writer is one call of Write at work.
type writer struct {
	*Session
	m       *environment.Model
	whole   bool        // attachments are written in one piece
	more    []appending // of the change at work
	waiting []statement
	size    int // bytes of values that wait
	refused []error
}

// lookAhead locates in a few queries what the changes are about and refer to. What is
// not found may be among the changes themselves.
func (w *writer) lookAhead(ctx context.Context, changes []environment.Change) error {
	keys := map[string][]record.Key{}
	note := func(values []record.Value) {
		for _, v := range values {
			for _, ref := range v.References() {
				keys[ref.Refers()] = append(keys[ref.Refers()], ref.Key())
			}
		}
	}
	for _, c := range changes {
		switch {
		case c.Insert:
			note(c.Key.Parts())
		case w.metAt(c) == nil:
			keys[c.Type] = append(keys[c.Type], c.Key)
		}
		if c.Was != nil {
			keys[c.Type] = append(keys[c.Type], *c.Was)
			note(c.Key.Parts())
		}
		note(c.Values)
	}
	for _, typ := range slices.Sorted(maps.Keys(keys)) {
		for part := range slices.Chunk(keys[typ], query.Batch) {
			if _, err := w.Find(ctx, w.m, typ, part); err != nil {
				return err
			}
		}
	}
	return nil
}

// statement makes the statement of one change; an empty one where there is nothing to
// write.
func (w *writer) statement(ctx context.Context, c environment.Change) (statement, error) {
	t, err := w.Table(ctx, w.m, c.Type)
	if err != nil {
		return statement{}, err
	}
	st := statement{fail: func(field string, cause error) error {
		return &environment.RecordError{Environment: w.Name, Address: w.m.Catalog.Address(c.Type, c.Key), Field: field, Cause: cause}
	}}
	if c.Remove {
		return w.removal(ctx, t, c, st)
	}
	settings, guard, err := w.content(ctx, t, c, &st)
	if err != nil {
		st.closeMore()
		return st, err
	}
	more, err := w.untilLater(ctx, t, c)
	if err != nil {
		return st, err
	}
	if settings = append(settings, more...); len(settings) == 0 {
		return statement{}, nil
	}
	if !c.Insert {
		stamps, err := w.forChanged(ctx, t, c, settings)
		if err != nil {
			return st, err
		}
		settings = append(settings, stamps...)
	}
	for _, set := range settings {
		st.Columns = append(st.Columns, w.Dialect.Quote(set.column))
		st.Args = append(st.Args, set.stored)
	}
	if c.Insert {
		return w.adding(ctx, t, c, st, settings)
	}
	ids, err := w.whereIs(ctx, t, c)
	if err != nil {
		return st, err
	}
	if len(ids) != 1 {
		return st, st.fail("", fmt.Errorf("%d records have this key, one is expected", len(ids)))
	}
	st.id = ids[0]
	w.update(&st, t, ids[0], guard)
	if len(guard) == 0 && !c.Check && t.Described.Quiet && !t.Described.NoBulk && !ids[0].HasNull() {
		st.One = w.oneRow(t, settings)
	}
	if c.Check {
		if err := w.checked(ctx, t, c, &st); err != nil {
			return st, err
		}
	}
	w.willStamp(t, c, ids[0])
	return st, nil
}

// content gives what a change stores: its values, an internal id where the database gives none,
// what belongs to this environment alone, and nothing in references that are to be emptied.
func (w *writer) content(ctx context.Context, t query.Table, c environment.Change, st *statement) ([]setting, []guarded, error) {
	fields, values := writtenWithKey(w.m, c)
	w.whole, w.more = c.Check, nil
	settings, guard, err := w.settings(ctx, t, fields, values, st.fail)
	st.more = w.more
	if err != nil {
		return nil, nil, err
	}
	if c.Insert && t.ID != "" && (t.IDFrom.MadeBy != "" || w.Can.NoIDs) && !t.Columns[t.ID].Given {
		id, err := w.newID(ctx, t)
		var explained *environment.Error
		if err != nil && !errors.As(err, &explained) && ctx.Err() == nil {
			err = st.fail(t.ID, err)
		}
		if err != nil {
			return nil, nil, err
		}
		settings = append(settings, setting{t.ID, id})
	}
	settings = inForms(t, settings, c.Stored)
	for _, name := range slices.Sorted(maps.Keys(c.Fixed)) {
		settings = append(settings, setting{name, c.Fixed[name]})
	}
	settings, err = w.emptied(ctx, t, c, settings, st.fail)
	return settings, guard, err
}

// emptied adds null for the references that are to be emptied, where it is taken.
func (w *writer) emptied(ctx context.Context, t query.Table, c environment.Change, settings []setting,
	fail func(string, error) error) ([]setting, error) {
	for _, field := range c.Clear {
		if t.Columns[field.Name].Required {
			continue // something stands in: see untilLater
		}
		null, err := w.stored(ctx, t, record.NullValue(), field)
		if err == nil {
			settings, err = set(t, settings, field.Name, record.NullValue(), null)
		}
		if err != nil {
			return nil, fail(field.Name, err)
		}
	}
	return settings, nil
}

// adding completes the statement of a new record.
func (w *writer) adding(ctx context.Context, t query.Table, c environment.Change, st statement, settings []setting) (statement, error) {
	stamps, err := w.forNew(ctx, t, c, settings)
	if err != nil {
		return st, err
	}
	for _, set := range stamps {
		st.Columns = append(st.Columns, w.Dialect.Quote(set.column))
		st.Args = append(st.Args, set.stored)
	}
	st.Place, st.NoBulk = t.At, t.Described.NoBulk
	if !w.ready[t.At] {
		w.ready[t.At] = true
		if err := w.Dialect.BeforeInserts(ctx, w.Q, t.At, t.ID); err != nil {
			return st, w.Explain(err)
		}
	}
	st.Query = w.insert(st, 1)
	w.given(t.At, settings)
	return st, nil
}

// given notes into which columns of a place values were written.
func (w *writer) given(place string, settings []setting) {
	if w.Inserted[place] == nil {
		w.Inserted[place] = map[string]bool{}
	}
	for _, set := range settings {
		w.Inserted[place][set.column] = true
	}
}

// metAt gives what tells the record of a change since it was read, nil where that is not known.
func (w *writer) metAt(c environment.Change) query.Identity {
	if c.At == "" {
		return nil
	}
	return w.Met[c.Type][c.At]
}

// whereIs locates the record of a change: where it has an internal id, by what told it when
// it was read, else by its key or the key that it had.
func (w *writer) whereIs(ctx context.Context, t query.Table, c environment.Change) ([]query.Identity, error) {
	if id := w.metAt(c); id != nil && t.ID != "" {
		return []query.Identity{id}, nil
	}
	found, err := w.Find(ctx, w.m, c.Type, []record.Key{c.Key})
	if err != nil || len(found[c.Key.Order()]) > 0 || c.Was == nil {
		return found[c.Key.Order()], err
	}
	found, err = w.Find(ctx, w.m, c.Type, []record.Key{*c.Was})
	return found[c.Was.Order()], err
}

// update makes the statement that changes the record with an identity, as long as what the
// guard says holds.
func (w *writer) update(st *statement, t query.Table, id query.Identity, guard []guarded) {
	set := strings.Join(st.Columns, " = "+engine.Mark+", ") + " = " + engine.Mark
	var where []string
	for i, column := range t.Identity {
		if id[i] == nil {
			where = append(where, w.Dialect.Quote(column)+" IS NULL")
			continue
		}
		where = append(where, w.Dialect.Quote(column)+" = "+engine.Mark)
		st.Args = append(st.Args, id[i])
	}
	for _, g := range guard {
		where = append(where, w.Dialect.In([]string{w.Dialect.Quote(g.column)}, len(g.words)))
		for _, word := range g.words {
			st.Args = append(st.Args, word)
		}
		st.hint = fmt.Sprintf("; its %s says that it refers to another record type, so that field has to be approved as well", g.column)
	}
	st.Query = fmt.Sprintf("%s %s SET %s WHERE %s", verb(w.Can.Update, "UPDATE"), w.Dialect.Place(t.At), set,
		strings.Join(where, " AND "))
}

func (w *writer) insert(st statement, rows int) string {
	one := "(" + engine.Marks(len(st.Args)) + ")"
	return fmt.Sprintf("%s INTO %s (%s) VALUES %s", verb(w.Can.Insert, "INSERT"), w.Dialect.Place(st.Place),
		strings.Join(st.Columns, ", "), strings.TrimSuffix(strings.Repeat(one+", ", rows), ", "))
}

// oneRow says how an update that nothing else depends on finds its row, and what its columns are.
func (w *writer) oneRow(t query.Table, settings []setting) *engine.OneRow {
	one := &engine.OneRow{Place: t.At}
	for _, set := range settings {
		one.Declared = append(one.Declared, t.Columns[set.column].Declared)
	}
	for _, name := range t.Identity {
		one.By = append(one.By, w.Dialect.Quote(name))
		one.Declared = append(one.Declared, t.Columns[name].Declared)
	}
	return one
}

// checked adds to the statement of a changed record that it holds what is expected, as far as
// the database can be asked.
func (w *writer) checked(ctx context.Context, t query.Table, c environment.Change, st *statement) error {
	st.check = true
	for i, field := range c.Fields {
		v := record.AbsentValue()
		if i < len(c.Expect) {
			v = c.Expect[i]
		}
		column := t.Columns[field.Name]
		if v.IsAbsent() || column.NoEquality || t.Refers[field.Name].None != nil || t.Refers[field.Name].Inside != nil ||
			!v.IsNull() && t.Refers[field.Name].To == nil && !w.Dialect.Decides(column, v) {
			continue
		}
		stored, err := w.stored(ctx, t, v, field)
		if err != nil {
			return st.fail(field.Name, err)
		}
		for n, name := range t.Stored(field.Name) {
			if stored[n] == nil {
				st.Query += " AND " + w.Dialect.Quote(name) + " IS NULL"
				continue
			}
			st.Query += " AND " + w.Dialect.Quote(name) + " = " + engine.Mark
			st.Args = append(st.Args, stored[n])
		}
	}
	return nil
}

// verb is the engine's own word, or the usual one.
func verb(own, usual string) string { return cmp.Or(own, usual) }
