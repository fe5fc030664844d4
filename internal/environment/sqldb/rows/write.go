package rows

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/environment/sqldb/engine"
)

// statement is one change as the database gets it; it must touch exactly one row.
type statement struct {
	engine.Statement
	change int // which one
	fail   func(field string, cause error) error
	hint   string // what else may be the matter where no row is touched
}

// Write carries out changes in their order, as many at a time as the engine can take.
// References are translated to this environment's internal ids.
func (s *session) Write(ctx context.Context, m *environment.Model, changes []environment.Change) ([]error, error) {
	w := &writer{session: s, m: m, refused: make([]error, len(changes))}
	if err := w.lookAhead(ctx, changes); err != nil {
		return nil, err
	}
	for i, c := range changes {
		if c.Remove {
			return nil, environment.ErrRemoval
		}
		st, err := w.statement(ctx, c)
		var record *environment.RecordError
		if errors.As(err, &record) && len(w.waiting) > 0 {
			// What it refers to may be among those that wait.
			if err := w.flush(ctx); err != nil {
				return nil, err
			}
			st, err = w.statement(ctx, c)
		}
		switch {
		case errors.As(err, &record):
			w.refused[i] = err
			continue
		case err != nil:
			return nil, err
		case st.Query == "":
			continue
		}
		st.change = i
		if err := w.tooLong(ctx, st); err != nil {
			w.refused[i] = err
			continue
		}
		w.waiting = append(w.waiting, st)
		if w.size += st.size(); w.size > w.room() || c.Was != nil {
			if err := w.flush(ctx); err != nil {
				return nil, err
			}
		}
		if c.Was != nil { // what is known by the old key has another one now
			w.forget()
			w.odd = nil
		}
	}
	return w.refused, w.flush(ctx)
}

// writer is one call of Write at work.
type writer struct {
	*session
	m       *environment.Model
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
		if c.Insert {
			note(c.Key.Parts())
		} else {
			keys[c.Type] = append(keys[c.Type], c.Key)
		}
		if c.Was != nil {
			keys[c.Type] = append(keys[c.Type], *c.Was)
			note(c.Key.Parts())
		}
		note(c.Values)
	}
	for _, typ := range slices.Sorted(maps.Keys(keys)) {
		for part := range slices.Chunk(keys[typ], batch) {
			if _, err := w.locate(ctx, w.m, typ, part); err != nil {
				return err
			}
		}
	}
	return nil
}

// setting is a column with what to store in it.
type setting struct {
	column string
	stored any
}

