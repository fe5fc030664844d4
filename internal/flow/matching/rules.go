package matching

import (
	"context"
	"slices"

	"anagram/internal/core/catalog"
	"anagram/internal/core/check"
	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/store/docket"
)

// Rules of the target that are about more than one value's own form: the target itself is
// asked what it would say of the values after what may be approved.

// ruling collects the values of one type that are to be tried.
type ruling struct {
	judge   environment.Judge
	rules   []catalog.Rule
	waiting [][]trial // by rule
}

type trial struct {
	finding
	differs, writes []string
	partial         bool
	values          []record.Value
}

const ruleBatch = 200

// newRuling finds the rules of the target that can be tried: those about values alone,
// all of them compared.
func newRuling(c compared, w atWork) *ruling {
	judge := c.env.Environment.Can().Judge
	if judge == nil || c.against != nil {
		return nil
	}
	all := slices.Concat(c.model.Shapes[w.Name], w.fields)
	plain := func(name string) bool {
		i := record.FieldAt(all, name)
		_, words := w.Words[name]
		return i >= 0 && !words && !slices.Contains([]record.Kind{record.Reference, record.Woven, record.Bytes}, all[i].Kind)
	}
	r := &ruling{judge: judge}
	for _, rule := range w.place.Rules {
		if !slices.ContainsFunc(rule.Columns, func(column string) bool { return !plain(column) }) {
			r.rules = append(r.rules, rule)
		}
	}
	if len(r.rules) == 0 {
		return nil
	}
	r.waiting = make([][]trial, len(r.rules))
	return r
}

// note takes down the values that a finding may come to have.
func (r *ruling) note(ctx context.Context, c compared, w atWork, f finding, out *sink) error {
	if r == nil || f.Source == nil || match.Hopeless(f.Reasons) {
		return nil
	}
	for n, rule := range r.rules {
		differs, proposed := proposes(w, rule.Columns, f)
		combinations := check.Combinations(differs)
		if f.adds() { // all or nothing: what else it gets is the target's to say
			combinations = [][]string{differs}
		}
		for _, writes := range combinations {
			one := trial{finding: f, differs: differs, writes: writes, partial: !slices.Equal(writes, proposed)}
			for _, column := range rule.Columns {
				one.values = append(one.values, valueAfter(w, column, f, writes))
			}
			r.waiting[n] = append(r.waiting[n], one)
		}
		if len(r.waiting[n]) >= ruleBatch {
			if err := r.flush(ctx, c, w, out); err != nil {
				return err
			}
		}
	}
	return nil
}

// flush has the target judge.
func (r *ruling) flush(ctx context.Context, c compared, w atWork, out *sink) error {
	if r == nil {
		return nil
	}
	for n, rule := range r.rules {
		waiting := r.waiting[n]
		if r.waiting[n] = nil; len(waiting) == 0 {
			continue
		}
		rows := make([][]record.Value, len(waiting))
		for i, one := range waiting {
			rows[i] = one.values
		}
		refused, err := r.judge.Judge(ctx, w.place.Name, rule, rows)
		if err != nil {
			return err
		}
		for i, one := range waiting {
			if !refused[i] {
				continue
			}
			free := slices.DeleteFunc(slices.Clone(one.differs), func(name string) bool {
				column, _ := w.place.Column(name)
				return one.adds() && check.MustBeGiven(column)
			})
			broken := docket.Check{Check: check.Breaks(one.address, rule, free, c.target), Fields: one.differs, Writes: one.writes, Partial: one.partial}
			if err := out.checkWhen(ctx, one.id, broken); err != nil {
				return err
			}
		}
	}
	return nil
}

// proposes gives those of some fields in which a finding differs, and those of them that
// are written where the finding is approved, taking the source's side where a side has to
// be chosen. Of a record that is new these are all that are no part of the key.
func proposes(w atWork, names []string, f finding) (differs, proposed []string) {
	for _, name := range names {
		at := record.FieldAt(w.fields, name)
		if at < 0 {
			// A part of the key stays, except of a record that gets the source's key.
			at := slices.Index(w.Key, name)
			if slices.ContainsFunc(f.Differences, func(d match.Difference) bool { return d.Key && d.Field == at }) {
				differs, proposed = append(differs, name), append(proposed, name)
			}
			continue
		}
		if f.adds() {
			differs, proposed = append(differs, name), append(proposed, name)
			continue
		}
		for _, d := range f.Differences {
			if d.Field == at && !d.Key {
				differs = append(differs, name)
				if match.Propose(f.Status, d.Moved) != match.Keep {
					proposed = append(proposed, name)
				}
			}
		}
	}
	return differs, proposed
}

// valueAfter gives the value of a field, or of a part of the key, once some fields of a
// finding are written.
func valueAfter(w atWork, name string, f finding, writes []string) record.Value {
	at := record.FieldAt(w.fields, name)
	switch {
	case at < 0:
		if f.Target != nil && f.Target.Was != nil && !slices.Contains(writes, name) {
			return f.Target.Was.Parts()[slices.Index(w.Key, name)]
		}
		return f.Key.Parts()[slices.Index(w.Key, name)]
	case f.adds() || slices.Contains(writes, name):
		return f.Source.Values[at]
	default:
		return f.Target.Values[at]
	}
}
