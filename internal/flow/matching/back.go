package matching

import (
	"context"
	"slices"

	"anagram/internal/core/catalog"
	"anagram/internal/core/check"
	"anagram/internal/core/match"
	"anagram/internal/core/pairing"
	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/flow/sides"
	"anagram/internal/store/docket"
)

// A match that is there to take an import back: the source is what the target held before,
// and records that the import made are found as created-here, to be removed.

// Back says what such a match takes back.
type Back struct {
	Docket  int    // whose import
	Address string // of the target then
	Source  string // of that docket, whose times may be in another zone
	// Pairs are records that got another key by the import: source is the key before.
	Pairs []docket.Paired
	// Created are the keys of records that the import made, by type.
	Created map[string][]record.Key
	// Of gives what is taken back of a record; ok is false where that is nothing.
	Of func(typ string, key record.Key) (docket.Back, bool)
	// Left is what the restore cannot bring back, in words.
	Left []string
}

// created is a record that an earlier import made, as a finding.
type created struct {
	finding
	back docket.Back
}

// docketBack is the number of the docket whose import is taken back, 0 for none.
func (c compared) docketBack() int {
	if c.back == nil {
		return 0
	}
	return c.back.Docket
}

// withBack gives what is compared with the target seen by the keys that records had before the
// import.
func (c compared) withBack() (compared, error) {
	if len(c.back.Pairs) == 0 {
		return c, nil
	}
	c.pairs = c.back.Pairs
	c.names, c.agreedNames = pairing.New(c.catalog, c.model.Shapes), pairing.New(c.catalog, c.model.Shapes)
	for _, p := range c.pairs {
		source, err := c.model.Shapes.ParseKey(p.Source, p.Type)
		if err != nil {
			return c, err
		}
		target, err := c.model.Shapes.ParseKey(p.Target, p.Type)
		if err != nil {
			return c, err
		}
		c.names.Add(p.Type, target, source)
		c.agreedNames.Add(p.Type, target, source)
	}
	c.reader = sides.Renamed(c.env.Environment, c.names)
	return c, nil
}

// asCreated marks a record that only the target has as one that the import made.
func (c compared) asCreated(w atWork, f match.Finding) match.Finding {
	if c.back == nil || f.Status != match.TargetOnly {
		return f
	}
	if _, ok := c.back.Of(w.Name, f.Key); ok {
		f.Reasons = []match.Reason{match.CreatedHere}
	}
	return f
}

// takesBack keeps what a finding takes back.
func (c compared) takesBack(f finding, out *sink) {
	if c.back == nil {
		return
	}
	if back, ok := c.back.Of(f.Type.Name, f.Found.Key); ok {
		out.does(func() error { return out.builder.Back(out.ctx, f.id, back) })
	}
}

// made gives a finding that removes what the import made; ok is false for any other.
func (c compared) made(f finding) (created, bool) {
	if c.back == nil || !f.Removes {
		return created{}, false
	}
	back, ok := c.back.Of(f.Type.Name, f.Found.Key)
	return created{finding{check.Facts{Written: f.Written, Found: match.Finding{Key: f.Found.Key}}, f.id}, back}, ok
}

// asWritten checks that records of a type which the import made are as it wrote them.
func asWritten(ctx context.Context, c compared, w atWork, all []created, out *sink) error {
	for part := range slices.Chunk(all, needsBatch) {
		by := map[string]created{}
		var keys []record.Key
		for _, one := range part {
			by[one.Found.Key.Order()], keys = one, append(keys, one.Found.Key)
		}
		reading := environment.Reading{Type: w.Name, Fields: w.fields, Keys: keys, Beside: w.BesideOf(w.place, w.fields), Sums: true}
		for rec, err := range c.reader.Read(ctx, c.model, reading) {
			if err != nil {
				return err
			}
			one, ok := by[rec.Key.Order()]
			switch {
			case !ok:
			case one.back.Sum == "":
				out.check(one.id, check.NotMade(one.Address, c.target, c.back.Docket))
			case one.back.ID != rec.ID || one.back.Sum != docket.SumOf(w.fields, sides.InTarget(c.names, w.Type, w.fields, rec)):
				out.check(one.id, check.Altered(one.Address, c.target, c.back.Docket,
					check.Side{Environment: c.target, At: rec.ChangedAt, By: rec.ChangedBy}))
			}
		}
	}
	return out.err
}

