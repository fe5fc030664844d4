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

// Values that no two records of the target may both have, and who has them.

// claiming collects the claims of one type until there are enough to ask the target who
// holds what they want.
type claiming struct {
	typ      *catalog.Type
	fields   []record.Field
	required []string
	sets     [][]string
	waiting  []claim
}

type claim struct {
	docket.Claim
	set    int // which of sets
	values []record.Value
	own    string // key of the finding itself
}

const claimBatch = 500

func (m *matching) startClaims(t *catalog.Type, fields []record.Field) {
	m.claims = nil
	if m.against != nil {
		return
	}
	place := m.env.About.Places[t.Place(m.target)]
	if sets := t.UniqueSets(place, m.model.Shapes[t.Name], fields); len(sets) > 0 {
		m.claims = &claiming{typ: t, fields: fields, required: m.required(t, fields), sets: sets}
	}
}

// claim takes down what a finding would do to unique sets of values.
func (m *matching) claim(ctx context.Context, id int64, f match.Finding, address string) error {
	c := m.claims
	if c == nil || f.Source == nil || f.Status == match.Same || f.Status == match.TargetOnly || slices.Contains(f.Reasons, match.Ambiguous) {
		return nil
	}
	for n, set := range c.sets {
		differs, proposed := proposes(c.fields, set, f)
		combinations := check.Combinations(differs)
		if f.Target == nil { // of a new record all or nothing: what else it gets is the target's to say
			combinations = combinations[:min(1, len(combinations))]
		}
		for _, writes := range combinations {
			values, ok := c.after(set, f, writes)
			one := claim{set: n, values: values, own: f.Key.Order()}
			one.Finding, one.Fields, one.Writes, one.Proposed = id, set, writes, slices.Equal(writes, proposed)
			one.Address, one.Type = address, c.typ.Name
			one.Must = f.Target == nil && !slices.ContainsFunc(proposed, func(name string) bool { return !slices.Contains(c.required, name) })
			if ok {
				one.Values = record.NewKey(values, nil).Order()
			}
			c.waiting = append(c.waiting, one)
		}
	}
	if len(c.waiting) >= claimBatch {
		return m.flushClaims(ctx)
	}
	return nil
}

// after gives the values of a set once some of its fields are written; ok is false where
// one of them is null, as nulls are not each other, or not known.
func (c *claiming) after(set []string, f match.Finding, writes []string) (values []record.Value, ok bool) {
	for _, name := range set {
		v := valueAfter(c.typ, c.fields, name, f, writes)
		if v.IsNull() || v.IsAbsent() {
			return nil, false
		}
		values = append(values, v)
	}
	return values, true
}

// flushClaims asks the target who holds what is wanted, and keeps the claims.
func (m *matching) flushClaims(ctx context.Context) error {
	c := m.claims
	if c == nil || len(c.waiting) == 0 {
		return nil
	}
	waiting := c.waiting
	c.waiting = nil
	for n, set := range c.sets {
		with := &environment.Values{Fields: set}
		by := map[string][]int{}
		for i, one := range waiting {
			if one.set == n && one.Values != "" {
				with.Sets = append(with.Sets, one.values)
				by[one.Values] = append(by[one.Values], i)
			}
		}
		if len(with.Sets) == 0 {
			continue
		}
		unclear := false
		err := m.holders(ctx, c, with, func(rec record.Record) {
			held, _ := c.after(set, match.Finding{Key: rec.Key, Target: &rec}, nil)
			claims, exact := by[record.NewKey(held, nil).Order()]
			unclear = unclear || !exact
			for _, i := range claims {
				waiting[i].hold(rec, m.catalog.Address(c.typ.Name, rec.Key))
			}
		})
		if err != nil {
			return err
		}
		if !unclear {
			continue
		}
		// The database calls values equal that differ here, as in case or accents. Which, only
		// it can say: it is asked for one after the other.
		for i := range waiting {
			if one := &waiting[i]; one.set == n && one.Values != "" && one.HeldBy == "" {
				err := m.holders(ctx, c, &environment.Values{Fields: set, Sets: [][]record.Value{one.values}}, func(rec record.Record) {
					one.hold(rec, m.catalog.Address(c.typ.Name, rec.Key))
				})
				if err != nil {
					return err
				}
			}
		}
	}
	for _, one := range waiting {
		if err := m.builder.Claim(ctx, one.Claim); err != nil {
			return err
		}
	}
	return nil
}

// holders reads the records that hold some values.
func (m *matching) holders(ctx context.Context, c *claiming, with *environment.Values, give func(record.Record)) error {
	for rec, err := range m.env.Read(ctx, m.model, environment.Reading{Type: c.typ.Name, Fields: c.fields, With: with}) {
		if err != nil {
			return err
		}
		give(rec)
	}
	return nil
}

// hold notes who holds what is wanted, where it is another record.
func (c *claim) hold(rec record.Record, address string) {
	if c.own != rec.Key.Order() && c.HeldBy == "" {
		c.HeldBy, c.Order, c.Since = address, rec.Key.Order(), check.Side{At: rec.ChangedAt, By: rec.ChangedBy}
	}
}

// taken makes conflicts of findings that propose values which another record holds.
func (m *matching) taken(ctx context.Context) error {
	clashes, err := m.builder.LinkClaims(ctx)
	if err != nil {
		return err
	}
	for _, c := range clashes {
		if err := m.check(ctx, c.Finding, check.Taken(c, m.target, m.number)); err != nil {
			return err
		}
		if c.Both || c.Trade {
			continue // only in this docket, and mended there
		}
		was, err := m.builder.Taken(ctx, c.Finding)
		if err != nil {
			return err
		}
		typ, err := m.builder.TypeOf(ctx, c.Finding)
		if err != nil {
			return err
		}
		for i, t := range m.types {
			if t.Name == typ && was != match.Conflict {
				m.types[i].Counts[was]--
				m.types[i].Counts[match.Conflict]++
				if err := m.builder.Counts(ctx, m.types[i]); err != nil {
					return err
				}
			}
		}
	}
	return nil
}
