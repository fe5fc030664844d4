package flow

import (
	"context"
	"slices"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/store/parcel"
	"anagram/internal/store/picked"
)

// Finding out what comes along with what was chosen. It goes in rounds, each of which
// reads the records picked in the one before by their keys, a batch at a time, so that
// the number of queries follows the depth of references, not the number of records.

// gathering is one search for related records.
type gathering struct {
	session *Session
	env     described
	model   *environment.Model
	chosen  selection
	set     *picked.Set
	parts   map[string][]*catalog.Type // by owner
	// wholeAlong are the parts of whole types, which come along whole.
	wholeAlong map[string]bool
	found      []bool // by pattern of one address
	round      int
}

const gatherBatch = 1000

// ownerOf begins what an owner came through that is in the parcel just because a part of
// it is: its other parts are not.
const ownerOf = "owner of "

func (s *Session) gather(ctx context.Context, env described, model *environment.Model, chosen selection) (*gathering, error) {
	scratch, err := s.Workspace.Scratch()
	if err != nil {
		return nil, err
	}
	set, err := picked.New(scratch)
	if err != nil {
		return nil, err
	}
	g := &gathering{session: s, env: env, model: model, chosen: chosen, set: set, parts: map[string][]*catalog.Type{}, wholeAlong: map[string]bool{}, found: make([]bool, len(chosen.patterns))}
	for _, t := range model.Catalog.Types {
		if t.PartOf != "" && env.fit.Fields[t.Name] != nil {
			g.parts[t.PartOf] = append(g.parts[t.PartOf], t)
		}
	}
	if err := g.run(ctx); err != nil {
		_ = set.Close()
		return nil, err
	}
	return g, nil
}

func (g *gathering) whole(typ string) bool { return g.chosen.whole[typ] || g.wholeAlong[typ] }

func (g *gathering) run(ctx context.Context) error {
	g.session.Progress.Start("finding what belongs together", 0)
	defer g.session.Progress.Done()
	if g.chosen.related != "none" {
		for _, t := range g.model.Catalog.Types { // owners come before their parts
			if t.PartOf != "" && g.whole(t.PartOf) && !g.whole(t.Name) && g.env.fit.Fields[t.Name] != nil && !g.chosen.leavesOutType(t.Name) {
				g.wholeAlong[t.Name] = true
			}
		}
	}
	for _, typ := range g.model.Catalog.Names() {
		if g.whole(typ) && !g.covered(typ) {
			if err := g.read(ctx, environment.Reading{Type: typ}, func(rec record.Record) error { return g.visit(typ, rec) }); err != nil {
				return err
			}
		}
	}
	for _, typ := range g.chosen.types {
		if err := g.choose(ctx, typ); err != nil {
			return err
		}
	}
	for more := true; more; g.round++ {
		more = false
		for _, typ := range g.model.Catalog.Names() {
			n, err := g.expand(ctx, typ)
			if err != nil {
				return err
			}
			more = more || n > 0
		}
	}
	return nil
}

// covered reports whether everything that a whole type refers to is in the parcel anyway.
func (g *gathering) covered(typ string) bool {
	if len(g.chosen.leaveOut) > 0 {
		return false
	}
	t, _ := g.model.Catalog.Type(typ)
	for _, to := range t.Targets() {
		if !g.whole(to) {
			return false
		}
	}
	return true
}

// read reads records with just the fields that refer to others.
func (g *gathering) read(ctx context.Context, r environment.Reading, do func(record.Record) error) error {
	for _, field := range g.env.fit.Fields[r.Type] {
		if field.Kind == record.Reference || field.Kind == record.Woven {
			r.Fields = append(r.Fields, field)
		}
	}
	for rec, err := range g.env.Read(ctx, g.model, r) {
		if err == nil {
			err = do(rec)
		}
		if err != nil {
			return err
		}
		g.session.Progress.Add(1)
	}
	return nil
}

// choose picks what was selected of a type by conditions and by name.
func (g *gathering) choose(ctx context.Context, typ string) error {
	if g.whole(typ) {
		return nil
	}
	pick := func(rec record.Record) error {
		if g.chosen.leavesOut(g.model.Catalog, typ, rec.Key) {
			return nil
		}
		return g.pick(picked.Record{Type: typ}, rec.Key, 0)
	}
	if g.chosen.filtered[typ] {
		if err := g.read(ctx, environment.Reading{Type: typ, Where: g.chosen.where[typ]}, pick); err != nil {
			return err
		}
	}
	exact, others := g.chosen.patternsFor(typ)
	byName := func(rec record.Record) error {
		at := g.chosen.matches(g.model.Catalog.Address(typ, rec.Key))
		if at < 0 {
			return nil
		}
		g.found[at] = true
		return pick(rec)
	}
	if others {
		return g.read(ctx, environment.Reading{Type: typ}, byName)
	}
	var keys []record.Key
	for _, address := range exact {
		_, key, err := g.model.Catalog.ParseAddress(g.model.Shapes, address)
		if err != nil {
			return usage("%v", err)
		}
		keys = append(keys, key)
	}
	if len(keys) == 0 {
		return nil
	}
	return g.read(ctx, environment.Reading{Type: typ, Keys: keys}, func(rec record.Record) error {
		for i, p := range g.chosen.patterns {
			if p.Type() == typ && p.Exact() {
				_, key, err := g.model.Catalog.ParseAddress(g.model.Shapes, p.String())
				if err == nil && key.Compare(rec.Key) == 0 {
					g.found[i] = true
				}
			}
		}
		return pick(rec)
	})
}

