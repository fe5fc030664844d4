package matching

import (
	"context"
	"fmt"
	"slices"

	"anagram/internal/core/catalog"
	"anagram/internal/core/check"
	"anagram/internal/core/record"
	"anagram/internal/flow/fit"
	"anagram/internal/store/docket"
)

// needsBatch is how many keys are looked up in the target at a time.
const needsBatch = 2000

// checkFit compares releases and the settings that have to be equal.
func checkFit(ctx context.Context, c compared, out *sink) error {
	p := c.parcel.Manifest
	var target fit.Side
	policy := ""
	if c.against != nil {
		target = fit.Side{Name: c.target, Release: c.against.Manifest.Release, Settings: c.against.Manifest.Settings}
	} else {
		e, err := c.session.Workspace.Environment(c.target)
		if err != nil {
			return err
		}
		policy = e.Guard.Release
		if target, err = fit.SideOf(ctx, c.session, fit.Of(c.env), c.catalog, c.target); err != nil {
			return err
		}
	}
	for _, found := range fit.Checks(c.session, fit.Side{Name: p.Source, Release: p.Release, Settings: p.Settings}, target, policy) {
		if err := out.onDocket(ctx, found); err != nil {
			return err
		}
	}
	return nil
}

// rights checks that the account may do what an import of a finding would.
func rights(ctx context.Context, c compared, w atWork, f finding, out *sink) error {
	if c.against != nil {
		return nil
	}
	if missing, bad := written(c, w, f).Rights(); bad {
		return out.check(ctx, f.id, missing)
	}
	return nil
}

// written is a finding as it would be written, for what its place says of it.
func written(c compared, w atWork, f finding) check.Written {
	return check.Written{Address: f.address, Target: c.target, Type: w.Type, Place: w.place, Adds: f.adds()}
}

// onlyWhenMade checks a value of a field that the target takes only when a record is made.
func onlyWhenMade(ctx context.Context, c compared, w atWork, f finding, field record.Field, v record.Value, out *sink) error {
	given := func(name string) bool {
		column, ok := w.place.Column(name)
		return ok && column.Once
	}
	if c.against != nil || f.adds() || v.IsAbsent() || !slices.ContainsFunc(w.Stored(field.Name), given) {
		return nil
	}
	return out.checkWhen(ctx, f.id, docket.Check{Check: check.Once(f.address, c.target, field.Name), Fields: []string{field.Name}, Writes: []string{field.Name}})
}

// proposed keeps what a value that may be written needs: attachments and references.
func proposed(ctx context.Context, c compared, w atWork, f finding, field record.Field, v record.Value, out *sink) error {
	if err := onlyWhenMade(ctx, c, w, f, field, v, out); err != nil {
		return err
	}
	if found, bad := written(c, w, f).Value(field.Name, v); bad && c.against == nil {
		if err := out.checkWhen(ctx, f.id, docket.Check{Check: found, Fields: []string{field.Name}, Writes: []string{field.Name}}); err != nil {
			return err
		}
	}
	if v.Kind() == record.Bytes {
		return out.builder.Content(ctx, v)
	}
	for _, ref := range v.References() {
		n := docket.Need{Holder: f.id, Type: ref.Refers(), Key: string(record.AppendKey(nil, ref.Key()))}
		n.Field, n.Address = field.Name, c.catalog.Address(ref.Refers(), ref.Key())
		n.Owner = field.Name == w.OwnerField()
		n.Required = field.Required || n.Owner
		n.ByName = w.Refers[field.Name].ByKey && c.names.Paired(ref.Refers(), ref.Key())
		if err := out.builder.Need(ctx, n, ref.Key()); err != nil {
			return err
		}
	}
	return nil
}

