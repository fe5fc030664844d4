package choose

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/files/spill"
	"anagram/internal/flow/session"
	"anagram/internal/store/parcel"
)

// Finding out what comes along with what was chosen. It goes in rounds, each of which
// reads the records picked in the one before by their keys, a batch at a time, so that
// the number of queries follows the depth of references, not the number of records.

// Related is one search for related records.
type Related struct {
	Session *session.Session
	Env     session.Described
	Model   *environment.Model
	Chosen  Chosen
	Set     *spill.Picked
	parts   map[string][]*catalog.Type // by owner
	// wholeAlong are the parts of whole types, which come along whole.
	wholeAlong map[string]bool
	Found      []bool // by pattern of one address
	Earlier    int    // records that were chosen as no import brought them
	round      int
	scratch    string
	kept       map[string]*keeping // by type
}

const gatherBatch = 1000

// Gather finds what comes along with what was chosen. It is the caller's to close.
func Gather(ctx context.Context, s *session.Session, env session.Described, model *environment.Model, chosen Chosen) (*Related, error) {
	scratch, err := s.Workspace.Scratch()
	if err != nil {
		return nil, err
	}
	set, err := spill.NewPicked(scratch)
	if err != nil {
		return nil, err
	}
	g := &Related{Session: s, Env: env, Model: model, Chosen: chosen, Set: set, parts: map[string][]*catalog.Type{},
		wholeAlong: map[string]bool{}, scratch: scratch, kept: map[string]*keeping{}, Found: make([]bool, len(chosen.Patterns))}
	for _, t := range model.Catalog.Types {
		if t.PartOf != "" && env.Fit.Fields[t.Name] != nil {
			g.parts[t.PartOf] = append(g.parts[t.PartOf], t)
		}
	}
	if err := g.run(ctx); err != nil {
		_ = g.Close()
		return nil, err
	}
	return g, nil
}

// Whole reports whether all records of a type are taken.
func (g *Related) Whole(typ string) bool { return g.Chosen.Whole[typ] || g.wholeAlong[typ] }

