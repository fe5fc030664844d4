package agreed

import (
	"bytes"

	"anagram/internal/core/pairing"
	"anagram/internal/core/record"
	"anagram/internal/store/parcel"
	"anagram/internal/store/sorting"
)

// Agreed values are kept by the keys that were agreed on, and compared by those of the
// source; where pairs make these differ, they are brought into the other order.

// bySource gives a stream of agreed records by the source's keys, in their order.
func BySource(scratch string, in record.Stream, names *pairing.Names, typ string, fields []record.Field, shapes record.Shapes) record.Stream {
	if in == nil {
		return nil
	}
	return func(yield func(record.Record, error) bool) {
		sorter := sorting.New(scratch)
		defer sorter.Close()
		for rec, err := range in {
			if err == nil {
				err = loaded(&rec)
			}
			if err == nil {
				rec = names.ToSource(typ, fields, rec)
				err = sorter.Add(sorting.Entry{Order: rec.Key.Order(), Payload: record.AppendLine(append(record.AppendKey(nil, rec.Stands()), 0), fields, rec)})
			}
			if err != nil {
				yield(rec, err)
				return
			}
		}
		last := ""
		for entry, err := range sorter.Sorted() {
			var rec record.Record
			stands, line, _ := bytes.Cut(entry.Payload, []byte{0})
			if err == nil {
				rec, err = record.ParseLine(line, typ, fields, shapes)
			}
			if err == nil && entry.Order == last {
				continue // two names of one record were agreed on: one of them is from long ago
			}
			last = entry.Order
			if err == nil {
				var was record.Key
				if was, err = shapes.ParseKey(stands, typ); was.Order() != rec.Key.Order() {
					rec.Was = &was
				}
			}
			if !yield(rec, err) || err != nil {
				return
			}
		}
	}
}

// rekeyed collects agreed records in another order than that of the keys they are kept by.
type Rekeyed struct {
	Sorter *sorting.Sorter
	Typ    string
	Fields []record.Field
	Shapes record.Shapes
}

func (r *Rekeyed) add(rec record.Record) error {
	rec.ChangedAt, rec.ChangedBy, rec.Why, rec.Through, rec.Was = "", "", "", "", nil
	return r.Sorter.Add(sorting.Entry{Order: rec.Key.Order(), Payload: record.AppendLine(nil, r.Fields, rec)})
}

func (r *Rekeyed) into(out *parcel.TypeWriter) error {
	last := ""
	for entry, err := range r.Sorter.Sorted() {
		if err != nil {
			return err
		}
		if entry.Order == last {
			continue
		}
		last = entry.Order
		rec, err := record.ParseLine(entry.Payload, r.Typ, r.Fields, r.Shapes)
		if err == nil {
			err = out.Add(rec)
		}
		if err != nil {
			return err
		}
	}
	return nil
}