// localNeeded checks that a new record gets what only the target can know.
func localNeeded(ctx context.Context, c compared, w atWork, f finding, out *sink) error {
	for _, column := range w.place.Columns {
		values, local := w.Local[column.Name]
		if !local && !slices.Contains(w.Secret, column.Name) || column.Default {
			continue
		}
		if _, given := values[c.target]; given {
			continue
		}
		if err := out.check(ctx, f.id, check.LocalValue(f.address, column.Name, c.target, local, column.Required)); err != nil {
			return err
		}
	}
	return nil
}

// requiredFields lists the fields that a new record must be given in the target.
func requiredFields(w atWork) []string {
	var out []string
	for _, field := range w.fields {
		if column, ok := w.place.Column(field.Name); ok && check.MustBeGiven(column) && !slices.Contains(w.place.Triggered, field.Name) {
			out = append(out, field.Name)
		}
	}
	return out
}

// requiredNeeded checks that a new record gets what the target requires and the parcel does
// not carry.
func requiredNeeded(ctx context.Context, c compared, w atWork, f finding, out *sink) error {
	if c.against != nil {
		return nil
	}
	for _, column := range w.place.Columns {
		if column.Given && slices.Contains(w.Key, column.Name) {
			if err := out.check(ctx, f.id, check.Given(f.address, column.Name, c.target)); err != nil {
				return err
			}
		}
		_, local := w.Local[column.Name]
		carried := slices.Contains(w.Key, column.Name) || record.FieldAt(w.fields, column.Name) >= 0 || w.Serves(column.Name)
		filled := column.Default || column.Derived || column.Name == w.ID || slices.Contains(w.place.Triggered, column.Name)
		if slices.ContainsFunc(w.Stamped(w.place, c.target, c.session.Who), func(stamp catalog.Column) bool { return stamp.Name == column.Name }) {
			filled = true // the import fills it in
		}
		if !column.Required || carried || filled || local || slices.Contains(w.Secret, column.Name) {
			continue
		}
		if slices.Contains(w.Derived, column.Name) {
			if err := out.check(ctx, f.id, check.LacksDerived(f.address, column.Name, c.target)); err != nil {
				return err
			}
			continue
		}
		if err := out.check(ctx, f.id, check.Lacks(f.address, column.Name, c.target, w.place.HasTriggers, w.Ignores(column.Name))); err != nil {
			return err
		}
	}
	return nil
}

// resolveNeeds looks up in the target what the findings refer to, and checks what
// neither the target nor this docket has.
func resolveNeeds(ctx context.Context, c compared, out *sink) error {
	types, err := out.builder.WantedTypes(ctx)
	if err != nil {
		return err
	}
	for _, typ := range types {
		t, ok := c.catalog.Type(typ)
		if !ok {
			continue
		}
		if _, there := c.env.About.Places[t.Place(c.target)]; !there {
			continue
		}
		if err := locateWanted(ctx, c, typ, out); err != nil {
			return err
		}
	}
	return out.builder.LinkNeeds(ctx, func(n docket.Need) error {
		address, err := out.builder.AddressOf(ctx, n.Holder)
		if err != nil {
			return err
		}
		if found, bad := check.Reference(address, n.Need, c.target, c.number); bad {
			return out.check(ctx, n.Holder, found)
		}
		return nil
	})
}

func locateWanted(ctx context.Context, c compared, typ string, out *sink) error {
	for after := ""; ; {
		orders, texts, err := out.builder.WantedKeys(ctx, typ, after, needsBatch)
		if err != nil {
			return err
		}
		keys := make([]record.Key, len(texts))
		for i, text := range texts {
			if keys[i], err = c.model.Shapes.ParseKey([]byte(text), typ); err != nil {
				return fmt.Errorf("a reference to %s: %w", typ, err)
			}
		}
		counts, err := c.reader.Locate(ctx, c.model, typ, keys)
		if err != nil {
			return err
		}
		for i, n := range counts {
			if n == 0 {
				continue
			}
			if err := out.builder.Located(ctx, typ, orders[i], n); err != nil {
				return err
			}
		}
		if len(orders) < needsBatch {
			return nil
		}
		after = orders[len(orders)-1]
	}
}