func (g *gathering) pick(r picked.Record, key record.Key, round int) error {
	r.Order, r.Key = key.Order(), string(record.AppendKey(nil, key))
	return g.set.Pick(r, round)
}

// expand goes through what was picked of a type in the last round.
func (g *gathering) expand(ctx context.Context, typ string) (int, error) {
	total, after := 0, ""
	for {
		batch, err := g.set.Batch(typ, g.round, after, gatherBatch)
		if err != nil || len(batch) == 0 {
			return total, err
		}
		total += len(batch)
		after = batch[len(batch)-1].Order
		keys := make([]record.Key, len(batch))
		owners := []record.Key{} // whose parts come along
		for i, r := range batch {
			if keys[i], err = g.model.Shapes.ParseKey([]byte(r.Key), typ); err != nil {
				return total, err
			}
			if !r.OwnerOnly {
				owners = append(owners, keys[i])
			}
		}
		if err := g.read(ctx, environment.Reading{Type: typ, Keys: keys}, func(rec record.Record) error { return g.visit(typ, rec) }); err != nil {
			return total, err
		}
		if g.chosen.related == "none" {
			continue
		}
		for _, part := range g.parts[typ] {
			if g.whole(part.Name) || g.chosen.leavesOutType(part.Name) {
				continue
			}
			owner := part.OwnerField()
			err := g.read(ctx, environment.Reading{Type: part.Name, Field: owner, Of: owners}, func(rec record.Record) error {
				if g.chosen.leavesOut(g.model.Catalog, part.Name, rec.Key) {
					return nil
				}
				return g.pick(picked.Record{Type: part.Name, Along: true, Through: "part of " + g.ownerOf(part, rec)}, rec.Key, g.round+1)
			})
			if err != nil {
				return total, err
			}
		}
	}
}

// ownerOf gives the address of a part's owner.
func (g *gathering) ownerOf(t *catalog.Type, rec record.Record) string {
	owner := t.OwnerField()
	if at := slices.Index(t.Key, owner); at >= 0 {
		return g.model.Catalog.Address(t.PartOf, rec.Key.Parts()[at].Key())
	}
	at := 0
	for _, field := range g.env.fit.Fields[t.Name] {
		if field.Name == owner {
			return g.model.Catalog.Address(t.PartOf, rec.Values[at].Key())
		}
		if field.Kind == record.Reference || field.Kind == record.Woven {
			at++
		}
	}
	return t.PartOf
}

// visit follows the references of a record that is in the parcel.
func (g *gathering) visit(typ string, rec record.Record) error {
	t, _ := g.model.Catalog.Type(typ)
	if g.chosen.leavesOut(g.model.Catalog, typ, rec.Key) {
		return nil
	}
	address := g.model.Catalog.Address(typ, rec.Key)
	for i, part := range rec.Key.Parts() {
		if err := g.follow(part, address, t.Key[i], t.OwnerField()); err != nil {
			return err
		}
	}
	at := 0
	for _, field := range g.env.fit.Fields[typ] {
		if field.Kind != record.Reference && field.Kind != record.Woven {
			continue
		}
		if err := g.follow(rec.Values[at], address, field.Name, t.OwnerField()); err != nil {
			return err
		}
		at++
	}
	return nil
}

func (g *gathering) follow(v record.Value, address, field, owner string) error {
	through := address + " " + field
	for _, ref := range v.References() {
		typ, key := ref.Refers(), ref.Key()
		out := g.chosen.leavesOut(g.model.Catalog, typ, key)
		var err error
		switch {
		case !out && g.whole(typ):
		case out || g.chosen.related != "all" || g.env.fit.Fields[typ] == nil:
			err = g.set.Refer(picked.Record{Type: typ, Order: key.Order(), Key: string(record.AppendKey(nil, key)), Through: through})
		default:
			r := picked.Record{Type: typ, Along: true, Through: through, OwnerOnly: field == owner}
			if r.OwnerOnly {
				r.Through = ownerOf + address
			}
			err = g.pick(r, key, g.round+1)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// mentions gives what is only referred to, one after the other, for a parcel's list; look
// is given each batch before say makes the mentions of its records.
func mentions(set *picked.Set, look func([]picked.Record) error, say func(picked.Record) (parcel.Mention, error)) func() (parcel.Mention, bool, error) {
	var batch []picked.Record
	typ, after := "", ""
	return func() (parcel.Mention, bool, error) {
		if len(batch) == 0 {
			var err error
			if batch, err = set.Referred(typ, after, gatherBatch); err != nil || len(batch) == 0 {
				return parcel.Mention{}, false, err
			}
			if err := look(batch); err != nil {
				return parcel.Mention{}, false, err
			}
		}
		r := batch[0]
		batch = batch[1:]
		typ, after = r.Type, r.Order
		m, err := say(r)
		return m, err == nil, err
	}
}

// missing names a pattern of one address that no record has.
func (g *gathering) missing(source string) error {
	for i, p := range g.chosen.patterns {
		covered := false
		for _, typ := range g.model.Catalog.Names() {
			covered = covered || p.WholeType(typ)
		}
		if !g.found[i] && !covered {
			return &NoRecordError{Source: source, Pattern: p.String()}
		}
	}
	return nil
}

// NoRecordError is a selection that names what is not there.
type NoRecordError struct{ Source, Pattern string }

func (e *NoRecordError) Error() string {
	return e.Source + " has no record " + e.Pattern + "; no parcel was made"
}
