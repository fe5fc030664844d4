package agreed

import (
	"context"
	"slices"

	"anagram/internal/core/match"
	"anagram/internal/core/pairing"
	"anagram/internal/core/record"
	"anagram/internal/store/parcel"
)

// Compared is one type of a match, as far as it matters for what is agreed.
type Compared struct {
	Type       string
	Fields     []record.Field // those that are compared
	Shapes     record.Shapes
	Names      *pairing.Names // by which the source knows what was agreed; nil is by the same
	ExportedAt string         // when the source was read
	Whole      bool           // both sides were read whole
	Scratch    string
	Zones      Zones
}

// Type gives the agreed records of a type by the source's keys, nil where nothing is
// known, and a Remembering that takes down what is agreed now. Known may be nil, as may w:
// then nothing is remembered.
func Type(ctx context.Context, known *parcel.Reader, w *Writing, c Compared) (record.Stream, *Remembering, error) {
	r := &Remembering{fields: c.Fields, compared: len(c.Fields), whole: c.Whole}
	if w != nil {
		r.fields = w.begin(c.Type, c.ExportedAt, c.Fields)
		var err error
		if r.out, err = w.out.InOrder(c.Type, r.fields); err != nil {
			return nil, r, err
		}
	}
	records := stream(ctx, known, c.Type, c.Shapes, r.fields, c.Zones, c.Names.Touches(c.Type))
	if c.Names.Touches(c.Type) {
		r.keyed = newRekeyed(c.Scratch, c.Type, r.fields, c.Shapes)
		records = bySource(c.Scratch, records, c.Names, c.Type, r.fields, c.Shapes)
	}
	return records, r, nil
}

// Remembering takes down what is agreed on the records of one type.
type Remembering struct {
	out      *parcel.TypeWriter // nil where nothing is remembered
	keyed    *rekeyed           // between Note and out where keys may be others than those compared
	fields   []record.Field     // those compared first, then others that are kept
	compared int
	whole    bool
}

// Note is match.Input.Remember.
func (r *Remembering) Note(status match.Status, source, target, agreed *record.Record) error {
	if r.out == nil {
		return nil
	}
	// Of most records all is the same, and what is agreed is the line that they have. One whose
	// values were not read has the line of an environment, which leaves out no field.
	if status == match.Same && r.keyed == nil && len(r.fields) == r.compared && source.Line != nil &&
		!slices.ContainsFunc(source.Values, record.Value.IsAbsent) {
		return r.out.AddLine(source.Key, source.Line)
	}
	// What neither side was asked about stays as it was.
	if source == nil && target == nil && !r.whole && r.keyed == nil && agreed != nil && agreed.Line != nil && agreed.Was == nil {
		return r.out.AddLine(agreed.Key, agreed.Line)
	}
	for _, r := range []*record.Record{source, target, agreed} {
		if err := loaded(r); err != nil {
			return err
		}
	}
	kept := remembered(r.fields, r.compared, r.whole, source, target, agreed)
	if kept == nil {
		return nil
	}
	kept.ChangedAt, kept.ChangedBy, kept.Why, kept.Through, kept.Line = "", "", "", "", nil
	if r.keyed != nil {
		return r.keyed.add(*kept)
	}
	return r.out.Add(*kept)
}

// Finish keeps what was noted.
func (r *Remembering) Finish() error {
	if r.out == nil {
		return nil
	}
	if r.keyed != nil {
		if err := r.keyed.into(r.out); err != nil {
			return err
		}
	}
	_, err := r.out.Finish(false)
	return err
}

// Discard forgets what was noted; after Finish it does nothing.
func (r *Remembering) Discard() {
	if r.keyed != nil {
		r.keyed.sorter.Close()
	}
	if r.out != nil {
		r.out.Discard()
	}
}

// remembered works out what is agreed on a key after a match; nil is nothing. The fields
// are those compared first, then others that are kept.
func remembered(fields []record.Field, compared int, whole bool, source, target, agreed *record.Record) *record.Record {
	switch {
	case source == nil && target == nil && whole:
		return nil // neither side has it any more
	case (source == nil || target == nil) && agreed == nil:
		return nil
	case source == nil || target == nil:
		kept := *agreed
		kept.Key = agreed.Stands()
		return &kept
	}
	key := source.Key
	if target.Was != nil { // they do not agree on the key yet
		if key = *target.Was; agreed != nil {
			key = agreed.Stands()
		}
	}
	out := record.Record{Key: key, Values: make([]record.Value, len(fields))}
	known := false
	for i, field := range fields {
		out.Values[i] = record.AbsentValue()
		if agreed != nil {
			out.Values[i] = agreed.Values[i]
		}
		if i < compared && !source.Values[i].IsAbsent() && !target.Values[i].IsAbsent() && field.Same(source.Values[i], target.Values[i]) {
			out.Values[i] = source.Values[i]
		}
		known = known || !out.Values[i].IsAbsent()
	}
	if !known && len(fields) > 0 {
		return nil
	}
	return &out
}
