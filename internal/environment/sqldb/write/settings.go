package write

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
	"anagram/internal/environment/sqldb/engine"
	"anagram/internal/environment/sqldb/query"
	"anagram/internal/environment/sqldb/translate"
)

// From the values of a change to what is stored in columns.

// setting is a column with what to store in it.
type setting struct {
	column string
	stored any
}

// guarded is a field that must say one of some words for a reference to mean what was
// approved.
type guarded struct {
	column string
	words  []string
}

// settings gives what to store for values, and what chooses the types of references
// without being written itself.
func (w *writer) settings(ctx context.Context, t query.Table, fields []record.Field, values []record.Value,
	fail func(string, error) error) ([]setting, []guarded, error) {
	var out []setting
	var guard []guarded
	for i, field := range fields {
		v := values[i]
		if v.IsAbsent() {
			continue
		}
		stored, err := w.stored(ctx, t, v, field)
		if err == nil {
			out, err = set(t, out, field.Name, v, stored)
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
func set(t query.Table, out []setting, field string, v record.Value, stored query.Identity) ([]setting, error) {
	for n, column := range t.Stored(field) {
		at := slices.IndexFunc(out, func(s setting) bool { return s.column == column })
		shared := t.Refers[field].Columns != nil && t.KeptBeside(field, column)
		switch {
		case makes(t, column):
		case shared && v.IsNull():
		case at < 0:
			out = append(out, setting{column, stored[n]})
		case engine.StoredText(out[at].stored) != engine.StoredText(stored[n]):
			return nil, fmt.Errorf("it needs %q in column %s, where another field of the record needs %q",
				engine.StoredText(stored[n]), column, engine.StoredText(out[at].stored))
		}
	}
	return out, nil
}

// makes reports whether the database computes a column that is in a key, from others that
// are written.
func makes(t query.Table, column string) bool {
	return t.Columns[column].Derived && !t.Columns[column].Given
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
		return nil, fmt.Errorf("it refers to a record of %s, but %s is %q, which means another record type", v.Refers(), ref.Chooser,
			values[at].Text())
	}
	return nil, nil
}

// stored gives what to store for a value in each of its field's columns: of an attachment that is
// written in pieces the first.
func (w *writer) stored(ctx context.Context, t query.Table, v record.Value, field record.Field) (query.Identity, error) {
	if t.Refers[field.Name].To == nil {
		if first, more, ok, err := w.begins(v, field.Name); ok || err != nil {
			w.more = append(w.more, more)
			return query.Identity{first}, err
		}
	}
	return w.Stored(ctx, w.m, t, v, field)
}

// inForms gives settings in the forms in which their fields are to be stored.
func inForms(t query.Table, settings []setting, forms map[string]record.Stored) []setting {
	for i, set := range settings {
		if form, ok := forms[set.column]; ok {
			stored, ok := translate.StoredAs(form)
			if c := t.Columns[set.column]; c.Kind == record.Integer && form.Kind == "text" {
				stored = translate.StoredNone(form.Text, c)[0]
			}
			if ok && (t.Refers[set.column].Inside == nil || sameInside(stored, set.stored)) {
				settings[i].stored = stored
			}
		}
	}
	return settings
}

// sameInside reports whether a value with internal ids inside, as it was stored once, says the same as
// what would be written now: the ids may be others by now.
func sameInside(was, now any) bool {
	a, errA := record.Parse(record.JSON, engine.StoredText(was))
	b, errB := record.Parse(record.JSON, engine.StoredText(now))
	if errA != nil || errB != nil {
		return engine.StoredText(was) == engine.StoredText(now)
	}
	return a.Equal(b)
}
