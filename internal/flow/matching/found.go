package matching

import (
	"context"
	"slices"

	"anagram/internal/core/check"
	"anagram/internal/core/group"
	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/core/show"
	"anagram/internal/store/docket"
)

// finding is one record that is not the same, as it stands in the docket.
type finding struct {
	match.Finding
	id      int64
	address string
}

// adds reports whether an import would make the record.
func (f finding) adds() bool { return f.Target == nil }

// found keeps a finding, its checks and what it needs.
func found(ctx context.Context, c compared, w atWork, of match.Finding, collect collectors, out *sink) error {
	f, err := keep(ctx, c, w, c.asCreated(w, of), out)
	if err != nil {
		return err
	}
	if err := takenBack(ctx, c, w, f, out); err != nil {
		return err
	}
	if err := hangsOn(ctx, c, w, f, out); err != nil {
		return err
	}
	if words := c.besideText(f.address); words != "" {
		if err := out.check(ctx, f.id, check.Beside(words, f.address, c.besideOf[f.address])); err != nil {
			return err
		}
	}
	collect.renames.note(f)
	if err := collect.outside.note(ctx, c, w, f, out); err != nil {
		return err
	}
	if err := collect.claims.note(ctx, c, w, f, out); err != nil {
		return err
	}
	if err := collect.rules.note(ctx, c, w, f, out); err != nil {
		return err
	}
	if err := keyInUse(ctx, c, w, f, out); err != nil {
		return err
	}
	if f.Source != nil && f.Status != match.TargetOnly {
		if err := rights(ctx, c, w, f, out); err != nil {
			return err
		}
	}
	if match.Hopeless(f.Reasons) {
		out.isAmbiguous(w.Name, f.Key)
		return out.check(ctx, f.id, check.Ambiguity(f.address, c.source, c.target, f.SourceIDs, f.TargetIDs, out.ambiguousWithin(f.Key)))
	}
	if f.Status == match.Conflict {
		if err := conflicts(ctx, c, w, f, out); err != nil {
			return err
		}
	}
	if f.Source == nil {
		return nil
	}
	if err := looksLikeID(ctx, c, w, f, out); err != nil {
		return err
	}
	switch {
	case f.adds():
		return isNew(ctx, c, w, f, out)
	default:
		return mayBeWritten(ctx, c, w, f, out)
	}
}

// keep puts a finding into the docket.
func keep(ctx context.Context, c compared, w atWork, of match.Finding, out *sink) (finding, error) {
	f := finding{Finding: of, address: c.catalog.Address(w.Name, of.Key)}
	entry := docket.Finding{
		Type: w.Name, Address: f.address, Status: of.Status, Reasons: of.Reasons,
		Key: string(record.AppendKey(nil, of.Key)), Order: of.Key.Order(), Title: title(w, of),
	}
	if of.Source != nil {
		entry.Source = string(record.AppendLine(nil, w.fields, *of.Source))
	}
	if of.Target != nil {
		there := *of.Target
		if there.Key = of.Target.Stands(); of.Target.Was != nil {
			// As the target itself names it, what it belongs to included.
			entry.Was = c.catalog.Address(w.Name, c.names.Target(w.Name, of.Key))
		}
		entry.Target = string(record.AppendLine(nil, w.fields, there))
	}
	if of.Agreed != nil {
		entry.Agreed = string(record.AppendLine(nil, w.fields, record.Record{Key: of.Agreed.Stands(), Values: of.Agreed.Values}))
	}
	entry.Fields = shown(c, w, of)
	var err error
	f.id, err = out.builder.Finding(ctx, entry)
	return f, err
}

// hangsOn keeps what a finding is decided together with, beside what it needs: its owner, and
// of a record that only the target has all that it refers to.
func hangsOn(ctx context.Context, c compared, w atWork, f finding, out *sink) error {
	rec := f.Source
	if rec == nil {
		rec = f.Target
	}
	if rec == nil { // a key that occurs more than once
		return nil
	}
	tie := func(kind group.Kind, typ string, key record.Key) error {
		return out.builder.Tie(ctx, f.id, kind, typ, key, c.catalog.Address(typ, key))
	}
	if w.PartOf != "" {
		if owner := w.ownerIn()(*rec); len(owner.Parts()) > 0 {
			if err := tie(group.Owner, w.PartOf, owner); err != nil {
				return err
			}
		}
	}
	if f.Status != match.TargetOnly {
		return nil
	}
	for _, v := range slices.Concat(f.Key.Parts(), rec.Values) {
		for _, ref := range v.References() {
			if err := tie(group.Needs, ref.Refers(), ref.Key()); err != nil {
				return err
			}
		}
	}
	return nil
}

