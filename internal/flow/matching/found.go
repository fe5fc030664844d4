package matching

import (
	"context"
	"slices"

	"anagram/internal/core/catalog"
	"anagram/internal/core/check"
	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/core/show"
	"anagram/internal/store/docket"
)

// ambiguousWithin reports whether a key has an ambiguous record in it.
func (m *matching) ambiguousWithin(key record.Key) bool {
	if len(m.ambiguous) == 0 {
		return false
	}
	for _, part := range key.Parts() {
		if part.Kind() != record.Reference {
			continue
		}
		to := part.Refers()
		if m.ambiguous[to][part.Key().Order()] {
			return true
		}
		if m.ambiguousWithin(part.Key()) {
			return true
		}
	}
	return false
}

// found keeps a finding, its checks and what it needs.
func (m *matching) found(ctx context.Context, t *catalog.Type, fields []record.Field, f match.Finding) error {
	out := docket.Finding{
		Type: t.Name, Address: m.catalog.Address(t.Name, f.Key), Status: f.Status,
		Key: string(record.AppendKey(nil, f.Key)), Order: f.Key.Order(), Title: m.title(t, fields, f),
	}
	for _, reason := range f.Reasons {
		out.Reasons = append(out.Reasons, string(reason))
	}
	if f.Source != nil {
		out.Source = string(record.AppendLine(nil, fields, *f.Source))
	}
	if f.Target != nil {
		there := *f.Target
		if there.Key = f.Target.Stands(); f.Target.Was != nil {
			out.Was = m.catalog.Address(t.Name, there.Key)
		}
		out.Target = string(record.AppendLine(nil, fields, there))
	}
	out.Fields = m.shown(t, fields, f)
	id, err := m.builder.Finding(ctx, out)
	if err != nil {
		return err
	}
	m.address = out.Address
	m.renames.note(id, out.Address, f)
	if err := m.claim(ctx, id, f, out.Address); err != nil {
		return err
	}
	if err := m.rule(ctx, id, f, out.Address); err != nil {
		return err
	}
	if err := m.keyInUse(ctx, id, t, f, out.Address); err != nil {
		return err
	}
	if f.Source != nil && f.Status != match.TargetOnly {
		if err := m.rights(ctx, id, t, out.Address, f.Target == nil); err != nil {
			return err
		}
	}
	switch f.Status {
	case match.Conflict:
		if slices.Contains(f.Reasons, match.Ambiguous) {
			if m.ambiguous[t.Name] == nil {
				m.ambiguous[t.Name] = map[string]bool{}
			}
			m.ambiguous[t.Name][f.Key.Order()] = true
			within := m.ambiguousWithin(f.Key)
			return m.check(ctx, id, check.Ambiguity(out.Address, m.parcel.Manifest.Source, m.target, f.SourceIDs, f.TargetIDs, within))
		}
		if err := m.conflicts(ctx, id, t, fields, f, out.Address); err != nil {
			return err
		}
		if f.Target == nil {
			return m.isNew(ctx, id, t, fields, f, out.Address)
		}
		return m.mayBeTaken(ctx, id, t, fields, f)
	case match.TargetEdit:
		return m.mayBeTaken(ctx, id, t, fields, f)
	case match.New:
		return m.isNew(ctx, id, t, fields, f, out.Address)
	case match.Changed:
		for _, d := range f.Differences {
			if d.Proposed() {
				if err := m.proposed(ctx, id, t, m.field(t, fields, d), d.Source); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// conflicts says for each reason what is behind it.
func (m *matching) conflicts(ctx context.Context, id int64, t *catalog.Type, fields []record.Field, f match.Finding, address string) error {
	source, target := check.Side{Environment: m.parcel.Manifest.Source}, check.Side{Environment: m.target}
	if f.Source != nil {
		source.At, source.By = f.Source.ChangedAt, f.Source.ChangedBy
	}
	if f.Target != nil {
		target.At, target.By = f.Target.ChangedAt, f.Target.ChangedBy
	}
	var both []string
	for _, d := range f.Differences {
		if d.Moved == match.MovedBoth {
			both = append(both, m.field(t, fields, d).Name)
		}
	}
	for _, reason := range f.Reasons {
		if c, ok := check.Conflict(string(reason), address, both, source, target); ok {
			if err := m.check(ctx, id, c); err != nil {
				return err
			}
		}
	}
	return nil
}

// isNew keeps what a record needs that an import would add.
func (m *matching) isNew(ctx context.Context, id int64, t *catalog.Type, fields []record.Field, f match.Finding, address string) error {
	m.adding = true
	defer func() { m.adding = false }()
	for i, part := range f.Key.Parts() {
		if err := m.proposed(ctx, id, t, m.field(t, fields, match.Difference{Field: i, Key: true}), part); err != nil {
			return err
		}
	}
	for i, v := range f.Source.Values {
		if err := m.proposed(ctx, id, t, fields[i], v); err != nil {
			return err
		}
	}
	if err := m.requiredNeeded(ctx, id, t, fields, address); err != nil {
		return err
	}
	return m.localNeeded(ctx, id, t, address)
}

// field gives the field of a difference; no part of a key can be written later.
func (m *matching) field(t *catalog.Type, fields []record.Field, d match.Difference) record.Field {
	if !d.Key {
		return fields[d.Field]
	}
	field := m.model.Shapes[t.Name][d.Field]
	field.Required = true
	return field
}

// mayBeTaken keeps what the source's values need where a person may take them.
func (m *matching) mayBeTaken(ctx context.Context, id int64, t *catalog.Type, fields []record.Field, f match.Finding) error {
	for _, d := range f.Differences {
		if err := m.proposed(ctx, id, t, m.field(t, fields, d), d.Source); err != nil {
			return err
		}
	}
	return nil
}

func (m *matching) check(ctx context.Context, finding int64, c check.Check) error {
	return m.checkWhen(ctx, finding, docket.Check{Check: c})
}

// checkWhen keeps a check that depends on what is going to be written.
func (m *matching) checkWhen(ctx context.Context, finding int64, c docket.Check) error {
	switch {
	case c.Partial:
	case c.Level == check.Blocker:
		m.blockers++
	default:
		m.cautions++
	}
	return m.builder.Check(ctx, finding, c)
}

func (m *matching) title(t *catalog.Type, fields []record.Field, f match.Finding) string {
	at := record.FieldAt(fields, t.Title)
	if at < 0 {
		return ""
	}
	for _, rec := range []*record.Record{f.Source, f.Target} {
		if rec != nil && rec.Values[at].Kind() != record.Absent && !rec.Values[at].IsNull() {
			return rec.Values[at].Text()
		}
	}
	return ""
}

// shown gives the fields of a finding as people see them: those that differ, and of a
// record that only one side has, those that are not null.
func (m *matching) shown(t *catalog.Type, fields []record.Field, f match.Finding) []docket.Field {
	out := []docket.Field{}
	switch {
	case slices.Contains(f.Reasons, match.Ambiguous):
	case f.Target == nil || f.Source == nil:
		rec, moved := f.Source, string(match.MovedSource)
		if rec == nil {
			rec, moved = f.Target, ""
		}
		for i, v := range rec.Values {
			text := show.Show(m.catalog, fields[i], v)
			if text == nil {
				continue
			}
			shown := docket.Field{Field: fields[i].Name, Moved: moved}
			if f.Source != nil {
				shown.Source = text
			} else {
				shown.Target = text
			}
			out = append(out, shown)
		}
	default:
		for _, d := range f.Differences {
			field := m.field(t, fields, d)
			out = append(out, docket.Field{
				Field: field.Name, Source: show.Show(m.catalog, field, d.Source), Target: show.Show(m.catalog, field, d.Target),
				Agreed: show.Show(m.catalog, field, d.Agreed), AgreedKnown: d.AgreedKnown, Moved: string(d.Moved),
			})
		}
	}
	return out
}
