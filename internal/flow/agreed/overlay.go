package agreed

import (
	"bytes"
	"context"
	"iter"

	"anagram/internal/core/pairing"
	"anagram/internal/core/record"
	"anagram/internal/store/docket"
	"anagram/internal/store/sorting"
)

// overlay writes a type with what was imported over what was agreed before.
func (a *Writing) Overlay(ctx context.Context, t docket.Type, shapes record.Shapes, names *pairing.Names, exportedAt string, sorter *sorting.Sorter) error {
	scratch, err := a.session.Workspace.Scratch()
	if err != nil {
		return err
	}
	a.Done[t.Name] = true
	a.Took(t.Name, exportedAt)
	fields := a.Fields(t.Name, shapes, t.Fields)
	out := a.Writer.Type(t.Name, fields)
	defer out.Discard()
	add, finish := out.Add, func() error { return nil }
	stream := Stream(ctx, a.Old, t.Name, shapes, fields)
	if names.Touches(t.Name) {
		keyed := &Rekeyed{Sorter: sorting.New(scratch), Typ: t.Name, Fields: fields, Shapes: shapes}
		defer keyed.Sorter.Close()
		add, finish = keyed.add, func() error { return keyed.into(out) }
		stream = BySource(scratch, stream, names, t.Name, fields, shapes)
	}
	if stream == nil {
		stream = func(func(record.Record, error) bool) {}
	}
	next, stop := iter.Pull2(stream)
	defer stop()
	old, err, more := next()
	keep := func() error { // what was agreed before
		if err := loaded(&old); err != nil {
			return err
		}
		old.Key, old.Was = old.Stands(), nil
		if err := add(old); err != nil {
			return err
		}
		old, err, more = next()
		return err
	}
	for entry, sortErr := range sorter.Sorted() {
		if sortErr != nil {
			return sortErr
		}
		stands, line, _ := bytes.Cut(entry.Payload, []byte{0})
		fresh, parseErr := record.ParseLine(line, t.Name, fields, shapes)
		if parseErr != nil {
			return parseErr
		}
		for more && err == nil && old.Key.Compare(fresh.Key) < 0 {
			if err := keep(); err != nil {
				return err
			}
		}
		if err != nil {
			return err
		}
		if more && old.Key.Compare(fresh.Key) == 0 {
			if err := loaded(&old); err != nil {
				return err
			}
			for i := range fresh.Values {
				if fresh.Values[i].IsAbsent() {
					fresh.Values[i] = old.Values[i]
				}
			}
			old, err, more = next()
		}
		if fresh.Key, parseErr = shapes.ParseKey(stands, t.Name); parseErr != nil {
			return parseErr
		}
		if err := add(fresh); err != nil {
			return err
		}
	}
	for more && err == nil {
		if err := keep(); err != nil {
			return err
		}
	}
	if err == nil {
		err = finish()
	}
	if err != nil {
		return err
	}
	_, err = out.Finish(false)
	return err
}
