package matching

import (
	"context"

	"anagram/internal/core/record"
)

// The source's records of a type as they are compared.

// fromParcel gives the compared fields of the parcel's records. A parcel has no internal
// ids; where a key occurs twice, the spelling of each tells the records apart.
func (c compared) fromParcel(ctx context.Context, typ string, fields []record.Field, at []int) record.Stream {
	pt, _ := c.parcel.Manifest.Type(typ)
	all := len(at) == len(pt.Fields) // in their order, so that the line is that of the parcel
	complete := func(rec *record.Record) {
		values := make([]record.Value, len(at))
		for i, from := range at {
			values[i] = rec.Values[from]
		}
		rec.Values, rec.ID = values, c.catalog.Address(typ, rec.Key)
		rec.Line = record.AppendLine(nil, fields, record.Record{Key: rec.Key, Values: values})
	}
	var load func(*record.Record) error
	completed := func(r *record.Record) error {
		err := load(r)
		if err == nil {
			complete(r)
		}
		return err
	}
	return func(yield func(record.Record, error) bool) {
		records := c.records
		if !c.beside.Touches(typ) {
			records = c.parcel.Lines
		}
		for rec, err := range records(ctx, typ) {
			switch {
			case err != nil:
			case rec.Load == nil:
				complete(&rec)
			case !all:
				if err = rec.Load(&rec); err == nil {
					complete(&rec)
				}
			default:
				if load == nil { // which is the same for all of them
					load = rec.Load
				}
				rec.Load = completed
			}
			c.session.Progress.Add(1)
			if !yield(rec, err) {
				return
			}
		}
	}
}

// unknownInTarget says which records a target that is a parcel may have without their
// being in it: any, of a type that was not exported whole.
func (c compared) unknownInTarget(typ string) func(record.Key) bool {
	if c.against == nil {
		return nil
	}
	pt, _ := c.against.Manifest.Type(typ)
	return func(record.Key) bool { return !pt.Whole }
}
