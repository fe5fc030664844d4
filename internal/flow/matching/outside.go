package matching

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"anagram/internal/core/check"
	"anagram/internal/core/condition"
	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/environment"
)

// Records that would be new though the target has them, left out by the condition of their
// type: somebody took them out of use. They are never made a second time.

// outsiders collects the findings of one type that would be new.
type outsiders struct {
	held    []heldOutside
	waiting []finding
	others  []*condition.Condition // of the types that take other records of the same place
	all     bool                   // another type takes all of them
}

// newOutsiders gives nil where nothing of a type can be outside by itself.
func newOutsiders(c compared, w atWork) (*outsiders, error) {
	if w.Only == "" || c.against != nil {
		return nil, nil
	}
	out := &outsiders{}
	if !free(w) {
		return out, nil
	}
	for _, other := range c.catalog.Types {
		if other.Name == w.Name || other.Place(c.target) != w.place.Name {
			continue
		}
		if other.Only == "" {
			out.all = true
			continue
		}
		compiled, err := condition.Compile(other.Only, other.Name, other.Known(w.place))
		if err != nil {
			return nil, err
		}
		out.others = append(out.others, compiled)
	}
	return out, nil
}

// free reports whether the target would take a second record with the stored key of one.
func free(w atWork) bool {
	var stored []string
	for _, field := range w.Key {
		stored = append(stored, w.Stored(field)...)
	}
	within := func(set []string) bool {
		return len(set) > 0 && !slices.ContainsFunc(set, func(column string) bool { return !slices.Contains(stored, column) })
	}
	return !within(w.place.Primary) && !slices.ContainsFunc(w.place.Unique, within)
}

func (o *outsiders) note(ctx context.Context, c compared, w atWork, f finding) error {
	if o == nil || o.all || !f.Adds || match.Hopeless(f.Found.Reasons) {
		return nil
	}
	if o.waiting = append(o.waiting, f); len(o.waiting) < claimBatch {
		return nil
	}
	return o.flush(ctx, c, w)
}

// flush looks which of them the target has outside.
func (o *outsiders) flush(ctx context.Context, c compared, w atWork) error {
	if o == nil || len(o.waiting) == 0 {
		return nil
	}
	var keys []record.Key
	by := map[string]finding{}
	for _, f := range o.waiting {
		keys = append(keys, f.Found.Key)
		by[f.Found.Key.Order()] = f
	}
	o.waiting = nil
	var fields []record.Field
	for _, other := range o.others {
		for _, field := range other.Fields() {
			if !slices.ContainsFunc(fields, func(have record.Field) bool { return have.Name == field.Name }) {
				fields = append(fields, field)
			}
		}
	}
	for rec, err := range c.reader.Read(ctx, c.model, environment.Reading{Type: w.Name, Fields: fields, Keys: keys, OnlyOutside: true}) {
		if err != nil {
			return err
		}
		f, wanted := by[rec.Key.Order()]
		another, err := o.another(c, fields, rec)
		if err != nil {
			return err
		}
		if wanted && !another {
			delete(by, rec.Key.Order())
			id := rec.ID
			if w.ID != "" {
				id = w.ID + " " + id
			}
			o.held = append(o.held, heldOutside{f.id, w.Name, f.Found.Key,
				check.HeldOutside(f.Address, w.Name, c.target, id, check.Side{Environment: c.target, At: rec.ChangedAt,
					By: rec.ChangedBy})})
		}
	}
	return nil
}

// another reports whether a record belongs to another type of the catalog.
func (o *outsiders) another(c compared, fields []record.Field, rec record.Record) (bool, error) {
	for _, other := range o.others {
		values := make([]record.Value, len(other.Fields()))
		for i, field := range other.Fields() {
			values[i] = rec.Values[record.FieldAt(fields, field.Name)]
		}
		if holds, err := other.Holds(values, c.catalog.Path); err != nil || holds {
			return holds, err
		}
	}
	return false, nil
}

// heldOutside is a finding that becomes a conflict.
type heldOutside struct {
	finding int64
	typ     string
	key     record.Key
	check   check.Check
}

// outside makes conflicts of findings that the target has outside.
func outside(held []heldOutside, out *sink) {
	for _, one := range held {
		out.becomesConflict(one.finding, one.typ, match.HeldOutside)
		out.check(one.finding, one.check)
	}
}

// mostNamed is how many records of a circle are named.
const mostNamed = 5

// circles checks new records that require each other.
func circles(ctx context.Context, c compared, out *sink) error {
	found, err := out.builder.Circles(ctx, func(typ, field string) bool {
		t, ok := c.catalog.Type(typ)
		return ok && t.Late(c.env.About.Places[t.Place(c.target)], field)
	})
	if err != nil {
		return err
	}
	for _, circle := range found {
		var names []string
		for _, id := range circle[:min(len(circle), mostNamed+1)] {
			names = append(names, out.addressOf(id))
		}
		for _, id := range circle {
			own := out.addressOf(id)
			others := slices.DeleteFunc(slices.Clone(names), func(name string) bool { return name == own })
			text := strings.Join(others[:min(len(others), mostNamed)], ", ")
			if more := len(circle) - 1 - mostNamed; more > 0 {
				text += fmt.Sprintf(" and %d more", more)
			}
			out.check(id, check.Circle(own, text, c.target))
		}
	}
	return out.err
}
