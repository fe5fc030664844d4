package matching

import (
	"context"

	"anagram/internal/core/check"
	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/store/docket"
)

// Values that no two records of the target may both have, and who has them.

// claiming collects the claims of one type until there are enough to ask the target who
// holds what they want.
type claiming struct {
	sets    [][]string
	waiting []claim
}

type claim struct {
	docket.Claim
	set    int // which of sets
	values []record.Value
	own    string // key of the finding itself
}

const claimBatch = 500

func newClaiming(c compared, w atWork) *claiming {
	if c.against != nil {
		return nil
	}
	sets := w.UniqueSets(w.place, c.model.Shapes[w.Name], w.fields)
	if c.names.Touches(w.Name) {
		sets = append(sets, w.Key) // keys differ, but not while records get each other's
	}
	if len(sets) == 0 {
		return nil
	}
	return &claiming{sets: sets}
}

// note takes down what a finding would do to unique sets of values.
func (l *claiming) note(ctx context.Context, c compared, w atWork, f finding, out *sink) error {
	if l == nil {
		return nil
	}
	claimed := func(n int, after check.After) {
		one := claim{set: n, values: after.Values, own: f.Found.Key.Order()}
		one.Finding, one.Address, one.Type = f.id, f.Address, w.Name
		one.Fields, one.Writes, one.Proposed = l.sets[n], after.Writes, after.Proposed
		if !f.Removes {
			one.Must = f.Demands(l.sets[n], w.required)
			if after.Known() {
				one.Values = record.NewKey(after.Values, nil).Order()
			}
		}
		l.waiting = append(l.waiting, one)
	}
	status := f.Found.Status
	wanted := f.Found.Source != nil && status != match.Same && status != match.TargetOnly && !match.Hopeless(f.Found.Reasons)
	for n, set := range l.sets {
		switch {
		case f.Removes:
			claimed(n, check.After{Writes: []string{}, Proposed: true})
		case wanted:
			for _, after := range f.After(set) {
				claimed(n, after)
			}
		}
	}
	if len(l.waiting) >= claimBatch {
		return l.flush(ctx, c, w, out)
	}
	return nil
}

// flush asks the target who holds what is wanted, and keeps the claims.
func (l *claiming) flush(ctx context.Context, c compared, w atWork, out *sink) error {
	if l == nil || len(l.waiting) == 0 {
		return nil
	}
	waiting := l.waiting
	l.waiting = nil
	for n, set := range l.sets {
		if err := findHolders(ctx, c, w, n, set, waiting); err != nil {
			return err
		}
	}
	for _, one := range waiting {
		out.does(func() error { return out.builder.Claim(ctx, one.Claim) })
	}
	return out.err
}

// findHolders notes in the claims of one set who holds what they want.
func findHolders(ctx context.Context, c compared, w atWork, n int, set []string, waiting []claim) error {
	with := &environment.Values{Fields: set}
	by := map[string][]int{}
	for i, one := range waiting {
		if one.set == n && one.Values != "" {
			with.Sets = append(with.Sets, one.values)
			by[one.Values] = append(by[one.Values], i)
		}
	}
	if len(with.Sets) == 0 {
		return nil
	}
	unclear := false
	err := holders(ctx, c, w, with, func(rec record.Record) {
		claims, exact := by[record.NewKey(held(w, set, rec), nil).Order()]
		unclear = unclear || !exact
		for _, i := range claims {
			waiting[i].hold(c, w, rec)
		}
	})
	if err != nil || !unclear {
		return err
	}
	// The database calls values equal that differ here, as in case or accents. Which, only
	// it can say: it is asked for one after the other.
	for i := range waiting {
		one := &waiting[i]
		if one.set != n || one.Values == "" || one.HeldBy != "" {
			continue
		}
		err := holders(ctx, c, w, &environment.Values{Fields: set, Sets: [][]record.Value{one.values}}, func(rec record.Record) {
			one.hold(c, w, rec)
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// held gives the values of a set that a record of the target has; none where one is null.
func held(w atWork, set []string, rec record.Record) []record.Value {
	has := check.Facts{Written: check.Written{Type: w.Type}, Fields: w.fields, Found: match.Finding{Key: rec.Key, Target: &rec}}
	now := check.After{}
	for _, name := range set {
		now.Values = append(now.Values, has.ValueAfter(name, nil))
	}
	if !now.Known() {
		return nil
	}
	return now.Values
}

// holders reads the records that hold some values.
func holders(ctx context.Context, c compared, w atWork, with *environment.Values, give func(record.Record)) error {
	for rec, err := range c.reader.Read(ctx, c.model, environment.Reading{Type: w.Name, Fields: w.fields, With: with, Sums: true}) {
		if err != nil {
			return err
		}
		give(rec)
	}
	return nil
}

// hold notes who holds what is wanted, where it is another record.
func (l *claim) hold(c compared, w atWork, rec record.Record) {
	if l.own == rec.Key.Order() || l.HeldBy != "" {
		return
	}
	l.HeldBy, l.Order, l.Since = c.catalog.Address(w.Name, rec.Key), rec.Key.Order(), check.Side{At: rec.ChangedAt, By: rec.ChangedBy}
	if rec.Was != nil {
		l.HeldAs = c.catalog.Address(w.Name, c.names.Target(w.Name, rec.Key))
	}
}

// taken makes conflicts of findings that propose values which another record holds.
func taken(ctx context.Context, c compared, out *sink) error {
	clashes, err := out.builder.LinkClaims(ctx)
	if err != nil {
		return err
	}
	for _, clash := range clashes {
		out.check(clash.Finding, check.Taken(clash, c.target, c.number))
		if clash.Both || clash.Trade {
			continue // only in this docket, and mended there
		}
		typ := asked(out, func() (string, error) { return out.builder.TypeOf(ctx, clash.Finding) })
		out.becomesConflict(clash.Finding, typ, match.Taken)
	}
	return out.err
}
