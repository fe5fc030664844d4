package matching

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"anagram/internal/core/pairing"
	"anagram/internal/core/record"
	"anagram/internal/flow/session"
	"anagram/internal/store/parcel"
	"anagram/internal/store/workspace"
)

// Records that come in beside the target's own: the parcel is seen as if they had the other
// key that somebody gave them, and so is all that refers to them. Everything after that knows
// them by that key only.

// withBeside reads which records come in beside others, of this source and target.
func (c compared) withBeside() (compared, error) {
	pairs, err := c.session.Workspace.Pairs()
	if err != nil {
		return c, err
	}
	for _, p := range pairs {
		if !p.Beside || p.Source != c.source || p.Target != c.target || c.against != nil {
			continue
		}
		if typ, _, _ := strings.Cut(p.New, "/"); c.model.Shapes[typ] == nil {
			continue
		}
		typ, old, err := c.catalog.ParseAddress(c.model.Shapes, p.Old)
		var other record.Key
		if err == nil {
			_, other, err = c.catalog.ParseAddress(c.model.Shapes, p.New)
		}
		if err != nil {
			return c, session.Usage(workspace.PairsName+": %v. Correct it there, or forget it with anagram pair --forget", err)
		}
		if c.beside == nil {
			c.beside, c.besideOf = pairing.New(c.catalog, c.model.Shapes), map[string]string{}
		}
		c.beside.Add(typ, other, old)
		c.besideOf[p.New] = p.Old
	}
	return c, nil
}

// records gives the parcel's records of a type by the keys that they have here, in the order of
// these. Only the few that another key is given to are kept in memory.
func (c compared) records(ctx context.Context, typ string) record.Stream {
	if c.beside == nil || !c.beside.Touches(typ) {
		return c.parcel.Records(ctx, typ)
	}
	return func(yield func(record.Record, error) bool) {
		var moved []record.Record
		for rec, err := range c.parcel.Records(ctx, typ) {
			if err != nil {
				yield(rec, err)
				return
			}
			if key := c.beside.Target(typ, rec.Key); key.Order() != rec.Key.Order() {
				moved = append(moved, c.besides(typ, rec))
			}
		}
		slices.SortFunc(moved, func(a, b record.Record) int { return a.Key.Compare(b.Key) })
		for rec, err := range c.parcel.Records(ctx, typ) {
			if err != nil {
				yield(rec, err)
				return
			}
			if c.beside.Target(typ, rec.Key).Order() != rec.Key.Order() {
				continue
			}
			for len(moved) > 0 && moved[0].Key.Compare(rec.Key) <= 0 {
				if !yield(moved[0], nil) {
					return
				}
				moved = moved[1:]
			}
			if !yield(c.besides(typ, rec), nil) {
				return
			}
		}
		for _, rec := range moved {
			if !yield(rec, nil) {
				return
			}
		}
	}
}

// besides gives a record the key that it has here, and its references those of theirs.
func (c compared) besides(typ string, rec record.Record) record.Record {
	rec.Key = c.beside.Target(typ, rec.Key)
	values := make([]record.Value, len(rec.Values))
	for i, v := range rec.Values {
		values[i] = c.beside.ToTarget(v)
	}
	rec.Values = values
	return rec
}

// referred gives the records that the parcel only refers to, by the addresses that they have
// here.
func (c compared) referred(ctx context.Context) func(func(parcel.Mention, error) bool) {
	return func(yield func(parcel.Mention, error) bool) {
		for m, err := range c.parcel.Referred(ctx) {
			if err == nil && c.beside != nil {
				if typ, key, parsed := c.catalog.ParseAddress(c.model.Shapes, m.Address); parsed == nil {
					m.Address = c.catalog.Address(typ, c.beside.Target(typ, key))
				}
			}
			if !yield(m, err) {
				return
			}
		}
	}
}

// besideText says of a record that it comes in beside another; "" where it does not.
func (c compared) besideText(address string) string {
	old, ok := c.besideOf[address]
	if !ok {
		return ""
	}
	return fmt.Sprintf("%s is %s of %s, which comes in beside %s's own %s.", address, old, c.source, c.target, old)
}
