package agreed

import (
	"bytes"
	"context"
	"encoding/json"
	"iter"
	"maps"
	"slices"

	"anagram/internal/core/catalog"
	"anagram/internal/core/known"
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
	// Forget and Gone: see known.Taught.
	Forget []string
	Gone   bool
	Own    *known.Own
}

// forgotten is what is to be forgotten of a record; its JSON holds no zero byte.
type forgotten struct {
	Fields []string
	Gone   bool
	Own    *known.Own
}

// A written record is sorted by its key, with what is to be forgotten of it before its line.
func (w Written) entry(fields []record.Field) spill.Entry {
	out := pack(w.Record, w.Stands, fields)
	head, _ := json.Marshal(forgotten{w.Forget, w.Gone, w.Own})
	out.Payload = append(append(head, 0), out.Payload...)
	return out
}

// taught gives back what an entry was made of.
func taught(entry spill.Entry, typ string, fields []record.Field, shapes record.Shapes) (known.Taught, error) {
	head, rest, _ := bytes.Cut(entry.Payload, []byte{0})
	var marks forgotten
	if err := json.Unmarshal(head, &marks); err != nil {
		return known.Taught{}, err
	}
	rec, err := unpack(spill.Entry{Order: entry.Order, Payload: rest}, typ, fields, shapes)
	return known.Taught{Record: rec, Forget: marks.Fields, Gone: marks.Gone, Own: marks.Own}, err
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
		if err := sorters[one.Type].Add(one.entry(b.Fields[one.Type])); err != nil {
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
	if _, err = out.Finish(false); err != nil || w.old == nil || !sameShape(w.old.Manifest.Keys[typ], w.shapes[typ]) {
		return err
	}
	return w.copySeen(ctx, typ)
}

func unpacked(sorter *spill.Sorter, typ string, fields []record.Field, shapes record.Shapes) iter.Seq2[known.Taught, error] {
	return func(yield func(known.Taught, error) bool) {
		for entry, err := range sorter.Sorted() {
			var one known.Taught
			if err == nil {
				one, err = taught(entry, typ, fields, shapes)
			}
			if !yield(one, err) || err != nil {
				return
			}
		}
	}
}

// over lays what was taught over what was known before, both in key order, into add. Records are added
// by the keys that they are kept by.
func over(before record.Stream, fresh iter.Seq2[known.Taught, error], fields []record.Field, add func(record.Record) error) error {
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
	for one, freshErr := range fresh {
		if freshErr != nil {
			return freshErr
		}
		rec := one.Record
		if err := upTo(func(key record.Key) bool { return key.Compare(rec.Key) < 0 }); err != nil {
			return err
		}
		var had *record.Record
		if more && old.Key.Compare(rec.Key) == 0 {
			if err := loaded(&old); err != nil {
				return err
			}
			met := old
			had = &met
			old, err, more = next()
		}
		if left := one.Over(fields, had); left != nil {
			if err := keep(*left); err != nil {
				return err
			}
		}
	}
	return upTo(func(record.Key) bool { return true })
}
