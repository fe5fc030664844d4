package verify

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"anagram/internal/core/catalog"
	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/core/show"
	"anagram/internal/environment"
	"anagram/internal/flow/importing/prepare"
	"anagram/internal/flow/session"
	"anagram/internal/flow/standing"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/run"
)

// After everything was written the target is read again. What was written has to hold what
// was approved and else what it held before; what was not to be written is as it was.

// ReadBack reads what was written and gives what is not as it was approved.
// keep is given records as they were read back.
func ReadBack(ctx context.Context, s *session.Session, r prepare.Ready, target environment.Reader, rest prepare.Rest, total int,
	keep func(docket.Type, []prepare.Now) error) ([]prepare.LeftOut, error) {
	s.Progress.Start("reading back", total)
	defer s.Progress.Done()
	var out []prepare.LeftOut
	target = prepare.TakingTurns(target, nil)
	for l, err := range r.Lots(ctx, target, rest, true) {
		if err != nil {
			return out, err
		}
		for _, n := range l.List {
			message, err := Otherwise(r, n, l.Typ, l.Images[n.ID])
			if err != nil {
				return out, err
			}
			if message != "" {
				out = append(out, prepare.LeftOut{Address: n.Address, Why: prepare.ReadBackDiffers, Message: message})
			}
		}
		twice, err := HeldTwice(ctx, r, target, l.Typ, l.List)
		out = append(out, twice...)
		s.Progress.Add(len(l.Batch))
		if err != nil {
			return out, err
		}
		if len(out) > 0 {
			continue // all of them are told
		}
		if err := keep(l.Typ, l.List); err != nil {
			return out, err
		}
	}
	return out, nil
}

// BesideImages reads records as they are now, and what they were before the run.
func BesideImages(ctx context.Context, r prepare.Ready, target environment.Reader, t docket.Type,
	batch []*standing.Approval) ([]prepare.Now,
	map[int64]run.Image, error) {
	list, err := r.Current(ctx, target, t, batch)
	if err != nil {
		return nil, nil, err
	}
	images, err := r.Images(ctx, batch)
	return list, images, err
}

// Otherwise says how a record that was written reads back other than approved, "" where
// it does not.
func Otherwise(r prepare.Ready, n prepare.Now, t docket.Type, image run.Image) (string, error) {
	target := r.Model.Environment
	switch {
	case n.Removes && len(n.Here) > 0:
		return fmt.Sprintf("%s was to be removed and is still there; something in %s brings it back.", n.Address, target), nil
	case n.Removes:
		return "", nil
	}
	if len(n.Here) != 1 {
		return fmt.Sprintf("%s was written, but reading it back gives %d records with its key; something in %s changes what is written.", n.Address, len(n.Here), target), nil
	}
	typ, _ := r.Model.Catalog.Type(t.Name)
	here := n.Here[0]
	switch {
	case n.Rekeys(r.Model.Catalog) && here.Was != nil:
		return fmt.Sprintf("%s was to get this key and reads back as %s; something in %s changes what is written.",
			n.Address, r.Model.Catalog.Address(t.Name, *here.Was), target), nil
	case typ.ID != "" && image.ID != "" && image.ID != here.ID:
		return fmt.Sprintf("%s had %s %s when it was read, and what reads back under its key has %s; something in %s changes what is written.", n.Address, typ.ID, image.ID, here.ID, target), nil
	}
	want := slices.Clone(n.Source.Values)
	if n.Status != match.New {
		before, err := record.ParseLine([]byte(image.Line), t.Name, t.Fields, r.Model.Shapes)
		if err != nil {
			return "", err
		}
		for i, field := range t.Fields {
			if !n.Writes(field.Name) || want[i].IsAbsent() {
				want[i] = before.Values[i]
			}
		}
	}
	for _, d := range match.Compare(t.Fields, want, here.Values, nil) {
		field := t.Fields[d.Field]
		text := func(v record.Value) string { return show.Readable(show.Show(r.Model.Catalog, field, v)) }
		switch {
		case n.Writes(field.Name):
			return fmt.Sprintf("%s: %s was written into field %s and reads back as %s; something in %s changes what is written.",
				n.Address, text(d.Source), field.Name, text(d.Target), target), nil
		case n.Status != match.New && !follows(r, typ, field.Name):
			return fmt.Sprintf("%s: field %s was not to be written; it was %s and is %s afterwards. %s", n.Address, field.Name,
				text(d.Source), text(d.Target), altered(r, field.Name)), nil
		}
	}
	return untouched(r, n, t, typ, image), nil
}