// referrers looks what in the target refers to records that the import made.
func referrers(ctx context.Context, c compared, byType map[string][]created, out *sink) error {
	for _, t := range c.catalog.Types {
		fields := c.env.Fit.Fields[t.Name]
		if fields == nil {
			continue
		}
		for name := range t.Refers {
			field := record.Field{Name: name}
			inKey := record.FieldAt(c.model.Shapes[t.Name], name)
			if at := record.FieldAt(fields, name); at >= 0 {
				field = fields[at]
			} else if inKey < 0 {
				continue
			}
			for typ, list := range byType {
				if !slices.Contains(t.Refers[name].To, typ) {
					continue
				}
				r := referring{c: c, out: out, typ: t.Name, field: field, inKey: inKey, to: typ}
				r.required = inKey >= 0 || field.Required
				if err := r.find(ctx, list, t.Refers[name].One() == typ); err != nil {
					return err
				}
			}
		}
	}
	if err := heldElsewhere(ctx, c, byType, out); err != nil {
		return err
	}
	out.catalogOnly(c, byType)
	return out.err
}

// heldBatch is how many records are asked for at a time.
const heldBatch = 100

// heldElsewhere looks what refers to records that the import made from places which the catalog
// does not know.
func heldElsewhere(ctx context.Context, c compared, byType map[string][]created, out *sink) error {
	holder := c.env.Environment.Can().Holder
	if holder == nil {
		return nil
	}
	for _, t := range c.catalog.Types {
		for part := range slices.Chunk(byType[t.Name], heldBatch) {
			var keys []record.Key
			for _, one := range part {
				keys = append(keys, c.names.Target(t.Name, one.Found.Key))
			}
			held, err := holder.Held(ctx, c.model, t.Name, keys)
			if err != nil {
				return err
			}
			for i, by := range held {
				if by != "" {
					out.check(part[i].id, check.ReferredOutside(part[i].Address, by, c.target))
				}
			}
		}
	}
	return nil
}

// catalogOnly says that nothing in a target without foreign keys would show who else refers to
// records that are removed.
func (out *sink) catalogOnly(c compared, byType map[string][]created) {
	for _, place := range c.env.About.Places {
		if len(place.Foreign) > 0 || slices.ContainsFunc(place.Columns, func(column catalog.Column) bool { return column.RefersTo != "" }) {
			return
		}
	}
	if len(byType) > 0 {
		out.onDocket(check.KnowsCatalogOnly(c.target))
	}
}

// referring is one reference field by which records of a type may refer to some that are to
// be removed.
type referring struct {
	c        compared
	out      *sink
	typ      string
	field    record.Field
	inKey    int // place of the field in the key, -1 where it is none of it
	to       string
	required bool
}

func (r referring) find(ctx context.Context, list []created, direct bool) error {
	by := map[string]created{}
	var keys []record.Key
	for _, one := range list {
		by[one.Found.Key.Order()], keys = one, append(keys, one.Found.Key)
	}
	reading := environment.Reading{Type: r.typ}
	if r.inKey < 0 {
		reading.Fields = []record.Field{r.field}
	}
	if direct {
		reading.Field, reading.Of = r.field.Name, keys
	}
	for rec, err := range r.c.reader.Read(ctx, r.c.model, reading) {
		if err != nil {
			return err
		}
		v := record.Value{}
		if r.inKey >= 0 {
			v = rec.Key.Parts()[r.inKey]
		} else {
			v = rec.Values[0]
		}
		for _, ref := range v.References() {
			if one, ok := by[ref.Key().Order()]; ok && ref.Refers() == r.to {
				r.holds(ctx, one, rec.Key)
			}
		}
	}
	return r.out.err
}

// holds keeps that a record refers to one that is to be removed.
func (r referring) holds(ctx context.Context, one created, by record.Key) {
	if r.typ == r.to && by.Order() == one.Found.Key.Order() {
		return // itself
	}
	address := r.c.catalog.Address(r.typ, by)
	gives := false
	finding := asked(r.out, func() (id int64, err error) {
		id, gives, err = r.out.builder.GivesUp(ctx, r.typ, by.Order(), r.field.Name)
		return id, err
	})
	if !gives {
		r.out.check(one.id, check.Referred(one.Address, address, r.field.Name, r.c.target))
		return
	}
	n := docket.Need{Holder: one.id, Type: r.typ, Key: string(record.AppendKey(nil, by)), Required: r.required, Frees: true}
	n.Field, n.Address, n.Finding = r.field.Name, address, finding
	r.out.does(func() error { return r.out.builder.Frees(ctx, n, by) })
}
