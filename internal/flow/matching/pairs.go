package matching

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"anagram/internal/core/catalog"
	"anagram/internal/core/check"
	"anagram/internal/core/match"
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

// readPairs finds out by which key either side knows the paired records.
func (m *matching) readPairs(ctx context.Context) error {
	pairs, err := m.session.Workspace.Pairs()
	if err != nil || len(pairs) == 0 {
		return err
	}
	families, err := m.families(pairs)
	if err != nil {
		return err
	}
	byType := map[string][]*family{}
	for _, f := range families {
		byType[f.typ] = append(byType[f.typ], f)
	}
	for typ, list := range byType {
		if err := m.inSource(ctx, typ, list); err != nil {
			return err
		}
		if err := m.inTarget(ctx, typ, list); err != nil {
			return err
		}
	}
	m.names = pairing.New(m.catalog, m.model.Shapes)
	m.agreedNames = pairing.New(m.catalog, m.model.Shapes)
	for _, f := range families {
		if err := m.usePair(ctx, f); err != nil {
			return err
		}
	}
	m.env.Environment = sides.Paired(m.env.Environment, m.names)
	return nil
}

// families joins pairs that share a key: a record may be renamed more than once.
func (m *matching) families(pairs []workspace.Pair) ([]*family, error) {
	at := map[string]*family{}
	var out []*family
	for _, p := range pairs {
		if typ, _, _ := strings.Cut(p.New, "/"); m.model.Shapes[typ] == nil {
			continue // not in this parcel, and nothing in it refers to the type
		}
		var keys [2]record.Key
		var typ string
		for i, address := range []string{p.Old, p.New} {
			var err error
			if typ, keys[i], err = m.catalog.ParseAddress(m.model.Shapes, address); err != nil {
				return nil, session.Usage(workspace.PairsName+": %v. Correct it there, or forget the pair with anagram pair --forget", err)
			}
		}
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
func (m *matching) inSource(ctx context.Context, typ string, list []*family) error {
	of := byOrder(list)
	note := func(key record.Key) {
		f := of[key.Order()]
		if f != nil && !slices.ContainsFunc(f.sources, func(k record.Key) bool { return k.Order() == key.Order() }) {
			f.sources = append(f.sources, key)
		}
	}
	if _, there := m.parcel.Manifest.Type(typ); there {
		for rec, err := range m.parcel.Records(ctx, typ) {
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
				mentioned[m.catalog.Address(typ, key)] = key
			}
		}
	}
	for mention, err := range m.parcel.Referred(ctx) {
		if err != nil {
			return err
		}
		if key, ok := mentioned[mention.Address]; ok {
			note(key)
		}
	}
	return nil
}

func (m *matching) inTarget(ctx context.Context, typ string, list []*family) error {
	if t, _ := m.catalog.Type(typ); m.env.Fit.Fields[typ] == nil || t == nil {
		return nil
	}
	var keys []record.Key
	var whose []*family
	for _, f := range list {
		for _, key := range f.keys {
			keys, whose = append(keys, key), append(whose, f)
		}
	}
	counts, err := m.env.Locate(ctx, m.model, typ, keys)
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

// usePair takes a pair into account where each side has the record once.
func (m *matching) usePair(ctx context.Context, f *family) error {
	if len(f.sources) == 1 {
		for _, key := range f.keys {
			if key.Order() != f.sources[0].Order() {
				m.agreedNames.Add(f.typ, key, f.sources[0])
			}
		}
	}
	for _, side := range []struct {
		name string
		keys []record.Key
	}{{m.parcel.Manifest.Source, f.sources}, {m.target, f.targets}} {
		if len(side.keys) < 2 {
			continue
		}
		one, other := m.catalog.Address(f.typ, side.keys[0]), m.catalog.Address(f.typ, side.keys[1])
		c := check.Check{Code: check.PairNotUsed, Level: check.Caution,
			Message: fmt.Sprintf("%s and %s are paired as one record, but %s has both; they are compared each for itself.", one, other, side.name),
			Mend:    fmt.Sprintf("Remove one of them in %s, or forget the pair with anagram pair --forget %s %s; then match again.", side.name, one, other)}
		m.whole = append(m.whole, c)
		return m.check(ctx, 0, c)
	}
	if len(f.sources) == 1 && len(f.targets) == 1 && f.sources[0].Order() != f.targets[0].Order() {
		m.names.Add(f.typ, f.targets[0], f.sources[0])
		m.pairs = append(m.pairs, docket.Paired{Type: f.typ, Source: record.AppendKey(nil, f.sources[0]), Target: record.AppendKey(nil, f.targets[0])})
	}
	return nil
}

// connector gives the target itself, for what it can do beside reading records.
func (m *matching) connector() environment.Environment {
	if p, ok := m.env.Environment.(sides.PairedEnvironment); ok {
		return p.Environment
	}
	return m.env.Environment
}

// keyInUse checks whether the target would refuse another key for a paired record, as
// others store it.
func (m *matching) keyInUse(ctx context.Context, id int64, t *catalog.Type, f match.Finding, address string) error {
	if f.Target == nil || f.Target.Was == nil || m.against != nil {
		return nil
	}
	for _, d := range f.Differences {
		if !d.Key {
			continue
		}
		field := t.Key[d.Field]
		for _, other := range m.catalog.Types {
			place := m.env.About.Places[other.Place(m.target)]
			for _, column := range place.Columns {
				ref := other.Refers[column.Name]
				holds := column.RefersTo == t.Place(m.target) && !column.Follows && ref.ByKey && ref.One() == t.Name
				if !holds || m.env.Fit.Fields[other.Name] == nil {
					continue
				}
				used := false
				for _, err := range m.env.Read(ctx, m.model, environment.Reading{Type: other.Name, Field: column.Name, Of: []record.Key{f.Key}}) {
					if err != nil {
						return err
					}
					used = true
					break
				}
				if used {
					c := docket.Check{Check: check.InUse(address, field, other.Name, place.Name+"."+column.Name, m.target), Fields: []string{field}, Writes: []string{field}}
					if err := m.checkWhen(ctx, id, c); err != nil {
						return err
					}
				}
			}
		}
	}
	return nil
}