// untouched says what of a changed record beside its compared values is not as it was, ""
// where all is.
func untouched(r prepare.Ready, n prepare.Now, t docket.Type, typ *catalog.Type, image run.Image) string {
	if n.Status == match.New {
		return ""
	}
	here := n.Here[0].Beside()
	for _, field := range t.Fields {
		if name := field.Name; !n.Writes(name) && !follows(r, typ, name) && image.Stored[name] != here.Stored[name] {
			return fmt.Sprintf("%s: field %s was not to be written; it was stored in another form before. %s", n.Address, name,
				altered(r, name))
		}
	}
	for i, column := range r.Beside[t.Name] {
		if i < len(image.Sums) && image.Sums[i] != here.Sums[i] {
			return fmt.Sprintf("%s: %s was not to be written and holds something else afterwards. %s", n.Address, column,
				altered(r, column))
		}
	}
	return ""
}

// altered says what may be behind a field that changed by itself, and what to do.
func altered(r prepare.Ready, field string) string {
	return fmt.Sprintf("Something in %s changes what is written. If the application fills %s by itself, put it under ignore: in the catalog and %s; else decline the record.", r.Model.Environment, field, r.Docket.Header.AgainInside())
}

// follows reports whether the database itself changes a field when a key changes that it
// refers to.
func follows(r prepare.Ready, t *catalog.Type, field string) bool {
	place := r.Places[t.Place(r.Model.Environment)]
	return slices.ContainsFunc(t.Stored(field), func(name string) bool {
		c, _ := place.Column(name)
		return c.Follows
	})
}

// HeldTwice finds written records that share with another one what the catalog says is
// unique. What the database holds unique by itself it has refused already.
func HeldTwice(ctx context.Context, r prepare.Ready, target environment.Reader, t docket.Type,
	list []prepare.Now) ([]prepare.LeftOut, error) {
	typ, _ := r.Model.Catalog.Type(t.Name)
	var out []prepare.LeftOut
	for _, set := range typ.Unique {
		with := &environment.Values{Fields: set}
		by := map[string]prepare.Now{}
		for _, n := range list {
			if len(n.Here) != 1 {
				continue
			}
			values, ok := valuesOf(r, t, set, n.Here[0])
			touched := n.Status == match.New || slices.ContainsFunc(set, n.Writes)
			if ok && touched {
				with.Sets = append(with.Sets, values)
				by[record.NewKey(values, nil).Order()] = n
			}
		}
		if len(with.Sets) == 0 {
			continue
		}
		for rec, err := range target.Read(ctx, r.Model, environment.Reading{Type: t.Name, Fields: t.Fields, With: with}) {
			if err != nil {
				return out, err
			}
			values, ok := valuesOf(r, t, set, rec)
			n, wanted := by[record.NewKey(values, nil).Order()]
			if ok && wanted && rec.Key.Order() != n.Here[0].Key.Order() {
				out = append(out, prepare.LeftOut{Address: n.Address, Why: prepare.ReadBackDiffers,
					Message: fmt.Sprintf("%s and %s would both have the same in %s, which the catalog holds unique. %s to see it.",
						n.Address, r.Model.Catalog.Address(t.Name, rec.Key), strings.Join(set, ", "), r.Docket.Header.Again())})
			}
		}
	}
	return out, nil
}

// valuesOf gives the values of some fields of a record; ok is false where one of them is
// null or not known.
func valuesOf(r prepare.Ready, t docket.Type, set []string, rec record.Record) (values []record.Value, ok bool) {
	for _, name := range set {
		v := record.AbsentValue()
		if at := record.FieldAt(t.Fields, name); at >= 0 {
			v = rec.Values[at]
		} else if at := record.FieldAt(r.Model.Shapes[t.Name], name); at >= 0 {
			v = rec.Key.Parts()[at]
		}
		if v.IsAbsent() || v.IsNull() {
			return nil, false
		}
		values = append(values, v)
	}
	return values, true
}
