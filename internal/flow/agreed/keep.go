package agreed

import (
	"context"
	"iter"
	"maps"
	"slices"
	"strings"

	"anagram/internal/core/catalog"
	"anagram/internal/core/pairing"
	"anagram/internal/core/record"
	"anagram/internal/files/spill"
	"anagram/internal/flow/session"
)

// Written is a record that both sides have by now as it was approved: of its values those
// that were written, the others absent.
type Written struct {
	Type   string
	Record record.Record // by the source's key
	Stands record.Key    // the key that both agree on
	// Forget are fields on which nothing is agreed any more; Gone says so of the record.
	Forget []string
	Gone   bool
}

// marked gives the record with what is to be forgotten of it, in places of a record line that
// agreed values do not use.
func (w Written) marked() record.Record {
	rec := w.Record
	rec.Why, rec.Through = "", strings.Join(w.Forget, "\x00")
	if w.Gone {
		rec.Why = gone
	}
	return rec
}

const gone = "gone"

// forgotten takes away what a record that was marked is to forget; ok is false where nothing
// is left of it.
func forgotten(rec record.Record, fields []record.Field) (out record.Record, ok bool) {
	if rec.Why == gone {
		return rec, false
	}
	known := len(fields) == 0 || rec.Through == ""
	names := strings.Split(rec.Through, "\x00")
	for i, field := range fields {
		if rec.Through != "" && slices.Contains(names, field.Name) {
			rec.Values[i] = record.AbsentValue()
		}
		known = known || !rec.Values[i].IsAbsent()
	}
	rec.Why, rec.Through = "", ""
	return rec, known
}

// Between says what agreed values are about.
type Between struct {
	Source, Target string
	ExportedAt     string // when the source was read
	Catalog        *catalog.Catalog
	Shapes         record.Shapes
	Fields         map[string][]record.Field // by type, those of Written.Record
	Names          *pairing.Names            // pairs as they were, nil for none
	Zones          Zones
}

// Keep remembers that both sides now have what was written, in whatever order it comes.
func Keep(ctx context.Context, s *session.Session, b Between, written iter.Seq2[Written, error]) error {
	old, err := Open(s, b.Source, b.Target)
	if err != nil {
		return err
	}
	if old != nil {
		defer old.Close()
	}
	w, err := Begin(s, b.Source, b.Target, old, b.Shapes, b.Catalog)
	if err != nil {
		return err
	}
	defer w.Discard()
	scratch, err := s.Workspace.Scratch()
	if err != nil {
		return err
	}
	sorters := map[string]*spill.Sorter{}
	defer func() {
		for _, sorter := range sorters {
			sorter.Close()
		}
	}()
	for one, err := range written {
		if err != nil {
			return err
		}
		if sorters[one.Type] == nil {
			sorters[one.Type] = spill.NewSorter(scratch)
		}
		if err := sorters[one.Type].Add(pack(one.marked(), one.Stands, b.Fields[one.Type])); err != nil {
			return err
		}
	}
	for _, typ := range slices.Sorted(maps.Keys(sorters)) {
		if err := w.overlay(ctx, typ, b, scratch, sorters[typ]); err != nil {
			return err
		}
	}
	return w.Finish(ctx)
}

// overlay writes a type with what was written over what was agreed before. Both come in
// the order of the source's keys.
func (w *Writing) overlay(ctx context.Context, typ string, b Between, scratch string, written *spill.Sorter) error {
	fields := w.begin(typ, b.ExportedAt, b.Fields[typ])
	touched := b.Names.Touches(typ)
	out, err := w.out.Type(typ, fields), error(nil)
	if !touched {
		if out, err = w.out.InOrder(typ, fields); err != nil {
			return err
		}
	}
	defer out.Discard()
	add, finish := out.Add, func() error { return nil }
	before := stream(ctx, w.old, typ, b.Shapes, fields, b.Zones, touched)
	if touched {
		keyed := newRekeyed(scratch, typ, fields, b.Shapes)
		defer keyed.sorter.Close()
		add, finish = keyed.add, func() error { return keyed.into(out) }
		before = bySource(scratch, before, b.Names, typ, fields, b.Shapes)
	}
	if err := over(before, unpacked(written, typ, fields, b.Shapes), fields, add); err != nil {
		return err
	}
	if err := finish(); err != nil {
		return err
	}
	_, err = out.Finish(false)
	return err
}

func unpacked(sorter *spill.Sorter, typ string, fields []record.Field, shapes record.Shapes) record.Stream {
	return func(yield func(record.Record, error) bool) {
		for entry, err := range sorter.Sorted() {
			var rec record.Record
			if err == nil {
				rec, err = unpack(entry, typ, fields, shapes)
			}
			if !yield(rec, err) || err != nil {
				return
			}
		}
	}
}

// over merges two streams in key order into add: of a key that both have, the values of
// fresh, and where these are absent those of before. Records are added by the keys that
// they are kept by.
func over(before, fresh record.Stream, fields []record.Field, add func(record.Record) error) error {
	if before == nil {
		before = func(func(record.Record, error) bool) {}
	}
	next, stop := iter.Pull2(before)
	defer stop()
	old, err, more := next()
	keep := func(rec record.Record) error {
		rec.Key, rec.Was = rec.Stands(), nil
		return add(rec)
	}
	// upTo keeps what was agreed before on keys below a limit.
	upTo := func(below func(record.Key) bool) error {
		for more && err == nil && below(old.Key) {
			if old.Line == nil {
				if err := loaded(&old); err != nil {
					return err
				}
			}
			if err := keep(old); err != nil {
				return err
			}
			old, err, more = next()
		}
		return err
	}
	for rec, freshErr := range fresh {
		if freshErr != nil {
			return freshErr
		}
		if err := upTo(func(key record.Key) bool { return key.Compare(rec.Key) < 0 }); err != nil {
			return err
		}
		if more && old.Key.Compare(rec.Key) == 0 {
			if err := loaded(&old); err != nil {
				return err
			}
			for i := range rec.Values {
				if rec.Values[i].IsAbsent() {
					rec.Values[i] = old.Values[i]
				}
			}
			old, err, more = next()
		}
		left, ok := forgotten(rec, fields)
		if !ok {
			continue
		}
		if err := keep(left); err != nil {
			return err
		}
	}
	return upTo(func(record.Key) bool { return true })
}
