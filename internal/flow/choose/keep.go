package choose

import (
	"bytes"
	"context"
	"errors"
	"slices"

	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/files/spill"
)

// What a condition picks, and what is found of parts by reading all of them, is kept as it was
// read: it need not be read again to be written. That holds as long as nothing else of its type
// is picked.

// keeping is what was kept of a type.
type keeping struct {
	lines *spill.Sorter
	part  bool // something of the type was picked in another way
}

// keep begins to keep what one reading is going to pick of a type; nil where that would not do:
// its attachments are read when they are written, or something of it is picked already. What an
// earlier reading kept is given up then, as this one may come upon the same records.
func (g *Related) keep(typ string) (*keeping, error) {
	if k := g.kept[typ]; k != nil {
		if !k.part {
			k.drop()
		}
		return nil, nil
	}
	if slices.ContainsFunc(g.Env.Fit.Fields[typ], func(f record.Field) bool { return f.Kind == record.Bytes }) {
		return nil, nil
	}
	if n, err := g.Set.Count(typ); err != nil || n > 0 {
		return nil, err
	}
	k := &keeping{lines: spill.NewSorter(g.scratch)}
	g.kept[typ] = k
	return k, nil
}

// add keeps a record that was picked. Line is what a parcel has of it, without stamps.
func (k *keeping) add(rec record.Record, line []byte) error {
	if k.part {
		return nil
	}
	payload := make([]byte, 0, len(rec.ChangedAt)+len(rec.ChangedBy)+len(line)+2)
	payload = append(append(payload, rec.ChangedAt...), 0)
	payload = append(append(payload, rec.ChangedBy...), 0)
	return k.lines.Add(spill.Entry{Order: rec.Key.Order(), Payload: append(payload, line...)})
}

// pickKept picks a record and keeps its line; of a type of which nothing is kept it just picks.
func (g *Related) pickKept(k *keeping, r spill.Pick, rec record.Record, line []byte, round int) error {
	if k == nil {
		return g.pick(r, rec.Key, round)
	}
	if err := k.add(rec, line); err != nil {
		return err
	}
	r.Order, r.Key = rec.Key.Order(), string(record.AppendKey(nil, rec.Key))
	return g.Set.Pick(r, round)
}

// pickedApart notes that a record is picked that is not kept, unless it was before.
func (g *Related) pickedApart(typ, order string) error {
	k := g.kept[typ]
	if k == nil || k.part {
		return nil
	}
	had, err := g.Set.Has(typ, order)
	if err == nil && !had {
		k.drop()
	}
	return err
}

// drop gives up what was kept: it is read again.
func (k *keeping) drop() {
	k.part = true
	k.lines.Close()
}

// Kept gives the lines of all records of a type that were picked, in the order of their keys,
// where they were kept; ok is false where they have to be read.
func (g *Related) Kept(typ string) (lines record.Stream, ok bool) {
	k := g.kept[typ]
	if k == nil || k.part {
		return nil, false
	}
	return func(yield func(record.Record, error) bool) {
		for entry, err := range k.lines.Sorted() {
			rec := record.Record{Key: record.KeyByOrder(entry.Order)}
			if err == nil {
				at, rest, _ := bytes.Cut(entry.Payload, []byte{0})
				by, line, _ := bytes.Cut(rest, []byte{0})
				rec.ChangedAt, rec.ChangedBy, rec.Line = string(at), string(by), line
			}
			if !yield(rec, err) || err != nil {
				return
			}
		}
	}, true
}

// Close removes what is known of the records picked.
func (g *Related) Close() error {
	for _, k := range g.kept {
		k.lines.Close()
	}
	return g.Set.Close()
}

// keepOrRead reads records whole and has them kept. Where one of them cannot be told as a whole,
// which matters only if it is picked, they are read again with just what refers to others.
func (g *Related) keepOrRead(ctx context.Context, kept *keeping, r environment.Reading,
	do func(rec record.Record, line []byte, kept *keeping) error) error {
	if kept != nil {
		err := g.whole(ctx, r, func(rec record.Record, line []byte) error { return do(rec, line, kept) })
		var one *environment.RecordError
		if !errors.As(err, &one) {
			return err
		}
		kept.drop()
	}
	return g.read(ctx, r, func(rec record.Record) error { return do(rec, nil, nil) })
}

// whole reads records with all of their fields. Do is given each with just those that refer to
// others, as read gives it, and its line.
func (g *Related) whole(ctx context.Context, r environment.Reading, do func(rec record.Record, line []byte) error) error {
	r.Fields = g.Env.Fit.Fields[r.Type]
	for rec, err := range record.Ahead(g.Env.Read(ctx, g.Model, r)) {
		if err == nil {
			line := rec.Line
			if line == nil {
				bare := rec
				bare.ChangedAt, bare.ChangedBy = "", ""
				line = record.AppendLine(nil, r.Fields, bare)
				rec.Values = referring(r.Fields, rec.Values)
			}
			err = do(rec, line)
		}
		if err != nil {
			return err
		}
		g.Session.Progress.Add(1)
	}
	return nil
}

// referring gives the values of the fields that refer to others.
func referring(fields []record.Field, values []record.Value) []record.Value {
	var out []record.Value
	for i, field := range fields {
		if refers(field) {
			out = append(out, values[i])
		}
	}
	return out
}

func refers(field record.Field) bool {
	return field.Kind == record.Reference || field.Kind == record.Woven
}
