package matching

import (
	"context"
	"maps"
	"slices"
	"strings"

	"anagram/internal/core/check"
	"anagram/internal/core/pairing"
	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/flow/session"
	"anagram/internal/flow/sides"
	"anagram/internal/store/docket"
	"anagram/internal/store/workspace"
)

// Records that changed their key: which pairs of the workspace matter in this match.

// family is the keys that are one record, as far as pairs say.
type family struct {
	typ     string
	keys    []record.Key
	sources []record.Key // those that the parcel has, or refers to
	targets []record.Key // those that the target has
}

// withPairs finds out by which key either side knows the paired records, and gives what is
// compared with the target seen by the source's names.
func (c compared) withPairs(ctx context.Context, out *sink) (compared, error) {
	pairs, err := c.session.Workspace.Pairs()
	pairs = slices.DeleteFunc(pairs, func(p workspace.Pair) bool { return p.Beside })
	if err != nil || len(pairs) == 0 {
		return c, err
	}
	families, err := c.families(pairs)
	if err != nil {
		return c, err
	}
	byType := map[string][]*family{}
	for _, f := range families {
		byType[f.typ] = append(byType[f.typ], f)
	}
	for _, typ := range slices.Sorted(maps.Keys(byType)) {
		if err := inSource(ctx, c, typ, byType[typ]); err != nil {
			return c, err
		}
		if err := inTarget(ctx, c, typ, byType[typ]); err != nil {
			return c, err
		}
	}
	c.names, c.agreedNames = pairing.New(c.catalog, c.model.Shapes), pairing.New(c.catalog, c.model.Shapes)
	for _, f := range families {
		c.pairs = append(c.pairs, usePair(c, f, out)...)
	}
	c.reader = sides.Renamed(c.env.Environment, c.names)
	return c, out.err
}

// families joins pairs that share a key: a record may be renamed more than once.
func (c compared) families(pairs []workspace.Pair) ([]*family, error) {
	at := map[string]*family{}
	var out []*family
	for _, p := range pairs {
		if typ, _, _ := strings.Cut(p.New, "/"); c.model.Shapes[typ] == nil {
			continue // not in this parcel, and nothing in it refers to the type
		}
		var keys [2]record.Key
		var types [2]string
		for i, address := range []string{p.Old, p.New} {
			var err error
			if types[i], keys[i], err = c.catalog.ParseAddress(c.model.Shapes, address); err != nil {
				return nil, session.Usage(workspace.PairsName+": %v. Correct it there, or forget the pair with anagram pair --forget", err)
			}
		}
		if types[0] != types[1] {
			return nil,
				session.Usage(workspace.PairsName+": %s and %s are of different record types and cannot be one record. Correct it there, or forget the pair with anagram pair --forget", p.Old, p.New)
		}
		typ := types[0]
		a, b := at[typ+"\x00"+keys[0].Order()], at[typ+"\x00"+keys[1].Order()]
		switch {
		case a == nil && b == nil:
			a = &family{typ: typ}
			out = append(out, a)
		case a == nil:
			a = b
		case b != nil && a != b:
			a.keys = append(a.keys, b.keys...)
			for _, key := range b.keys {
				at[typ+"\x00"+key.Order()] = a
			}
			out = slices.DeleteFunc(out, func(f *family) bool { return f == b })
		}
		for _, key := range keys {
			if order := typ + "\x00" + key.Order(); at[order] != a {
				at[order] = a
				a.keys = append(a.keys, key)
			}
		}
	}
	return out, nil
}

func byOrder(list []*family) map[string]*family {
	out := map[string]*family{}
	for _, f := range list {
		for _, key := range f.keys {
			out[key.Order()] = f
		}
	}
	return out
}

