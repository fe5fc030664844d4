package choose

import (
	"context"
	"errors"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/files/spill"
)

// The parts of what was picked come along.

const (
	// manyOwners is how many owners make reading a whole type of parts quicker than asking for
	// the parts of each.
	manyOwners = 20_000
	// rowsAnOwner is how many parts are read for each of them before that is given up: the
	// type has very many more.
	rowsAnOwner = 10
)

// partsToFind gives the types of parts that are still to be asked for by the owners that were
// picked in the last round. Of very many owners they are found here.
func (g *Related) partsToFind(ctx context.Context, typ string) ([]*catalog.Type, error) {
	if g.Chosen.Related == "none" {
		return nil, nil
	}
	var out []*catalog.Type
	for _, part := range g.parts[typ] {
		if g.Whole(part.Name) || g.Chosen.LeavesOutType(part.Name) {
			continue
		}
		owners, err := g.Set.CountIn(typ, g.round)
		if err != nil {
			return nil, err
		}
		if owners > manyOwners {
			found, err := g.scanParts(ctx, part, owners)
			if err != nil {
				return nil, err
			}
			if found {
				continue
			}
		}
		out = append(out, part)
	}
	return out, nil
}

// scanParts picks, of a whole type of parts, those whose owner was picked in the last round; ok
// is false where there are too many of others between them.
func (g *Related) scanParts(ctx context.Context, part *catalog.Type, owners int) (ok bool, err error) {
	among, err := g.Set.Among(part.PartOf, g.round, owners)
	if err != nil {
		return false, err
	}
	enough := errors.New("there are too many")
	rows := 0
	err = g.read(ctx, environment.Reading{Type: part.Name, Lines: true}, func(rec record.Record) error {
		if rec.Load != nil {
			if err := rec.Load(&rec); err != nil {
				return err
			}
		}
		if rows++; rows > owners*rowsAnOwner {
			return enough
		}
		owner, known := g.ownerKey(part, rec)
		if !known || !among(owner.Order()) {
			return nil
		}
		why, picked, err := g.Set.Why(part.PartOf, owner.Order())
		if err != nil || !picked || why.OwnerOnly {
			return err
		}
		return g.pickPart(part, rec)
	})
	if errors.Is(err, enough) {
		return false, nil
	}
	return err == nil, err
}

// pickPart picks a part of a record that was picked.
func (g *Related) pickPart(part *catalog.Type, rec record.Record) error {
	if g.Chosen.LeavesOut(g.Model.Catalog, part.Name, rec.Key) {
		return nil
	}
	owner := part.PartOf
	if key, ok := g.ownerKey(part, rec); ok {
		owner = g.Model.Catalog.Address(part.PartOf, key)
	}
	if err := g.pick(spill.Pick{Type: part.Name, Along: true, Through: "part of " + owner, Followed: true}, rec.Key, g.round+1); err != nil {
		return err
	}
	return g.visit(part.Name, rec, g.round+2) // as if it were read in its own round
}

// ownerKey gives the key of a part's owner; ok is false where it has none.
func (g *Related) ownerKey(part *catalog.Type, rec record.Record) (key record.Key, ok bool) {
	v, owner := record.AbsentValue(), part.OwnerField()
	for i, name := range part.Key {
		if name == owner {
			v = rec.Key.Parts()[i]
		}
	}
	at := 0
	for _, field := range g.Env.Fit.Fields[part.Name] {
		if field.Name == owner {
			v = rec.Values[at]
		}
		if field.Kind == record.Reference || field.Kind == record.Woven {
			at++
		}
	}
	for _, ref := range v.References() {
		if ref.Refers() == part.PartOf {
			return ref.Key(), true
		}
	}
	return record.Key{}, false
}
