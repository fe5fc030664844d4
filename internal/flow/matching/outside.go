package matching

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"anagram/internal/core/check"
	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/flow/outside"
)

// Records that would be new though the target has them, left out by the condition of their
// type; see package outside.

// outsiders collects the findings of one type that would be new.
type outsiders struct {
	finder  *outside.Finder
	held    []heldOutside
	waiting []finding
}

// newOutsiders gives nil where nothing of a type can be outside by itself.
func newOutsiders(c compared, w atWork) (*outsiders, error) {
	if c.against != nil {
		return nil, nil
	}
	finder, err := outside.For(c.catalog, w.Type, w.place, c.target)
	if finder == nil || err != nil {
		return nil, err
	}
	return &outsiders{finder: finder}, nil
}

func (o *outsiders) note(ctx context.Context, c compared, w atWork, f finding) error {
	if o == nil || !f.Adds || match.Hopeless(f.Found.Reasons) {
		return nil
	}
	if o.waiting = append(o.waiting, f); len(o.waiting) < claimBatch {
		return nil
	}
	return o.flush(ctx, c, w)
}

// flush looks which of them the target has outside.
func (o *outsiders) flush(ctx context.Context, c compared, w atWork) error {
	if o == nil || len(o.waiting) == 0 {
		return nil
	}
	keys := make([]record.Key, len(o.waiting))
	for i, f := range o.waiting {
		keys[i] = f.Found.Key
	}
	held, err := o.finder.Held(ctx, c.reader, c.model, keys, func(key record.Key) string { return c.catalog.Address(w.Name, key) })
	if err != nil {
		return err
	}
	for _, f := range o.waiting {
		if found, ok := held[f.Found.Key.Order()]; ok {
			o.held = append(o.held, heldOutside{f.id, w.Name, f.Found.Key, found})
		}
	}
	o.waiting = nil
	return nil
}

// heldOutside is a finding that becomes a conflict.
type heldOutside struct {
	finding int64
	typ     string
	key     record.Key
	check   check.Check
}

// holdOutside makes conflicts of findings that the target has outside.
func holdOutside(held []heldOutside, out *sink) {
	for _, one := range held {
		out.becomesConflict(one.finding, one.typ, match.HeldOutside)
		out.check(one.finding, one.check)
	}
}

// mostNamed is how many records of a circle are named.
const mostNamed = 5

// circles checks new records that require each other.
func circles(ctx context.Context, c compared, out *sink) error {
	found, err := out.builder.Circles(ctx, func(typ, field string) bool {
		t, ok := c.catalog.Type(typ)
		return ok && t.Late(c.env.About.Places[t.Place(c.target)], field)
	})
	if err != nil {
		return err
	}
	for _, circle := range found {
		var names []string
		for _, id := range circle[:min(len(circle), mostNamed+1)] {
			names = append(names, out.addressOf(id))
		}
		for _, id := range circle {
			own := out.addressOf(id)
			others := slices.DeleteFunc(slices.Clone(names), func(name string) bool { return name == own })
			text := strings.Join(others[:min(len(others), mostNamed)], ", ")
			if more := len(circle) - 1 - mostNamed; more > 0 {
				text += fmt.Sprintf(" and %d more", more)
			}
			out.check(id, check.Circle(own, text, c.target))
		}
	}
	return out.err
}
