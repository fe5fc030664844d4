package choose

import (
	"context"
	"errors"
	"slices"

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
	kept, err := g.keep(part.Name)
	if err != nil {
		return false, err
	}
	enough := errors.New("there are too many")
	rows := 0
	look := func(rec record.Record, line []byte, kept *keeping) error {
		if rows++; rows > owners*rowsAnOwner {
			return enough
		}
		owner, known, err := g.ownerOf(part, &rec, kept != nil)
		if err != nil || !known || !among(owner.Order()) {
			return err
		}
		why, picked, err := g.Set.Why(part.PartOf, owner.Order())
		if err != nil || !picked || why.OwnerOnly {
			return err
		}
		if err := g.loaded(part.Name, &rec, kept != nil); err != nil {
			return err
		}
		return g.pickPart(part, rec, func(p spill.Pick, round int) error { return g.pickKept(kept, p, rec, line, round) })
	}
	err = g.keepOrRead(ctx, kept, environment.Reading{Type: part.Name, Lines: true}, look)
	if errors.Is(err, enough) {
		if kept != nil {
			kept.drop() // what was picked so far is a part of it
		}
		return false, nil
	}
	return err == nil, err
}

// ownerOf gives the key of a part's owner from what is known of the part so far: where the owner
// is in its key, nothing else is read.
func (g *Related) ownerOf(part *catalog.Type, rec *record.Record, whole bool) (key record.Key, ok bool, err error) {
	if rec.Load != nil && slices.Contains(part.Key, part.OwnerField()) {
		if own, there := g.Model.Shapes.LineKey(rec.Line, part.Name); there {
			key, ok = g.ownerKey(part, record.Record{Key: own})
			return key, ok, nil
		}
	}
	if err := g.loaded(part.Name, rec, whole); err != nil {
		return key, false, err
	}
	key, ok = g.ownerKey(part, *rec)
	return key, ok, nil
}

// loaded reads the values of a record of which only its line is known; whole says that all of
// its fields are in there, of which just those that refer to others are left.
func (g *Related) loaded(typ string, rec *record.Record, whole bool) error {
	if rec.Load == nil {
		return nil
	}
	err := rec.Load(rec)
	if err == nil && whole {
		rec.Values = referring(g.Env.Fit.Fields[typ], rec.Values)
	}
	return err
}

// pickPart picks a part of a record that was picked.
func (g *Related) pickPart(part *catalog.Type, rec record.Record, pick func(spill.Pick, int) error) error {
	if g.Chosen.LeavesOut(g.Model.Catalog, part.Name, rec.Key) {
		return nil
	}
	owner := part.PartOf
	if key, ok := g.ownerKey(part, rec); ok {
		owner = g.Model.Catalog.Address(part.PartOf, key)
	}
	if err := pick(spill.Pick{Type: part.Name, Along: true, Through: "part of " + owner, Followed: true}, g.round+1); err != nil {
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
		if refers(field) {
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