// statement makes the statement of one change; an empty one where there is nothing to
// write.
func (w *writer) statement(ctx context.Context, c environment.Change) (statement, error) {
	t, err := w.table(ctx, w.m, c.Type)
	if err != nil {
		return statement{}, err
	}
	st := statement{fail: func(field string, cause error) error {
		return &environment.RecordError{Environment: w.name, Address: w.m.Catalog.Address(c.Type, c.Key), Field: field, Cause: cause}
	}}
	fields, values := writtenWithKey(w.m, c)
	settings, guard, err := w.settings(ctx, t, fields, values, st.fail)
	if err != nil {
		return st, err
	}
	if c.Insert && t.ID != "" && (t.IDFrom.MadeBy != "" || w.can.NoIDs) && !t.columns[t.ID].Given {
		id, err := w.newID(ctx, t)
		var explained *environment.Error
		if err != nil && !errors.As(err, &explained) && ctx.Err() == nil {
			err = st.fail(t.ID, err)
		}
		if err != nil {
			return st, err
		}
		settings = append(settings, setting{t.ID, id})
	}
	for _, name := range slices.Sorted(maps.Keys(c.Fixed)) {
		settings = append(settings, setting{name, c.Fixed[name]})
	}
	more, err := w.untilLater(ctx, t, c)
	if err != nil {
		return st, err
	}
	if settings = append(settings, more...); len(settings) == 0 {
		return statement{}, nil
	}
	for _, set := range settings {
		st.Columns = append(st.Columns, w.dialect.Quote(set.column))
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
	w.update(&st, t, ids[0], guard)
	w.willStamp(t, c, ids[0])
	return st, nil
}

// adding completes the statement of a new record.
func (w *writer) adding(ctx context.Context, t table, c environment.Change, st statement, settings []setting) (statement, error) {
	stamps, err := w.forNew(ctx, t, c, settings)
	if err != nil {
		return st, err
	}
	for _, set := range stamps {
		st.Columns = append(st.Columns, w.dialect.Quote(set.column))
		st.Args = append(st.Args, set.stored)
	}
	st.Place, st.NoBulk = t.place, t.described.NoBulk
	if !w.ready[t.place] {
		w.ready[t.place] = true
		if err := w.dialect.BeforeInserts(ctx, w.q, t.place, t.ID); err != nil {
			return st, w.explain(err)
		}
	}
	st.Query = w.insert(st, 1)
	w.given(t.place, settings)
	return st, nil
}

// given notes into which columns of a place values were written.
func (w *writer) given(place string, settings []setting) {
	if w.inserted[place] == nil {
		w.inserted[place] = map[string]bool{}
	}
	for _, set := range settings {
		w.inserted[place][set.column] = true
	}
}

// whereIs locates the record of a change: where it has an internal id, by what told it when
// it was read, else by its key or the key that it had.
func (w *writer) whereIs(ctx context.Context, t table, c environment.Change) ([]identity, error) {
	if id := w.met[c.Type][c.At]; c.At != "" && t.ID != "" && id != nil {
		return []identity{id}, nil
	}
	found, err := w.locate(ctx, w.m, c.Type, []record.Key{c.Key})
	if err != nil || len(found[c.Key.Order()]) > 0 || c.Was == nil {
		return found[c.Key.Order()], err
	}
	found, err = w.locate(ctx, w.m, c.Type, []record.Key{*c.Was})
	return found[c.Was.Order()], err
}

// update makes the statement that changes the record with an identity, as long as what the
// guard says holds.
func (w *writer) update(st *statement, t table, id identity, guard []guarded) {
	set := strings.Join(st.Columns, " = "+engine.Mark+", ") + " = " + engine.Mark
	var where []string
	for i, column := range t.identity {
		if id[i] == nil {
			where = append(where, w.dialect.Quote(column)+" IS NULL")
			continue
		}
		where = append(where, w.dialect.Quote(column)+" = "+engine.Mark)
		st.Args = append(st.Args, id[i])
	}
	for _, g := range guard {
		where = append(where, w.dialect.In([]string{w.dialect.Quote(g.column)}, len(g.words)))
		for _, word := range g.words {
			st.Args = append(st.Args, word)
		}
		st.hint = fmt.Sprintf("; its %s says that it refers to another record type, so that field has to be approved as well", g.column)
	}
	st.Query = fmt.Sprintf("%s %s SET %s WHERE %s", verb(w.can.Update, "UPDATE"), w.dialect.Place(t.place), set, strings.Join(where, " AND "))
}

func (w *writer) insert(st statement, rows int) string {
	one := "(" + engine.Marks(len(st.Args)) + ")"
	return fmt.Sprintf("%s INTO %s (%s) VALUES %s", verb(w.can.Insert, "INSERT"), w.dialect.Place(st.Place), strings.Join(st.Columns, ", "), strings.TrimSuffix(strings.Repeat(one+", ", rows), ", "))
}

// verb is the engine's own word, or the usual one.
func verb(own, usual string) string { return cmp.Or(own, usual) }

// guarded is a field that must say one of some words for a reference to mean what was
// approved.
type guarded struct {
	column string
	words  []string
}

// settings gives what to store for values, and what chooses the types of references
// without being written itself.
func (w *writer) settings(ctx context.Context, t table, fields []record.Field, values []record.Value, fail func(string, error) error) ([]setting, []guarded, error) {
	var out []setting
	var guard []guarded
	for i, field := range fields {
		v := values[i]
		if v.IsAbsent() {
			continue
		}
		stored, err := w.stored(ctx, t, v, field)
		if err == nil {
			out, err = t.set(out, field.Name, v, stored)
		}
		if err != nil {
			return nil, nil, fail(field.Name, err)
		}
		if ref := t.Refers[field.Name]; ref.Chooser != "" && !v.IsNull() {
			more, err := chosenBy(ref, v, fields, values)
			if err != nil {
				return nil, nil, fail(field.Name, err)
			}
			guard = append(guard, more...)
		}
	}
	return out, guard, nil
}

// set adds what a field stores in its columns. One that belongs to another field as well
// has to get the same from both; null says nothing about it, whichever comes first.
func (t table) set(out []setting, field string, v record.Value, stored identity) ([]setting, error) {
	for n, column := range t.Stored(field) {
		at := slices.IndexFunc(out, func(s setting) bool { return s.column == column })
		shared := t.Refers[field].Columns != nil && t.KeptBeside(field, column)
		switch {
		case t.makes(column):
		case shared && v.IsNull():
		case at < 0:
			out = append(out, setting{column, stored[n]})
		case engine.StoredText(out[at].stored) != engine.StoredText(stored[n]):
			return nil, fmt.Errorf("it needs %q in column %s, where another field of the record needs %q", engine.StoredText(stored[n]), column, engine.StoredText(out[at].stored))
		}
	}
	return out, nil
}

// makes reports whether the database computes a column that is in a key, from others that
// are written.
func (t table) makes(column string) bool {
	return t.columns[column].Derived && !t.columns[column].Given
}

// chosenBy makes sure that the field which chooses the type of a reference says that of a
// value: where it is written as well it has to, else the record must say so by itself.
func chosenBy(ref catalog.Reference, v record.Value, fields []record.Field, values []record.Value) ([]guarded, error) {
	var words []string
	for _, word := range slices.Sorted(maps.Keys(ref.Words)) {
		if ref.Words[word] == v.Refers() {
			words = append(words, word)
		}
	}
	at := record.FieldAt(fields, ref.Chooser)
	if at < 0 || values[at].IsAbsent() {
		return []guarded{{ref.Chooser, words}}, nil
	}
	if !slices.Contains(words, values[at].Text()) {
		return nil, fmt.Errorf("it refers to a record of %s, but %s is %q, which means another record type", v.Refers(), ref.Chooser, values[at].Text())
	}
	return nil, nil
}

// stored gives what to store for a value in each of its field's columns.
func (w *writer) stored(ctx context.Context, t table, v record.Value, field record.Field) (identity, error) {
	ref, column := t.Refers[field.Name], t.columns[field.Name]
	one := func(v record.Value) (identity, error) {
		stored, err := w.encode(w.m, t.Type, v, column)
		return identity{stored}, err
	}
	if words, ok := t.Words[field.Name]; ok && v.Kind() == record.Boolean {
		if v.Text() == "true" {
			return identity{words.True}, nil
		}
		return identity{words.False}, nil
	}
	switch {
	case v.IsNull() && ref.None != nil:
		return storedNone(ref.None[0], column), nil
	case v.IsNull():
		return make(identity, max(1, len(ref.Columns))), nil
	case ref.ByKey:
		return one(v.Parts()[0])
	case ref.Inside != nil:
		back, err := w.weaveBack(ctx, w.m, v, cell{Field: field, ref: ref})
		if err != nil {
			return nil, err
		}
		return one(back)
	case ref.To != nil:
		return w.referred(ctx, w.m, v, cell{Field: field, ref: ref}.by(w.m, v.Refers()))
	default:
		return one(v)
	}
}

// storedNone gives what is stored for no reference.
func storedNone(none string, c catalog.Column) identity {
	if n, err := strconv.ParseInt(none, 10, 64); err == nil && c.Kind == record.Integer {
		return identity{n}
	}
	return identity{none}
}

// flush carries out what waits: all at once, and where the database refuses something,
// again one by one, so that the record is known.
func (w *writer) flush(ctx context.Context) error {
	run := w.waiting
	w.waiting, w.size = nil, 0
	if err := w.beforeStamps(ctx); err != nil {
		return err
	}
	if len(run) > 1 {
		done, err := w.bulk(ctx, run)
		if done || err != nil {
			return err
		}
	}
	for _, st := range run {
		err := w.exec(ctx, st)
		var record *environment.RecordError
		if errors.As(err, &record) {
			w.refused[st.change] = err
		} else if err != nil {
			return err
		}
	}
	return nil
}

func (w *writer) bulk(ctx context.Context, run []statement) (done bool, err error) {
	if _, err := w.q.ExecContext(ctx, "SAVEPOINT anagram_bulk"); err != nil {
		return false, w.explain(err)
	}
	if w.can.Bulk != nil {
		all := make([]engine.Statement, len(run))
		for i, st := range run {
			all[i] = st.Statement
		}
		err = w.can.Bulk(ctx, w.q, all)
	} else {
		err = w.joined(ctx, run)
	}
	if err == nil {
		_, err = w.q.ExecContext(ctx, "RELEASE SAVEPOINT anagram_bulk")
		return true, w.explain(err)
	}
	if ctx.Err() != nil {
		return false, ctx.Err()
	}
	if !w.dialect.Refused(err) && !errors.Is(err, engine.ErrRows) {
		return false, w.explain(err)
	}
	_, err = w.q.ExecContext(ctx, "ROLLBACK TO SAVEPOINT anagram_bulk")
	return false, w.explain(err)
}

// maxArgs bounds the values of one statement, below the least that an engine takes.
const maxArgs = 3000

// joined adds rows with the same columns in one statement for many.
func (w *writer) joined(ctx context.Context, run []statement) error {
	for len(run) > 0 {
		n := alike(run, maxArgs/len(run[0].Args))
		query, args := run[0].Query, run[0].Args
		if n > 1 {
			query, args = w.insert(run[0], n), nil
			for _, st := range run[:n] {
				args = append(args, st.Args...)
			}
		}
		stmt, err := w.prepare(ctx, query)
		if err != nil {
			return err
		}
		result, err := stmt.ExecContext(ctx, args...)
		if err != nil {
			return err
		}
		if rows, err := result.RowsAffected(); err == nil && rows != int64(n) {
			return engine.ErrRows
		}
		run = run[n:]
	}
	return nil
}

// alike counts the statements at the head of a run that add rows with the same columns,
// at most so many and at least one. Only a few counts occur, so that statements are
// prepared once.
func alike(run []statement, most int) int {
	n := 1
	for run[0].Place != "" && n < len(run) && n < most && run[n].Query == run[0].Query {
		n++
	}
	for _, size := range []int{100, 10} {
		if n >= size {
			return size
		}
	}
	return 1
}

// exec runs one statement, which must touch exactly one row.
func (s *session) exec(ctx context.Context, st statement) error {
	if err := s.guard(ctx, "SAVEPOINT anagram_write"); err != nil {
		return err
	}
	stmt, err := s.prepare(ctx, st.Query)
	rows := int64(1)
	if err == nil {
		result, execErr := stmt.ExecContext(ctx, st.Args...)
		if err = execErr; err == nil {
			if n, err := result.RowsAffected(); err == nil {
				rows = n
			}
		}
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
		return st.fail("", errors.New(strings.TrimSpace(message+" "+mend)))
	}
	if rows != 1 {
		return st.fail("", fmt.Errorf("%d rows were written, one is expected%s", rows, st.hint))
	}
	return s.guard(ctx, "RELEASE SAVEPOINT anagram_write")
}

// guard runs a statement about savepoints where the engine needs them.
func (s *session) guard(ctx context.Context, statement string) error {
	if !s.can.Savepoints {
		return nil
	}
	_, err := s.q.ExecContext(ctx, statement)
	return s.explain(err)
}
