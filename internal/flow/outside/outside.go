// Package outside finds records that an environment has and the condition of their type leaves out:
// somebody took them out of use. They are never made a second time.
//
// The contract: asked for keys, it gives those whose record stands outside, unless another type of
// the catalog takes that record and the place would hold both. It only reads.
package outside

import (
	"context"
	"slices"

	"anagram/internal/core/catalog"
	"anagram/internal/core/check"
	"anagram/internal/core/condition"
	"anagram/internal/core/record"
	"anagram/internal/environment"
)

// Finder looks for the records of one type.
type Finder struct {
	typ         *catalog.Type
	environment string
	others      []*condition.Condition // of the types that take other records of the same place
	fields      []record.Field         // that their conditions name
}

// For makes a finder for a type; nil where no record of it can be outside, or where a second record
// with its key is another type's.
func For(c *catalog.Catalog, t *catalog.Type, place catalog.Place, environment string) (*Finder, error) {
	if t.Only == "" {
		return nil, nil
	}
	out := &Finder{typ: t, environment: environment}
	if !free(t, place) {
		return out, nil
	}
	for _, other := range c.Types {
		if other.Name == t.Name || other.Place(environment) != place.Name {
			continue
		}
		if other.Only == "" {
			return nil, nil // it takes all of them
		}
		compiled, err := condition.Compile(other.Only, other.Name, other.Known(place))
		if err != nil {
			return nil, err
		}
		out.others = append(out.others, compiled)
		for _, field := range compiled.Fields() {
			if record.FieldAt(out.fields, field.Name) < 0 {
				out.fields = append(out.fields, field)
			}
		}
	}
	return out, nil
}

// free reports whether the place would take a second record with the stored key of one.
func free(t *catalog.Type, place catalog.Place) bool {
	var stored []string
	for _, field := range t.Key {
		stored = append(stored, t.Stored(field)...)
	}
	within := func(set []string) bool {
		return len(set) > 0 && !slices.ContainsFunc(set, func(column string) bool { return !slices.Contains(stored, column) })
	}
	return !within(place.Primary) && !slices.ContainsFunc(place.Unique, within)
}

// Held gives the check for each of some keys whose record stands outside, by the key's order. The
// address of a record is given by its key.
func (f *Finder) Held(ctx context.Context, target environment.Reader, m *environment.Model, keys []record.Key,
	address func(record.Key) string) (map[string]check.Check, error) {
	if f == nil || len(keys) == 0 {
		return nil, nil
	}
	wanted := map[string]record.Key{}
	for _, key := range keys {
		wanted[key.Order()] = key
	}
	out := map[string]check.Check{}
	for rec, err := range target.Read(ctx, m, environment.Reading{Type: f.typ.Name, Fields: f.fields, Keys: keys, OnlyOutside: true}) {
		if err != nil {
			return nil, err
		}
		key, ok := wanted[rec.Key.Order()]
		another, err := f.another(m.Catalog, rec)
		if err != nil {
			return nil, err
		}
		if !ok || another {
			continue
		}
		delete(wanted, rec.Key.Order())
		id := rec.ID
		if f.typ.ID != "" {
			id = f.typ.ID + " " + id
		}
		out[key.Order()] = check.HeldOutside(address(key), f.typ.Name, f.environment, id, check.Side{Environment: f.environment,
			At: rec.ChangedAt, By: rec.ChangedBy})
	}
	return out, nil
}

// another reports whether a record belongs to another type of the catalog.
func (f *Finder) another(c *catalog.Catalog, rec record.Record) (bool, error) {
	for _, other := range f.others {
		values := make([]record.Value, len(other.Fields()))
		for i, field := range other.Fields() {
			values[i] = rec.Values[record.FieldAt(f.fields, field.Name)]
		}
		if holds, err := other.Holds(values, c.Path); err != nil || holds {
			return holds, err
		}
	}
	return false, nil
}
