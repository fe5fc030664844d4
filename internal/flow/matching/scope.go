package matching

import (
	"bytes"
	"context"
	"slices"
	"strings"

	"anagram/internal/core/condition"
	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/files/spill"
	"anagram/internal/flow/library"
	"anagram/internal/store/parcel"
)

// Which records of the target a parcel is compared with: those of its scope, and no
// others. A type that was exported whole is read whole. Of another one the records with
// the parcel's keys are read, the parts of the parcel's owners, and what the selection
// names by patterns or by conditions on the key. A condition on other fields says
// nothing about a target record that the parcel does not have: the source may have it
// with other values.

// targetRecords is what was read of a type.
type targetRecords struct {
	sorter      *spill.Sorter
	unkeyed     *parcel.Unkeyed
	inOrder     record.Stream // of a target that gives its records in their order; else nil
	some        bool          // not the whole type
	given       int           // records that were compared, each counted once
	notCompared int
}

// Sources of target records, in the order in which they count. All records with one
// key come from the same source.
const (
	fromWhole = '0'
	fromKeys  = '1'
	fromOwner = '2'
	fromName  = '3'
	fromWhere = '4'
	fromMade  = '5' // by the import that is taken back
)

func readTarget(ctx context.Context, c compared, w atWork, pt parcel.Type) (*targetRecords, error) {
	out := &targetRecords{sorter: spill.NewSorter(c.scratch)}
	var err error
	switch {
	case pt.Whole && c.against != nil && !c.names.Touches(w.Name) && len(c.selection.LeaveOut) == 0:
		out.inOrder = c.reader.Read(ctx, c.model, environment.Reading{Type: w.Name, Fields: w.fields, Sums: true, Lines: true})
	case pt.Whole:
		outside := 0
		err = out.take(ctx, c, w, fromWhole, environment.Reading{Outside: &outside}, nil)
		out.notCompared += outside
	default:
		out.some = true
		err = out.readSome(ctx, c, w)
	}
	if err != nil {
		out.sorter.Close()
	}
	return out, err
}

// take reads records; wanted, where it is given, chooses among them.
func (out *targetRecords) take(ctx context.Context, c compared, w atWork, source byte, r environment.Reading,
	wanted func(record.Record) (bool, error)) error {
	r.Type, r.Fields, r.Sums = w.Name, w.fields, true
	if source == fromWhole {
		r.Unkeyed = func(id, why string) error {
			out.unkeyed = out.unkeyed.Note(id, why)
			return nil
		}
	}
	r.Lines = wanted == nil && len(c.selection.LeaveOut) == 0
	for rec, err := range c.reader.Read(ctx, c.model, r) {
		in := true
		if err == nil && wanted != nil {
			in, err = wanted(rec)
		}
		if err != nil {
			return err
		}
		if !in || c.selection.LeavesOut(c.catalog, w.Name, rec.Key) {
			if source == fromWhole {
				out.notCompared++
			}
			continue
		}
		if err := out.sorter.Add(spill.Entry{Order: rec.Key.Order(), Payload: packTarget(w.fields, rec, source)}); err != nil {
			return err
		}
		c.session.Progress.Add(1)
	}
	return nil
}

// readSome reads what is in the scope of a type that was not exported whole.
func (out *targetRecords) readSome(ctx context.Context, c compared, w atWork) error {
	if err := out.readMembers(ctx, c, w); err != nil {
		return err
	}
	if _, others := c.selection.PatternsFor(w.Name); others {
		err := out.take(ctx, c, w, fromName, environment.Reading{}, func(rec record.Record) (bool, error) {
			return c.selection.Matches(c.catalog.Address(w.Name, rec.Key)) >= 0, nil
		})
		if err != nil {
			return err
		}
	}
	where := c.selection.Where[w.Name]
	aboutMore := func(c *condition.Condition) bool {
		return slices.ContainsFunc(c.Fields(), func(f record.Field) bool { return !slices.Contains(w.Key, f.Name) })
	}
	if len(where) > 0 && !slices.ContainsFunc(where, aboutMore) {
		return out.take(ctx, c, w, fromWhere, environment.Reading{Where: where}, nil)
	}
	return nil
}

// withParts reports whether the parcel holds the parts of a record: not where the record
// just came along as the owner of one of them.
func withParts(rec record.Record) bool { return rec.Why != parcel.WhyOwner }

// readMembers reads the records that the parcel has as well, and the parts of owners that
// it has.
func (out *targetRecords) readMembers(ctx context.Context, c compared, w atWork) error {
	_, owned := c.parcel.Manifest.Type(w.PartOf)
	owned = owned && c.selection.Related != parcel.RelatedNone
	if c.against != nil {
		return out.readMembersOfParcel(ctx, c, w, owned)
	}
	err := library.EachKeys(ctx, c.parcel, w.Name, nil, func(keys []record.Key) error {
		return out.take(ctx, c, w, fromKeys, environment.Reading{Keys: keys}, nil)
	})
	if err == nil && c.back != nil {
		for keys := range slices.Chunk(c.back.Created[w.Name], needsBatch) {
			if err = out.take(ctx, c, w, fromMade, environment.Reading{Keys: keys}, nil); err != nil {
				break
			}
		}
	}
	if err != nil || !owned {
		return err
	}
	return library.EachKeys(ctx, c.parcel, w.PartOf, withParts, func(keys []record.Key) error {
		return out.take(ctx, c, w, fromOwner, environment.Reading{Field: w.OwnerField(), Of: keys}, nil)
	})
}

