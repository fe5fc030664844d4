package matching

import (
	"context"
	"slices"

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
	if l != nil && match.Removes(f.Status, f.Reasons) {
		for n, set := range l.sets {
			one := claim{set: n, own: f.Key.Order()}
			one.Finding, one.Fields, one.Writes, one.Proposed, one.Address, one.Type = f.id, set, []string{}, true, f.address, w.Name
			l.waiting = append(l.waiting, one)
		}
		return nil
	}
	if l == nil || f.Source == nil || f.Status == match.Same || f.Status == match.TargetOnly || match.Hopeless(f.Reasons) {
		return nil
	}
	for n, set := range l.sets {
		differs, proposed := proposes(w, set, f)
		combinations := check.Combinations(differs)
		if f.adds() { // all or nothing: what else it gets is the target's to say
			combinations = combinations[:min(1, len(combinations))]
			if len(combinations) == 0 {
				combinations = [][]string{{}} // its key alone
			}
		}
		for _, writes := range combinations {
			values, ok := after(w, set, f, writes)
			one := claim{set: n, values: values, own: f.Key.Order()}
			one.Finding, one.Fields, one.Writes, one.Proposed = f.id, set, writes, slices.Equal(writes, proposed)
			one.Address, one.Type = f.address, w.Name
			one.Must = f.adds() && !slices.ContainsFunc(proposed, func(name string) bool { return !slices.Contains(w.required, name) })
			if ok {
				one.Values = record.NewKey(values, nil).Order()
			}
			l.waiting = append(l.waiting, one)
		}
	}
	if len(l.waiting) >= claimBatch {
		return l.flush(ctx, c, w, out)
	}
	return nil
}

// after gives the values of a set once some of its fields are written; ok is false where
// one of them is null, as nulls are not each other, or not known.
func after(w atWork, set []string, f finding, writes []string) (values []record.Value, ok bool) {
	for _, name := range set {
		v := valueAfter(w, name, f, writes)
		if v.IsNull() || v.IsAbsent() {
			return nil, false
		}
		values = append(values, v)
	}
	return values, true
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
		if err := out.builder.Claim(ctx, one.Claim); err != nil {
			return err
		}
	}
	return nil
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
		held, _ := after(w, set, finding{Finding: match.Finding{Key: rec.Key, Target: &rec}}, nil)
		claims, exact := by[record.NewKey(held, nil).Order()]
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
		if err := out.check(ctx, clash.Finding, check.Taken(clash, c.target, c.number)); err != nil {
			return err
		}
		if clash.Both || clash.Trade {
			continue // only in this docket, and mended there
		}
		was, err := out.builder.Because(ctx, clash.Finding, match.Taken)
		if err != nil {
			return err
		}
		typ, err := out.builder.TypeOf(ctx, clash.Finding)
		if err != nil {
			return err
		}
		if err := out.becomesConflict(ctx, typ, was); err != nil {
			return err
		}
	}
	return nil
}
