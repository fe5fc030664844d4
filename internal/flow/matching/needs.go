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

// checkFit compares releases and the settings that have to be equal.
func (m *matching) checkFit(ctx context.Context) error {
	p := m.parcel.Manifest
	var target fit.Side
	policy := ""
	if m.against != nil {
		target = fit.Side{Name: m.target, Release: m.against.Manifest.Release, Settings: m.against.Manifest.Settings}
	} else {
		e, err := m.session.Workspace.Environment(m.target)
		if err != nil {
			return err
		}
		policy = e.Guard.Release
		if target, err = fit.SideOf(ctx, m.session, m.env, m.catalog, m.target); err != nil {
			return err
		}
	}
	for _, c := range fit.FitChecks(m.session, fit.Side{Name: p.Source, Release: p.Release, Settings: p.Settings}, target, policy) {
		m.whole = append(m.whole, c)
		if err := m.check(ctx, 0, c); err != nil {
			return err
		}
	}
	return nil
}

// rights checks that the account may do what an import of a finding would.
func (m *matching) rights(ctx context.Context, finding int64, t *catalog.Type, address string, isNew bool) error {
	place := m.env.About.Places[t.Place(m.target)]
	if m.against != nil || isNew && !place.CannotInsert || !isNew && !place.CannotUpdate {
		return nil
	}
	return m.check(ctx, finding, check.NoRight(address, m.target, place.Name, isNew))
}

// proposed keeps what a value that may be written needs: attachments and references.
func (m *matching) proposed(ctx context.Context, finding int64, t *catalog.Type, field record.Field, v record.Value) error {
	if column, ok := m.env.About.Places[t.Place(m.target)].Column(field.Name); ok && m.against == nil && !v.IsAbsent() {
		if c, bad := check.Fits(m.address, m.target, column, v, m.adding && (slices.Contains(t.Key, field.Name) || needs(column))); bad {
			if err := m.checkWhen(ctx, finding, docket.Check{Check: c, Fields: []string{field.Name}, Writes: []string{field.Name}}); err != nil {
				return err
			}
		}
	}
	if v.Kind() == record.Bytes {
		return m.builder.Content(ctx, v)
	}
	return m.need(ctx, finding, t, field, v)
}

func (m *matching) need(ctx context.Context, finding int64, t *catalog.Type, field record.Field, v record.Value) error {
	for _, ref := range v.References() {
		n := docket.Need{Holder: finding, Type: ref.Refers(), Key: string(record.AppendKey(nil, ref.Key()))}
		n.Field, n.Address = field.Name, m.catalog.Address(ref.Refers(), ref.Key())
		n.Owner = field.Name == t.OwnerField()
		n.Required = field.Required || n.Owner
		n.ByName = t.Refers[field.Name].ByKey && m.names.Paired(ref.Refers(), ref.Key())
		if err := m.builder.Need(ctx, n, ref.Key()); err != nil {
			return err
		}
	}
	return nil
}

// localNeeded checks that a new record gets what only the target can know.
func (m *matching) localNeeded(ctx context.Context, finding int64, t *catalog.Type, address string) error {
	place := m.env.About.Places[t.Place(m.target)]
	for _, column := range place.Columns {
		values, local := t.Local[column.Name]
		if !local && !slices.Contains(t.Secret, column.Name) || column.Default {
			continue
		}
		if _, given := values[m.target]; given {
			continue
		}
		c := check.Check{Code: check.LocalNeeded, Level: check.Caution,
			Message: fmt.Sprintf("%s is new and will have no value in field %s, which belongs to %s alone.", address, column.Name, m.target),
			Mend:    "Set it in " + m.target + " after the import."}
		if local {
			c.Mend = fmt.Sprintf("Give a value with local: {%s: {%s: …}} in the catalog and match again, or set it in %s after the import.", column.Name, m.target, m.target)
		}
		if column.Required {
			c.Level = check.Blocker
			c.Message = fmt.Sprintf("%s is new and needs a value in field %s, which belongs to %s alone.", address, column.Name, m.target)
			if local {
				c.Mend = fmt.Sprintf("Give a value with local: {%s: {%s: …}} in the catalog and match again.", column.Name, m.target)
			} else {
				c.Mend = fmt.Sprintf("Create the record in %s with its secret value and match again.", m.target)
			}
		}
		if err := m.check(ctx, finding, c); err != nil {
			return err
		}
	}
	return nil
}

// needs reports whether a new record must be given a value in a column.
func needs(column catalog.Column) bool { return column.Required && !column.Default }

// required lists the fields that a new record must be given in the target.
func (m *matching) required(t *catalog.Type, fields []record.Field) []string {
	place := m.env.About.Places[t.Place(m.target)]
	var out []string
	for _, field := range fields {
		if column, ok := place.Column(field.Name); ok && needs(column) && !slices.Contains(place.Triggered, field.Name) {
			out = append(out, field.Name)
		}
	}
	return out
}

// requiredNeeded checks that a new record gets what the target requires and the parcel does
// not carry.
func (m *matching) requiredNeeded(ctx context.Context, finding int64, t *catalog.Type, fields []record.Field, address string) error {
	place := m.env.About.Places[t.Place(m.target)]
	for _, column := range place.Columns {
		_, local := t.Local[column.Name]
		carried := slices.Contains(t.Key, column.Name) || record.FieldAt(fields, column.Name) >= 0 || t.Serves(column.Name)
		filled := column.Default || column.Derived || column.Name == t.ID || slices.Contains(place.Triggered, column.Name)
		if !column.Required || carried || filled || local || slices.Contains(t.Secret, column.Name) || m.against != nil {
			continue
		}
		if err := m.check(ctx, finding, check.Lacks(address, column.Name, m.target, place.HasTriggers, slices.Contains(t.Ignore, column.Name))); err != nil {
			return err
		}
	}
	return nil
}

// resolveNeeds looks up in the target what the findings refer to, and checks what
// neither the target nor this docket has.
func (m *matching) resolveNeeds(ctx context.Context) error {
	types, err := m.builder.WantedTypes(ctx)
	if err != nil {
		return err
	}
	const batch = 2000
	for _, typ := range types {
		t, ok := m.catalog.Type(typ)
		if !ok {
			continue
		}
		if _, there := m.env.About.Places[t.Place(m.target)]; !there {
			continue
		}
		for after := ""; ; {
			orders, texts, err := m.builder.WantedKeys(ctx, typ, after, batch)
			if err != nil {
				return err
			}
			keys := make([]record.Key, len(texts))
			for i, text := range texts {
				if keys[i], err = m.model.Shapes.ParseKey([]byte(text), typ); err != nil {
					return err
				}
			}
			counts, err := m.env.Locate(ctx, m.model, typ, keys)
			if err != nil {
				return err
			}
			for i, n := range counts {
				if n == 0 {
					continue
				}
				if err := m.builder.Located(ctx, typ, orders[i], n); err != nil {
					return err
				}
			}
			if len(orders) < batch {
				break
			}
			after = orders[len(orders)-1]
		}
	}
	return m.builder.LinkNeeds(ctx, func(n docket.Need) error {
		address, err := m.builder.AddressOf(ctx, n.Holder)
		if err != nil {
			return err
		}
		if c, bad := check.Reference(address, n.Need, m.target, m.number); bad {
			return m.check(ctx, n.Holder, c)
		}
		return nil
	})
}
