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
	typ     *catalog.Type
	judge   environment.Judge
	place   catalog.Place
	fields  []record.Field
	rules   []catalog.Rule
	waiting [][]trial // by rule
}

type trial struct {
	finding         int64
	address         string
	differs, writes []string
	partial, isNew  bool
	values          []record.Value
}

const ruleBatch = 200

// startRules finds the rules of the target that can be tried: those about values alone,
// all of them compared.
func (m *matching) startRules(t *catalog.Type, fields []record.Field) {
	m.ruling = nil
	judge, ok := m.connector().(environment.Judge)
	if !ok || m.against != nil {
		return
	}
	r := &ruling{typ: t, judge: judge, place: m.env.About.Places[t.Place(m.target)], fields: fields}
	plain := func(name string) bool {
		all := append(slices.Clone(m.model.Shapes[t.Name]), fields...)
		i := record.FieldAt(all, name)
		_, words := t.Words[name]
		return i >= 0 && !words && !slices.Contains([]record.Kind{record.Reference, record.Woven, record.Bytes}, all[i].Kind)
	}
	for _, rule := range r.place.Rules {
		if !slices.ContainsFunc(rule.Columns, func(column string) bool { return !plain(column) }) {
			r.rules = append(r.rules, rule)
		}
	}
	if len(r.rules) > 0 {
		r.waiting = make([][]trial, len(r.rules))
		m.ruling = r
	}
}

// rule takes down the values that a finding may come to have.
func (m *matching) rule(ctx context.Context, id int64, f match.Finding, address string) error {
	r := m.ruling
	if r == nil || f.Source == nil || slices.Contains(f.Reasons, match.Ambiguous) {
		return nil
	}
	for n, rule := range r.rules {
		differs, proposed := proposes(r.fields, rule.Columns, f)
		combinations := check.Combinations(differs)
		if f.Target == nil { // all or nothing: what else it gets is the target's to say
			combinations = [][]string{differs}
		}
		for _, writes := range combinations {
			one := trial{finding: id, address: address, differs: differs, writes: writes, partial: !slices.Equal(writes, proposed), isNew: f.Target == nil}
			for _, column := range rule.Columns {
				one.values = append(one.values, valueAfter(r.typ, r.fields, column, f, writes))
			}
			r.waiting[n] = append(r.waiting[n], one)
		}
		if len(r.waiting[n]) >= ruleBatch {
			if err := m.flushRules(ctx); err != nil {
				return err
			}
		}
	}
	return nil
}

// flushRules has the target judge.
func (m *matching) flushRules(ctx context.Context) error {
	r := m.ruling
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
		refused, err := r.judge.Judge(ctx, r.place.Name, rule, rows)
		if err != nil {
			return err
		}
		for i, one := range waiting {
			if !refused[i] {
				continue
			}
			free := slices.DeleteFunc(slices.Clone(one.differs), func(name string) bool {
				column, _ := r.place.Column(name)
				return one.isNew && needs(column)
			})
			c := docket.Check{Check: check.Breaks(one.address, rule, free, m.target), Fields: one.differs, Writes: one.writes, Partial: one.partial}
			if err := m.checkWhen(ctx, one.finding, c); err != nil {
				return err
			}
		}
	}
	return nil
}

// proposes gives those of some fields in which a finding differs, and those of them that
// it proposes to write. Of a record that is new these are all that are no part of the key.
func proposes(fields []record.Field, names []string, f match.Finding) (differs, proposed []string) {
	for _, name := range names {
		at := record.FieldAt(fields, name)
		if at < 0 {
			continue // part of the key, which stays
		}
		if f.Target == nil {
			differs, proposed = append(differs, name), append(proposed, name)
			continue
		}
		for _, d := range f.Differences {
			if d.Field == at && !d.Key {
				differs = append(differs, name)
				if d.Proposed() || f.Status == match.Conflict {
					proposed = append(proposed, name)
				}
			}
		}
	}
	return differs, proposed
}

// valueAfter gives the value of a field, or of a part of the key, once some fields of a
// finding are written.
func valueAfter(t *catalog.Type, fields []record.Field, name string, f match.Finding, writes []string) record.Value {
	at := record.FieldAt(fields, name)
	switch {
	case at < 0:
		return f.Key.Parts()[slices.Index(t.Key, name)]
	case f.Target == nil || slices.Contains(writes, name):
		return f.Source.Values[at]
	default:
		return f.Target.Values[at]
	}
}