func (g *Related) run(ctx context.Context) error {
	g.Session.Progress.Start("finding what belongs together", 0)
	defer g.Session.Progress.Done()
	if g.Chosen.Related != "none" {
		for _, t := range g.Model.Catalog.Types { // owners come before their parts
			if t.PartOf != "" && g.Whole(t.PartOf) && !g.Whole(t.Name) && g.Env.Fit.Fields[t.Name] != nil &&
				!g.Chosen.LeavesOutType(t.Name) {
				g.wholeAlong[t.Name] = true
			}
		}
	}
	for _, typ := range g.Model.Catalog.Names() {
		if g.Whole(typ) && !g.covered(typ) {
			if err := g.visitAll(ctx, typ); err != nil {
				return err
			}
		}
	}
	for _, typ := range g.Chosen.Types {
		if err := g.choose(ctx, typ); err != nil {
			return err
		}
	}
	for more := true; more; g.round++ {
		more = false
		for _, typ := range g.Model.Catalog.Names() {
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
func (g *Related) covered(typ string) bool {
	if len(g.Chosen.LeaveOut) > 0 {
		return false
	}
	t, _ := g.Model.Catalog.Type(typ)
	for _, to := range t.Targets() {
		if !g.Whole(to) {
			return false
		}
	}
	return true
}

// visitAll follows the references of all records of a type. Very many refer to few: where what
// refers stands beside the key, of those that refer to the same only the first by key counts.
func (g *Related) visitAll(ctx context.Context, typ string) error {
	visit := func(rec record.Record) error { return g.visit(typ, rec, g.round+1) }
	t, _ := g.Model.Catalog.Type(typ)
	inKey := slices.ContainsFunc(t.Key, func(field string) bool {
		return slices.ContainsFunc(t.Refers[field].To, func(to string) bool { return !g.Whole(to) })
	})
	r := environment.Reading{Type: typ, Lines: len(g.Chosen.LeaveOut) == 0}
	first := map[string]record.Record{}
	flush := func() error {
		for _, rec := range first {
			if rec.Load != nil {
				if err := rec.Load(&rec); err != nil {
					return err
				}
			}
			if err := visit(rec); err != nil {
				return err
			}
		}
		clear(first)
		return nil
	}
	var room []byte
	err := g.read(ctx, r, func(rec record.Record) error {
		if inKey || len(g.Chosen.LeaveOut) > 0 && g.Chosen.LeavesOut(g.Model.Catalog, typ, rec.Key) {
			if rec.Load != nil {
				if err := rec.Load(&rec); err != nil {
					return err
				}
			}
			return visit(rec)
		}
		var refers []byte
		if rec.Load == nil {
			for _, v := range rec.Values {
				refers = record.AppendValue(refers, v)
			}
		} else {
			order, begin, end, ok := g.Model.Shapes.LineOrder(room[:0], rec.Line, typ)
			if room = order; !ok {
				if err := rec.Load(&rec); err != nil {
					return err
				}
				return visit(rec)
			}
			refers = rec.Line[begin:end]
		}
		if had, known := first[string(refers)]; !known || rec.Key.Compare(had.Key) < 0 {
			first[string(refers)] = rec
		}
		if len(first) < mostFirst {
			return nil
		}
		return flush()
	})
	if err != nil {
		return err
	}
	return flush()
}

// mostFirst is how many records that refer to different ones are kept at a time.
const mostFirst = 20_000

// read reads records with just the fields that refer to others.
func (g *Related) read(ctx context.Context, r environment.Reading, do func(record.Record) error) error {
	for _, field := range g.Env.Fit.Fields[r.Type] {
		if refers(field) {
			r.Fields = append(r.Fields, field)
		}
	}
	for rec, err := range record.Ahead(g.Env.Read(ctx, g.Model, r)) {
		if err == nil {
			err = do(rec)
		}
		if err != nil {
			return err
		}
		g.Session.Progress.Add(1)
	}
	return nil
}

// choose picks what was selected of a type by conditions and by name.
func (g *Related) choose(ctx context.Context, typ string) error {
	if g.Whole(typ) {
		return nil
	}
	if g.Chosen.filtered[typ] {
		if err := g.fitting(ctx, typ); err != nil {
			return err
		}
	}
	// What it refers to is at hand, so it is followed at once; expand does so for what came along.
	pick := func(rec record.Record) error {
		if g.Chosen.LeavesOut(g.Model.Catalog, typ, rec.Key) {
			return nil
		}
		if err := g.pick(spill.Pick{Type: typ, Followed: true}, rec.Key, 0); err != nil {
			return err
		}
		return g.visit(typ, rec, g.round+1)
	}
	if err := g.pending(ctx, typ, pick); err != nil {
		return err
	}
	exact, others := g.Chosen.PatternsFor(typ)
	byName := func(rec record.Record) error {
		address, fits := g.Model.Catalog.Address(typ, rec.Key), false
		for i, p := range g.Chosen.Patterns {
			if p.Match(address) {
				g.Found[i], fits = true, true
			}
		}
		if !fits {
			return nil
		}
		return pick(rec)
	}
	if others {
		return g.read(ctx, environment.Reading{Type: typ}, byName)
	}
	var keys []record.Key
	for _, address := range exact {
		_, key, err := g.Model.Catalog.ParseAddress(g.Model.Shapes, address)
		if err != nil {
			return session.Usage("%v", err)
		}
		keys = append(keys, key)
	}
	if len(keys) == 0 {
		return nil
	}
	return g.read(ctx, environment.Reading{Type: typ, Keys: keys}, func(rec record.Record) error {
		for i, p := range g.Chosen.Patterns {
			if p.Type() == typ && p.Exact() {
				_, key, err := g.Model.Catalog.ParseAddress(g.Model.Shapes, p.String())
				if err == nil && key.Compare(rec.Key) == 0 {
					g.Found[i] = true
				}
			}
		}
		return pick(rec)
	})
}

// fitting picks what fits the conditions on a type.
func (g *Related) fitting(ctx context.Context, typ string) error {
	kept, err := g.keep(typ)
	if err != nil {
		return err
	}
	pick := func(rec record.Record, line []byte, kept *keeping) error {
		if g.Chosen.LeavesOut(g.Model.Catalog, typ, rec.Key) {
			return nil
		}
		if err := g.pickKept(kept, spill.Pick{Type: typ, Followed: true}, rec, line, 0); err != nil {
			return err
		}
		return g.visit(typ, rec, g.round+1)
	}
	return g.keepOrRead(ctx, kept, environment.Reading{Type: typ, Where: g.Chosen.Where[typ]}, pick)
}

func (g *Related) pick(r spill.Pick, key record.Key, round int) error {
	if err := g.pickedApart(r.Type, key.Order()); err != nil {
		return err
	}
	r.Order, r.Key = key.Order(), string(record.AppendKey(nil, key))
	return g.Set.Pick(r, round)
}

// expand goes through what was picked of a type in the last round.
func (g *Related) expand(ctx context.Context, typ string) (int, error) {
	total, after := 0, ""
	parts, err := g.partsToFind(ctx, typ)
	if err != nil {
		return 0, err
	}
	for {
		batch, err := g.Set.Batch(typ, g.round, after, gatherBatch)
		if err != nil || len(batch) == 0 {
			return total, err
		}
		total += len(batch)
		after = batch[len(batch)-1].Order
		var unread []record.Key
		owners := []record.Key{} // whose parts come along
		for _, r := range batch {
			key, err := g.Model.Shapes.ParseKey([]byte(r.Key), typ)
			if err != nil {
				return total, err
			}
			if !r.Followed {
				unread = append(unread, key)
			}
			if !r.OwnerOnly {
				owners = append(owners, key)
			}
		}
		if len(unread) > 0 {
			if err := g.read(ctx, environment.Reading{Type: typ, Keys: unread},
				func(rec record.Record) error { return g.visit(typ, rec, g.round+1) }); err != nil {
				return total, err
			}
		}
		for _, part := range parts {
			err := g.read(ctx, environment.Reading{Type: part.Name, Field: part.OwnerField(), Of: owners}, func(rec record.Record) error {
				return g.pickPart(part, rec, func(p spill.Pick, round int) error { return g.pick(p, rec.Key, round) })
			})
			if err != nil {
				return total, err
			}
		}
	}
}

// visit follows the references of a record that is in the parcel; what they lead to is picked in
// a round.
func (g *Related) visit(typ string, rec record.Record, round int) error {
	t, _ := g.Model.Catalog.Type(typ)
	if g.Chosen.LeavesOut(g.Model.Catalog, typ, rec.Key) {
		return nil
	}
	address := g.Model.Catalog.Address(typ, rec.Key)
	for i, part := range rec.Key.Parts() {
		if err := g.follow(part, address, t.Key[i], t.OwnerField(), round); err != nil {
			return err
		}
	}
	at := 0
	for _, field := range g.Env.Fit.Fields[typ] {
		if !refers(field) {
			continue
		}
		if err := g.follow(rec.Values[at], address, field.Name, t.OwnerField(), round); err != nil {
			return err
		}
		at++
	}
	return nil
}

func (g *Related) follow(v record.Value, address, field, owner string, round int) error {
	through := address + " " + field
	for _, ref := range v.References() {
		typ, key := ref.Refers(), ref.Key()
		out := g.Chosen.LeavesOut(g.Model.Catalog, typ, key)
		var err error
		switch {
		case !out && g.Whole(typ):
		case out || g.Chosen.Related != "all" || g.Env.Fit.Fields[typ] == nil:
			err = g.Set.Refer(spill.Pick{Type: typ, Order: key.Order(), Key: string(record.AppendKey(nil, key)), Through: through})
		default:
			r := spill.Pick{Type: typ, Along: true, Through: through, OwnerOnly: field == owner}
			if r.OwnerOnly {
				r.Through = address
			}
			err = g.pick(r, key, round)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// Mentions gives what is only referred to, one after the other, for a parcel's list; look
// is given each batch before say makes the mentions of its records.
func Mentions(set *spill.Picked, look func([]spill.Pick) error, say func(spill.Pick) (parcel.Mention, error)) func() (parcel.Mention,
	bool, error) {
	var batch []spill.Pick
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

// Missing names patterns of one address that no record has.
func (g *Related) Missing(ctx context.Context, source string) error {
	var missing []string
	near := ""
	for i, p := range g.Chosen.Patterns {
		covered := false
		for _, typ := range g.Model.Catalog.Names() {
			covered = covered || p.WholeType(typ)
		}
		if !g.Found[i] && !covered {
			if missing = append(missing, p.String()); len(missing) == 1 {
				near = g.nearest(ctx, p)
			}
		}
	}
	if len(missing) > 0 {
		return &NoRecordError{Source: source, Patterns: missing, Near: near}
	}
	return nil
}

// NoRecordError is a selection that names what is not there.
type NoRecordError struct {
	Source   string
	Patterns []string // that no record fits, in the order in which they were given
	Near     string   // what the only one may have been meant to be, as words; "" for nothing
}

func (e *NoRecordError) Error() string {
	const most = 5
	text := e.Source + " has no record " + strings.Join(e.Patterns[:min(most, len(e.Patterns))], ", ")
	if more := len(e.Patterns) - most; more > 0 {
		text += fmt.Sprintf(" and %d more", more)
	}
	if len(e.Patterns) > 1 || e.Near == "" {
		return text + "; no parcel was made"
	}
	return text + e.Near + " No parcel was made"
}
