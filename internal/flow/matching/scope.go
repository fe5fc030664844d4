package matching

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"anagram/internal/core/catalog"
	"anagram/internal/core/condition"
	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/flow/choose"
	"anagram/internal/flow/library"
	"anagram/internal/store/parcel"
	"anagram/internal/store/sorting"
)

// Which records of the target a parcel is compared with: those of its scope, and no
// others. A type that was exported whole is read whole. Of another one the records with
// the parcel's keys are read, the parts of the parcel's owners, and what the selection
// names by patterns or by conditions on the key. A condition on other fields says
// nothing about a target record that the parcel does not have: the source may have it
// with other values.

// targetRecords is what was read of a type.
type targetRecords struct {
	sorter      *sorting.Sorter
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
)

func (m *matching) readTarget(ctx context.Context, t *catalog.Type, pt parcel.Type, fields []record.Field) (targetRecords, error) {
	out := targetRecords{sorter: sorting.New(m.scratch)}
	err := m.readInto(ctx, t, pt, fields, &out)
	if err != nil {
		out.sorter.Close()
	}
	return out, err
}

func (m *matching) readInto(ctx context.Context, t *catalog.Type, pt parcel.Type, fields []record.Field, out *targetRecords) error {
	read := 0
	take := func(source byte, r environment.Reading, wanted func(record.Record) bool) error {
		r.Type, r.Fields = t.Name, fields
		for rec, err := range m.env.Read(ctx, m.model, r) {
			if err != nil {
				return err
			}
			if wanted != nil && !wanted(rec) || m.selection.LeavesOut(m.catalog, t.Name, rec.Key) {
				if source == fromWhole {
					out.notCompared++
				}
				continue
			}
			payload := packTarget(fields, rec, source)
			if err := out.sorter.Add(sorting.Entry{Order: rec.Key.Order(), Payload: payload}); err != nil {
				return err
			}
			read++
			m.session.Progress.Add(1)
		}
		return nil
	}
	if pt.Whole {
		outside := 0
		err := take(fromWhole, environment.Reading{Outside: &outside}, nil)
		out.notCompared += outside
		return err
	}
	err := library.EachKeys(ctx, m.parcel, t.Name, nil, func(keys []record.Key) error { return take(fromKeys, environment.Reading{Keys: keys}, nil) })
	if err != nil {
		return err
	}
	if _, there := m.parcel.Manifest.Type(t.PartOf); there && m.selection.Related != parcel.RelatedNone {
		// Of an owner that came along with a part, the other parts are not in the parcel.
		withParts := func(rec record.Record) bool { return !strings.HasPrefix(rec.Through, choose.OwnerOf) }
		err := library.EachKeys(ctx, m.parcel, t.PartOf, withParts, func(keys []record.Key) error {
			return take(fromOwner, environment.Reading{Field: t.OwnerField(), Of: keys}, nil)
		})
		if err != nil {
			return err
		}
	}
	if _, others := m.selection.PatternsFor(t.Name); others {
		err := take(fromName, environment.Reading{}, func(rec record.Record) bool {
			return m.selection.Matches(m.catalog.Address(t.Name, rec.Key)) >= 0
		})
		if err != nil {
			return err
		}
	}
	where := m.selection.Where[t.Name]
	onKey := func(c *condition.Condition) bool {
		return !slices.ContainsFunc(c.Fields(), func(f record.Field) bool { return !slices.Contains(t.Key, f.Name) })
	}
	if len(where) > 0 && !slices.ContainsFunc(where, func(c *condition.Condition) bool { return !onKey(c) }) {
		if err := take(fromWhere, environment.Reading{Where: where}, nil); err != nil {
			return err
		}
	}
	return m.countOthers(ctx, t, out, read)
}

// countOthers counts the target's records that were not read, where it can be asked.
func (m *matching) countOthers(ctx context.Context, t *catalog.Type, out *targetRecords, read int) error {
	prober, ok := m.connector().(environment.Prober)
	if !ok {
		return nil
	}
	all, err := prober.CountUpTo(ctx, t.Place(m.target), 1<<40)
	out.notCompared = max(0, all-read)
	return err
}

// sorted gives what was read in key order. Records of one key that were read from two
// sources are given once.
func (m *matching) sorted(ctx context.Context, sorter *sorting.Sorter, typ string, fields []record.Field) record.Stream {
	return func(yield func(record.Record, error) bool) {
		last, source := "", byte(0)
		for entry, err := range sorter.Sorted() {
			var rec record.Record
			if err == nil {
				err = ctx.Err()
			}
			if err == nil {
				if source != 0 && entry.Order == last && entry.Payload[0] != source {
					continue
				}
				last, source = entry.Order, entry.Payload[0]
				entry.Payload = entry.Payload[1:]
				rec, err = unpackTarget(entry, typ, fields, m.model.Shapes)
			}
			if !yield(rec, err) || err != nil {
				return
			}
		}
	}
}

// unknownInTarget says which records a target that is a parcel may have without their
// being in it: any, of a type that was not exported whole.
func (m *matching) unknownInTarget(typ string) func(record.Key) bool {
	if m.against == nil {
		return nil
	}
	pt, _ := m.against.Manifest.Type(typ)
	return func(record.Key) bool { return !pt.Whole }
}

// oneSided names the record types that only the target's parcel holds.
func (m *matching) oneSided(ctx context.Context) error {
	if m.against == nil {
		return nil
	}
	for _, pt := range m.against.Manifest.Types {
		if _, ok := m.parcel.Manifest.Type(pt.Name); !ok {
			if err := m.caution(ctx, pt.Name, fmt.Sprintf("%s is not compared: parcel %s does not hold that record type.", pt.Name, library.LibraryName(m.session, m.parcel)), "Export it there, too, and match again."); err != nil {
				return err
			}
		}
	}
	return nil
}
