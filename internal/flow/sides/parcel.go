package sides

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/flow/session"
	"anagram/internal/store/parcel"
)

// parcelSide lets a parcel stand where an environment is read, so that two environments
// can be compared of which neither can be reached now.
type parcelSide struct{ *parcel.Reader }

// DescribeParcel is a parcel as the target of a match.
func DescribeParcel(p *parcel.Reader, name string, c *catalog.Catalog) session.Described {
	d := session.Described{Environment: parcelSide{p}, About: environment.Description{Product: "parcel", Address: p.Path(),
		Places: map[string]catalog.Place{}},
		Fit: catalog.Fit{Shapes: p.Manifest.Keys, Fields: map[string][]record.Field{}}}
	for _, pt := range p.Manifest.Types {
		t, ok := c.Type(pt.Name)
		if !ok {
			continue
		}
		d.Fit.Fields[pt.Name] = append([]record.Field{}, pt.Fields...)
		place := catalog.Place{Name: t.Place(name)}
		for _, field := range slices.Concat(p.Manifest.Keys[pt.Name], pt.Fields) {
			place.Columns = append(place.Columns, catalog.Column{Name: field.Name, Kind: field.Kind})
		}
		d.About.Places[place.Name] = place
	}
	return d
}

// Read streams the records that are asked for; all of the type are looked at.
func (s parcelSide) Read(ctx context.Context, m *environment.Model, r environment.Reading) record.Stream {
	return func(yield func(record.Record, error) bool) {
		t, ok := s.Manifest.Type(r.Type)
		if !ok {
			return
		}
		plain := r.Keys == nil && r.Field == "" && r.With == nil && len(r.Where) == 0
		if r.Lines && plain && slices.EqualFunc(r.Fields, t.Fields, func(a, b record.Field) bool {
			return a.Name == b.Name &&
				a.Kind == b.Kind
		}) {
			s.Lines(ctx, r.Type)(yield)
			return
		}
		wanted := orders(r.Keys)
		of := orders(r.Of)
		for rec, err := range s.Records(ctx, r.Type) {
			if err != nil {
				yield(record.Record{}, err)
				return
			}
			if r.Keys != nil && !wanted[rec.Key.Order()] || r.Field != "" && !of[s.value(t, rec, r.Field).Key().Order()] {
				continue
			}
			in, err := s.fulfils(m, t, rec, r)
			var out record.Record
			if err == nil && in {
				out, err = Project(t, rec, r.Fields)
			}
			if err != nil {
				yield(record.Record{}, &environment.RecordError{Environment: m.Environment,
					Address: m.Catalog.Address(r.Type, rec.Key), Cause: err})
				return
			}
			if in && !yield(out, nil) {
				return
			}
		}
	}
}

func orders(keys []record.Key) map[string]bool {
	out := make(map[string]bool, len(keys))
	for _, key := range keys {
		out[key.Order()] = true
	}
	return out
}

// value gives a field of a record, of its key or beside it; absent where there is none.
func (s parcelSide) value(t parcel.Type, rec record.Record, name string) record.Value {
	if at := record.FieldAt(s.Manifest.Keys[t.Name], name); at >= 0 {
		return rec.Key.Parts()[at]
	}
	if at := record.FieldAt(t.Fields, name); at >= 0 {
		return rec.Values[at]
	}
	return record.AbsentValue()
}

func (s parcelSide) fulfils(m *environment.Model, t parcel.Type, rec record.Record, r environment.Reading) (bool, error) {
	for _, c := range r.Where {
		values := make([]record.Value, len(c.Fields()))
		for i, field := range c.Fields() {
			values[i] = s.value(t, rec, field.Name)
		}
		if holds, err := c.Holds(values, m.Catalog.Path); err != nil || !holds {
			return false, err
		}
	}
	return true, nil
}

// Project brings a record to other fields, by name. Kinds that differ between two
// parcels, as from applications that keep the same thing in different columns, are
// brought to what is asked for.
func Project(t parcel.Type, rec record.Record, fields []record.Field) (record.Record, error) {
	out := rec
	out.Values = make([]record.Value, len(fields))
	for i, field := range fields {
		at := record.FieldAt(t.Fields, field.Name)
		if at < 0 {
			out.Values[i] = record.AbsentValue()
			continue
		}
		v := rec.Values[at]
		var err error
		if out.Values[i], err = as(field, v); err != nil {
			return out, fmt.Errorf("field %s holds %s, not %s: %w. Export again", field.Name, v.Kind(), field.Kind, err)
		}
	}
	return out, nil
}

// as brings a value to the kind of a field, where both are plain.
func as(field record.Field, v record.Value) (record.Value, error) {
	apart := []record.Kind{record.Reference, record.Woven, record.Bytes}
	switch {
	case v.Kind() == field.Kind || v.IsNull() || v.IsAbsent():
		return v, nil
	case slices.Contains(apart, v.Kind()) || slices.Contains(apart, field.Kind):
		return v, errors.New("one is not told by the other")
	default:
		return record.Parse(field.Kind, v.Text())
	}
}

// Known brings what was agreed to other fields as Project does. The zone is that of times
// without one. What cannot be brought there, as the catalog says otherwise now, is not known.
func Known(t parcel.Type, rec record.Record, fields []record.Field, here, there *time.Location) record.Record {
	out := rec
	out.Values = make([]record.Value, len(fields))
	for i, field := range fields {
		out.Values[i] = record.AbsentValue()
		at := record.FieldAt(t.Fields, field.Name)
		if at < 0 {
			continue
		}
		v, err := rec.Values[at], error(nil)
		switch {
		case v.Kind() == record.LocalTimestamp && field.Kind == record.Timestamp && here != nil:
			v, err = v.AtZone(here)
		case v.Kind() == record.Timestamp && field.Kind == record.LocalTimestamp && there != nil:
			v, err = v.InZone(there)
		default:
			v, err = as(field, v)
		}
		if err == nil {
			out.Values[i] = v
		}
	}
	return out
}

// Locate tells for each key how many records have it.
func (s parcelSide) Locate(ctx context.Context, _ *environment.Model, typ string, keys []record.Key) ([]int, error) {
	wanted := map[string][]int{}
	for i, key := range keys {
		wanted[key.Order()] = append(wanted[key.Order()], i)
	}
	out := make([]int, len(keys))
	for rec, err := range s.Records(ctx, typ) {
		if err != nil {
			return nil, err
		}
		for _, i := range wanted[rec.Key.Order()] {
			out[i]++
		}
	}
	return out, nil
}

// Describe says that it is a parcel.
func (s parcelSide) Describe(context.Context) (environment.Description, error) {
	return environment.Description{Product: "parcel", Address: s.Path()}, nil
}

// Can offers nothing: a parcel is only read.
func (s parcelSide) Can() environment.Capabilities { return environment.Capabilities{} }

// Begin is refused: a parcel is never written to.
func (s parcelSide) Begin(context.Context, []string) (environment.Work, error) {
	return nil, errors.New("a parcel is not written to")
}