// readMembersOfParcel is readMembers for a target that is a parcel. It cannot be asked for
// single keys, so it is read once and each record is looked up among the source's.
func (out *targetRecords) readMembersOfParcel(ctx context.Context, c compared, w atWork, owned bool) error {
	set, err := spill.NewPicked(c.scratch)
	if err != nil {
		return err
	}
	defer set.Close()
	add := func(typ string, wanted func(record.Record) bool) error {
		return library.EachKeys(ctx, c.parcel, typ, wanted, func(keys []record.Key) error {
			for _, key := range keys {
				if err := set.Pick(spill.Pick{Type: typ, Order: key.Order()}, 0); err != nil {
					return err
				}
			}
			return nil
		})
	}
	if err := add(w.Name, nil); err != nil {
		return err
	}
	err = out.take(ctx, c, w, fromKeys, environment.Reading{}, func(rec record.Record) (bool,
		error) {
		return set.Has(w.Name, rec.Key.Order())
	})
	if err != nil || !owned {
		return err
	}
	if w.PartOf != w.Name {
		if err := add(w.PartOf, withParts); err != nil {
			return err
		}
	}
	owner := w.ownerIn()
	return out.take(ctx, c, w, fromOwner, environment.Reading{}, func(rec record.Record) (bool,
		error) {
		return set.Has(w.PartOf, owner(rec).Order())
	})
}

// ownerIn gives the key of a part's owner.
func (w atWork) ownerIn() func(record.Record) record.Key {
	if at := slices.Index(w.Key, w.OwnerField()); at >= 0 {
		return func(rec record.Record) record.Key { return rec.Key.Parts()[at].Key() }
	}
	at := record.FieldAt(w.fields, w.OwnerField())
	return func(rec record.Record) record.Key {
		if at < 0 {
			return record.Key{}
		}
		return rec.Values[at].Key()
	}
}

// others counts the target's records that were not compared, where it can be asked. It is
// known once all were given.
func (out *targetRecords) others(ctx context.Context, c compared, w atWork) (int, error) {
	prober := c.env.Environment.Can().Prober
	if c.back != nil {
		return 0, nil // nothing but what was written is in question
	}
	if prober == nil || !out.some {
		return out.notCompared, nil
	}
	all, err := prober.CountUpTo(ctx, w.Place(c.target), 1<<40)
	return max(0, all-out.given), err
}

// packTarget writes a record for sorting: where it was read from, internal id, stamps and
// the key there if it is another one, then the line of key and values, which stands alone
// so that it can be compared with the source's.
func packTarget(fields []record.Field, rec record.Record, source byte) []byte {
	head := append(make([]byte, 0, len(rec.Line)+len(rec.ID)+len(rec.ChangedAt)+len(rec.ChangedBy)+8), source)
	for _, text := range []string{rec.ID, rec.ChangedAt, rec.ChangedBy} { // an id of bytes may hold a zero
		head = append(append(head, strings.ReplaceAll(text, "\x00", "\ufffd")...), 0)
	}
	if rec.Was != nil {
		head = record.AppendKey(head, *rec.Was)
	}
	head = append(head, 0)
	if rec.Values == nil && rec.Line != nil {
		return append(head, rec.Line...)
	}
	rec.ChangedAt, rec.ChangedBy = "", ""
	return record.AppendLine(head, fields, rec)
}

// unpackTarget gives the record back; its key and values are read only when asked for.
func unpackTarget(entry spill.Entry, typ string, fields []record.Field, shapes record.Shapes) (record.Record, error) {
	parts := bytes.SplitN(entry.Payload[1:], []byte{0}, 5)
	out := record.Record{
		Key: record.KeyByOrder(entry.Order), ID: string(parts[0]), ChangedAt: string(parts[1]), ChangedBy: string(parts[2]), Line: parts[4],
		Load: func(r *record.Record) error {
			full, err := record.ParseLine(r.Line, typ, fields, shapes)
			r.Key, r.Values, r.Load = full.Key, full.Values, nil
			return err
		},
	}
	if len(parts[3]) == 0 {
		return out, nil
	}
	was, err := shapes.ParseKey(parts[3], typ)
	out.Was = &was
	return out, err
}

// alone gives a record its line of key and values, where it has none.
func alone(rec record.Record, fields []record.Field) record.Record {
	if rec.Line == nil {
		rec.Line = record.AppendLine(nil, fields, record.Record{Key: rec.Key, Values: rec.Values})
	}
	return rec
}

// sorted gives what was read in key order. Records of one key that were read from two
// sources are given once.
func (out *targetRecords) sorted(ctx context.Context, typ string, fields []record.Field, shapes record.Shapes) record.Stream {
	return func(yield func(record.Record, error) bool) {
		if out.inOrder != nil {
			for rec, err := range out.inOrder {
				out.given++
				if !yield(alone(rec, fields), err) || err != nil {
					return
				}
			}
			return
		}
		last, source := "", byte(0)
		for entry, err := range out.sorter.Sorted() {
			var rec record.Record
			if err == nil {
				err = ctx.Err()
			}
			if err == nil {
				if source != 0 && entry.Order == last && entry.Payload[0] != source {
					continue
				}
				last, source = entry.Order, entry.Payload[0]
				out.given++
				rec, err = unpackTarget(entry, typ, fields, shapes)
			}
			if !yield(rec, err) || err != nil {
				return
			}
		}
	}
}
