package agreed

import (
	"slices"

	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/store/parcel"
)

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

// remembering takes down what is agreed on the records of one type.
type Remembering struct {
	Out      *parcel.TypeWriter // nil where nothing is remembered
	Keyed    *Rekeyed           // between note and out where keys may be others than those compared
	Fields   []record.Field
	Compared int
	Whole    bool
}

func (r *Remembering) Note(status match.Status, source, target, agreed *record.Record) error {
	if r.Out == nil {
		return nil
	}
	// Of most records all is the same, and what is agreed is the line that they have.
	if status == match.Same && r.Keyed == nil && len(r.Fields) == r.Compared && source.Line != nil && !slices.ContainsFunc(source.Values, record.Value.IsAbsent) {
		return r.Out.AddLine(source.Key, source.Line)
	}
	if err := loaded(agreed); err != nil {
		return err
	}
	if kept := remembered(r.Fields, r.Compared, r.Whole, source, target, agreed); kept != nil {
		kept.ChangedAt, kept.ChangedBy, kept.Why, kept.Through, kept.Line = "", "", "", "", nil
		if r.Keyed != nil {
			return r.Keyed.add(*kept)
		}
		return r.Out.Add(*kept)
	}
	return nil
}

func (r *Remembering) Finish() error {
	if r.Out == nil {
		return nil
	}
	if r.Keyed != nil {
		if err := r.Keyed.into(r.Out); err != nil {
			return err
		}
	}
	_, err := r.Out.Finish(false)
	return err
}

func (r *Remembering) Discard() {
	if r.Keyed != nil {
		r.Keyed.Sorter.Close()
	}
	if r.Out != nil {
		r.Out.Discard()
	}
}