// inSource finds the keys that the parcel has. Only where it has none of a family does it
// count that something refers to one.
func inSource(ctx context.Context, c compared, typ string, list []*family) error {
	of := byOrder(list)
	note := func(key record.Key) {
		f := of[key.Order()]
		if f != nil && !slices.ContainsFunc(f.sources, func(k record.Key) bool { return k.Order() == key.Order() }) {
			f.sources = append(f.sources, key)
		}
	}
	if _, there := c.parcel.Manifest.Type(typ); there {
		for rec, err := range c.records(ctx, typ) {
			if err != nil {
				return err
			}
			note(rec.Key)
		}
	}
	mentioned := map[string]record.Key{}
	for _, f := range list {
		for _, key := range f.keys {
			if len(f.sources) == 0 {
				mentioned[c.catalog.Address(typ, key)] = key
			}
		}
	}
	for mention, err := range c.referred(ctx) {
		if err != nil {
			return err
		}
		if key, ok := mentioned[mention.Address]; ok {
			note(key)
		}
	}
	return nil
}

func inTarget(ctx context.Context, c compared, typ string, list []*family) error {
	if t, _ := c.catalog.Type(typ); c.env.Fit.Fields[typ] == nil || t == nil {
		return nil
	}
	var keys []record.Key
	var whose []*family
	for _, f := range list {
		for _, key := range f.keys {
			keys, whose = append(keys, key), append(whose, f)
		}
	}
	counts, err := c.reader.Locate(ctx, c.model, typ, keys)
	if err != nil {
		return err
	}
	for i, n := range counts {
		if n > 0 {
			whose[i].targets = append(whose[i].targets, keys[i])
		}
	}
	return nil
}

// usePair takes a pair into account where each side has the record once, and says so in
// the docket where the keys differ.
func usePair(c compared, f *family, out *sink) []docket.Paired {
	if len(f.sources) == 1 {
		for _, key := range f.keys {
			if key.Order() != f.sources[0].Order() {
				c.agreedNames.Add(f.typ, key, f.sources[0])
			}
		}
	}
	for _, side := range []struct {
		name string
		keys []record.Key
	}{{c.source, f.sources}, {c.target, f.targets}} {
		if len(side.keys) < 2 {
			continue
		}
		one, other := c.catalog.Address(f.typ, side.keys[0]), c.catalog.Address(f.typ, side.keys[1])
		out.onDocket(check.PairUnused(one, other, side.name))
		return nil
	}
	if len(f.sources) == 1 && len(f.targets) == 1 && f.sources[0].Order() != f.targets[0].Order() {
		c.names.Add(f.typ, f.targets[0], f.sources[0])
		return []docket.Paired{{Type: f.typ, Source: record.AppendKey(nil, f.sources[0]), Target: record.AppendKey(nil, f.targets[0])}}
	}
	return nil
}

// keyInUse checks whether the target would refuse another key for a paired record, as
// others store it.
func keyInUse(ctx context.Context, c compared, f finding, out *sink) error {
	if f.Found.Target == nil || f.Found.Target.Was == nil || c.against != nil {
		return nil
	}
	for _, d := range f.Found.Differences {
		if !d.Key {
			continue
		}
		for _, other := range c.catalog.Types {
			place := c.env.About.Places[other.Place(c.target)]
			for _, column := range place.Columns {
				ref := other.Refers[column.Name]
				holds := column.RefersTo == f.Place.Name && !column.Follows && ref.ByKey && ref.One() == f.Type.Name
				if !holds || c.env.Fit.Fields[other.Name] == nil {
					continue
				}
				used, err := anyOf(c.reader.Read(ctx, c.model, environment.Reading{Type: other.Name, Field: column.Name,
					Of: []record.Key{f.Found.Key}}))
				if err != nil {
					return err
				}
				if field := f.Type.Key[d.Field]; used {
					inUse := check.InUse(f.Address, field, other.Name, place.Name+"."+column.Name, c.target)
					out.checks(f.id, check.On{Check: inUse, Fields: []string{field}, Writes: []string{field}})
				}
			}
		}
	}
	return nil
}

// anyOf reports whether a stream has a record.
func anyOf(stream record.Stream) (bool, error) {
	for _, err := range stream {
		return err == nil, err
	}
	return false, nil
}
