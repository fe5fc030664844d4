package matching

import (
	"context"

	"anagram/internal/core/catalog"
	"anagram/internal/core/check"
	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/environment"
)

// Rules of the target that are about more than one value's own form: the target itself is
// asked what it would say of the values after what may be approved.

// ruling collects the values of one type that are to be tried.
type ruling struct {
	judge   environment.Judge
	place   string
	rules   []catalog.Rule
	waiting [][]trial // by rule
}

// trial is how the fields of a rule may come to stand.
type trial struct {
	finding
	check.After
}

const ruleBatch = 200

// newRuling finds the rules of the target that can be tried; nil where there are none.
func newRuling(c compared, w atWork) *ruling {
	judge := c.env.Environment.Can().Judge
	if judge == nil || c.against != nil {
		return nil
	}
	r := &ruling{judge: judge, place: w.place.Name, rules: check.Judged(w.Type, w.place, c.model.Shapes[w.Name], w.fields)}
	if len(r.rules) == 0 {
		return nil
	}
	r.waiting = make([][]trial, len(r.rules))
	return r
}

// note takes down the values that a finding may come to have.
func (r *ruling) note(ctx context.Context, f finding, out *sink) error {
	if r == nil || f.Found.Source == nil || match.Hopeless(f.Found.Reasons) {
		return nil
	}
	for n, rule := range r.rules {
		for _, after := range f.After(rule.Columns) {
			r.waiting[n] = append(r.waiting[n], trial{f, after})
		}
		if len(r.waiting[n]) >= ruleBatch {
			if err := r.flush(ctx, out); err != nil {
				return err
			}
		}
	}
	return nil
}

// flush has the target judge.
func (r *ruling) flush(ctx context.Context, out *sink) error {
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
			rows[i] = one.Values
		}
		refused, err := r.judge.Judge(ctx, r.place, rule, rows)
		if err != nil {
			return err
		}
		for i, one := range waiting {
			if refused[i] {
				out.checks(one.id, one.Broken(rule, one.After))
			}
		}
	}
	return out.err
}
