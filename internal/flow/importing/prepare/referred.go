package prepare

import (
	"context"
	"slices"

	"anagram/internal/core/check"
	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/flow/standing"
)

// What a restore is about to remove may be referred to by now from where no foreign key shows it:
// that is asked again before anything is written.

// removals are records of one type that are about to go, by the order of their keys.
type removals map[string]Now

// stillReferred leaves out what other records of the catalog refer to, which stay as they are.
func stillReferred(ctx context.Context, r Ready, target environment.Reader, byType map[string]removals, rest, found Rest) error {
	if len(byType) == 0 {
		return nil
	}
	approved := map[string]*standing.Approval{}
	for _, a := range r.Standing.Approved {
		if !rest.Skips(a) && !found.Skips(a) {
			approved[a.Address] = a
		}
	}
	for _, t := range r.Model.Catalog.Types {
		fields := r.Fit.Fields[t.Name]
		if fields == nil {
			continue
		}
		for name := range t.Refers {
			for typ, gone := range byType {
				if !slices.Contains(t.Refers[name].To, typ) {
					continue
				}
				by := referrer{typ: t.Name, to: typ, field: record.Field{Name: name}, inKey: record.FieldAt(r.Model.Shapes[t.Name], name),
					direct: t.Refers[name].One() == typ}
				if at := record.FieldAt(fields, name); at >= 0 {
					by.field = fields[at]
				} else if by.inKey < 0 {
					continue
				}
				if err := by.find(ctx, r, target, gone, approved, found); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// referrer is one field by which records of a type may refer to some that are about to go.
type referrer struct {
	typ, to string
	field   record.Field
	inKey   int  // place of the field in the key, -1 where it is none of it
	direct  bool // the field always refers to this type
}

func (b referrer) find(ctx context.Context, r Ready, target environment.Reader, gone removals, approved map[string]*standing.Approval,
	found Rest) error {
	reading := environment.Reading{Type: b.typ}
	if b.inKey < 0 {
		reading.Fields = []record.Field{b.field}
	}
	if b.direct {
		for _, n := range gone {
			reading.Field, reading.Of = b.field.Name, append(reading.Of, n.Here[0].Key)
		}
	}
	for rec, err := range target.Read(ctx, r.Model, reading) {
		if err != nil {
			return err
		}
		var v record.Value
		if b.inKey >= 0 {
			v = rec.Key.Parts()[b.inKey]
		} else {
			v = rec.Values[0]
		}
		for _, ref := range v.References() {
			n, ok := gone[ref.Key().Order()]
			itself := b.typ == b.to && ok && rec.Key.Order() == n.Here[0].Key.Order()
			if !ok || itself || ref.Refers() != b.to || found.Skips(n.Approval) {
				continue
			}
			address := r.Model.Catalog.Address(b.typ, rec.Key)
			if a := approved[address]; a != nil && !found.Skips(a) && (a.Removes || a.Writes(b.field.Name)) {
				continue // it goes as well, or refers to something else afterwards
			}
			r.stop(n.Approval, check.Referred(n.Address, address, b.field.Name, r.Model.Environment), found)
		}
	}
	return nil
}
