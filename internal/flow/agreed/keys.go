package agreed

import (
	"bytes"
	"iter"

	"anagram/internal/core/pairing"
	"anagram/internal/core/record"
	"anagram/internal/files/spill"
	"anagram/internal/store/parcel"
)

// bySource gives a stream of agreed records by the source's keys, in their order.
func bySource(scratch string, in record.Stream, names *pairing.Names, typ string, fields []record.Field,
	shapes record.Shapes) record.Stream {
	if in == nil {
		return nil
	}
	return func(yield func(record.Record, error) bool) {
		sorter := spill.NewSorter(scratch)
		defer sorter.Close()
		for rec, err := range in {
			if err == nil {
				err = loaded(&rec)
			}
			if err == nil {
				rec = names.ToSource(typ, fields, rec)
				err = sorter.Add(pack(rec, rec.Stands(), fields))
			}
			if err != nil {
				yield(rec, err)
				return
			}
		}
		last := ""
		for entry, err := range sorter.Sorted() {
			var rec record.Record
			if err == nil {
				rec, err = unpack(entry, typ, fields, shapes)
			}
			if err == nil && entry.Order == last {
				continue // two names of one record were agreed on: one of them is from long ago
			}
			last = entry.Order
			if !yield(rec, err) || err != nil {
				return
			}
		}
	}
}

// keysBySource gives keys by which records are known as the source knows them, in their order.
func keysBySource(scratch string, in iter.Seq2[record.Key, error], names *pairing.Names, typ string,
	shapes record.Shapes) iter.Seq2[record.Key, error] {
	return func(yield func(record.Key, error) bool) {
		sorter := spill.NewSorter(scratch)
		defer sorter.Close()
		for key, err := range in {
			if err == nil {
				key = names.Source(typ, key)
				err = sorter.Add(spill.Entry{Order: key.Order(), Payload: record.AppendKey(nil, key)})
			}
			if err != nil {
				yield(key, err)
				return
			}
		}
		last := ""
		for entry, err := range sorter.Sorted() {
			var key record.Key
			if err == nil && entry.Order == last {
				continue
			}
			if last = entry.Order; err == nil {
				key, err = shapes.ParseKey(entry.Payload, typ)
			}
			if !yield(key, err) || err != nil {
				return
			}
		}
	}
}

// pack writes a record for sorting by its key, with the key that it is kept by.
func pack(rec record.Record, stands record.Key, fields []record.Field) spill.Entry {
	return spill.Entry{Order: rec.Key.Order(), Payload: record.AppendLine(append(record.AppendKey(nil, stands), 0), fields, rec)}
}

// unpack gives the record back, with Was where it is kept by another key.
func unpack(entry spill.Entry, typ string, fields []record.Field, shapes record.Shapes) (record.Record, error) {
	stands, line, _ := bytes.Cut(entry.Payload, []byte{0})
	rec, err := record.ParseLine(line, typ, fields, shapes)
	if err != nil {
		return rec, err
	}
	was, err := shapes.ParseKey(stands, typ)
	if err == nil && was.Order() != rec.Key.Order() {
		rec.Was = &was
	}
	return rec, err
}

// rekeyed collects agreed records in another order than that of the keys they are kept by.
type rekeyed struct {
	sorter *spill.Sorter
	typ    string
	fields []record.Field
	shapes record.Shapes
}

func newRekeyed(scratch, typ string, fields []record.Field, shapes record.Shapes) *rekeyed {
	return &rekeyed{sorter: spill.NewSorter(scratch), typ: typ, fields: fields, shapes: shapes}
}

func (r *rekeyed) add(rec record.Record) error {
	rec.Was = nil
	return r.sorter.Add(spill.Entry{Order: rec.Key.Order(), Payload: record.AppendLine(nil, r.fields, rec)})
}

// into gives what was collected to a type of a parcel, each key once.
func (r *rekeyed) into(out *parcel.TypeWriter) error {
	last := ""
	for entry, err := range r.sorter.Sorted() {
		if err != nil {
			return err
		}
		if entry.Order == last {
			continue
		}
		last = entry.Order
		rec, err := record.ParseLine(entry.Payload, r.typ, r.fields, r.shapes)
		if err == nil {
			err = out.Add(rec)
		}
		if err != nil {
			return err
		}
	}
	return nil
}