// conflicts says for each reason what is behind it.
func conflicts(ctx context.Context, c compared, w atWork, f finding, out *sink) error {
	source, target := check.Side{Environment: c.source}, check.Side{Environment: c.target}
	if f.Source != nil {
		source.At, source.By = f.Source.ChangedAt, f.Source.ChangedBy
	}
	if f.Target != nil {
		target.At, target.By = f.Target.ChangedAt, f.Target.ChangedBy
	}
	var both []string
	for _, d := range f.Differences {
		if d.Moved == match.MovedBoth {
			both = append(both, fieldOf(c, w, d).Name)
		}
	}
	for _, reason := range f.Reasons {
		if c.back != nil && reason == match.BothMoved {
			if err := out.check(ctx, f.id, check.Since(f.address, both, c.back.Docket, target)); err != nil {
				return err
			}
			continue
		}
		if found, ok := check.Conflict(string(reason), f.address, both, source, target); ok {
			if err := out.check(ctx, f.id, found); err != nil {
				return err
			}
		}
	}
	return nil
}

// isNew keeps what a record needs that an import would add.
func isNew(ctx context.Context, c compared, w atWork, f finding, out *sink) error {
	for i, part := range f.Key.Parts() {
		if err := proposed(ctx, c, w, f, fieldOf(c, w, match.Difference{Field: i, Key: true}), part, out); err != nil {
			return err
		}
	}
	for i, v := range f.Source.Values {
		if err := proposed(ctx, c, w, f, w.fields[i], v, out); err != nil {
			return err
		}
	}
	if err := requiredNeeded(ctx, c, w, f, out); err != nil {
		return err
	}
	return localNeeded(ctx, c, w, f, out)
}

// mayBeWritten keeps what the source's values need: those that are proposed, and where a
// person may take the source's side, all of them.
func mayBeWritten(ctx context.Context, c compared, w atWork, f finding, out *sink) error {
	for _, d := range f.Differences {
		if f.Status == match.Changed && match.Propose(f.Status, d.Moved) != match.Write {
			continue
		}
		if err := proposed(ctx, c, w, f, fieldOf(c, w, d), d.Source, out); err != nil {
			return err
		}
	}
	return nil
}

// fieldOf gives the field of a difference; no part of a key can be written later.
func fieldOf(c compared, w atWork, d match.Difference) record.Field {
	if !d.Key {
		return w.fields[d.Field]
	}
	field := c.model.Shapes[w.Name][d.Field]
	field.Required = true
	return field
}

func title(w atWork, f match.Finding) string {
	at := record.FieldAt(w.fields, w.Title)
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
func shown(c compared, w atWork, f match.Finding) []docket.Field {
	out := []docket.Field{}
	text := func(field record.Field, v record.Value) *string { return show.Show(c.catalog, field, v) }
	switch {
	case match.Hopeless(f.Reasons):
	case f.Target == nil:
		for i, v := range f.Source.Values {
			if source := text(w.fields[i], v); source != nil {
				out = append(out, docket.Field{Field: w.fields[i].Name, Source: source, Moved: string(match.MovedSource)})
			}
		}
	case f.Source == nil:
		for i, v := range f.Target.Values {
			if target := text(w.fields[i], v); target != nil {
				out = append(out, docket.Field{Field: w.fields[i].Name, Target: target})
			}
		}
	default:
		for _, d := range f.Differences {
			field := fieldOf(c, w, d)
			out = append(out, docket.Field{
				Field: field.Name, Source: text(field, d.Source), Target: text(field, d.Target),
				Agreed: text(field, d.Agreed), AgreedKnown: d.AgreedKnown, Moved: string(d.Moved),
			})
		}
	}
	return out
}
