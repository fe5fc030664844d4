package matching

import (
	"slices"
	"time"

	"anagram/internal/core/check"
	"anagram/internal/core/group"
	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/core/show"
	"anagram/internal/store/docket"
)

// finding is one record that is not the same, as it stands in the docket.
type finding struct {
	check.Facts
	id int64
}

// factsOf gathers what the rules about one record go by.
func factsOf(c compared, w atWork, of match.Finding) check.Facts {
	return check.Facts{
		Written: check.Written{
			Address: c.catalog.Address(w.Name, of.Key), Target: c.target, Type: w.Type, Place: w.place,
			Adds: of.Target == nil, Removes: match.Removes(of.Status, of.Reasons),
		},
		Found: of, Source: c.source, Fields: w.fields, Keys: c.model.Shapes[w.Name], Filled: w.filled,
		Unwritten: c.against != nil, Back: c.docketBack(), Suspects: c.looks[w.Name], Covered: w.covered,
		Zones: [2]*time.Location{c.model.There, c.model.Here},
		Show:  func(field record.Field, v record.Value) *string { return show.Show(c.catalog, field, v) },
	}
}

// found keeps a finding with all that its facts say: checks, what it hangs on and what it needs.
// It gives what lookups are to be told of.
func found(c compared, w atWork, of match.Finding, out *sink) finding {
	facts := factsOf(c, w, c.asCreated(w, of))
	hopeless := match.Hopeless(facts.Found.Reasons)
	facts.Within = hopeless && out.ambiguousWithin(facts.Found.Key)
	f := finding{facts, out.finding(entry(c, w, facts))}
	c.takesBack(f, out)
	hangsOn(c, w, f, out)
	if words := c.besideText(f.Address); words != "" {
		out.check(f.id, check.Beside(words, f.Address, c.besideOf[f.Address]))
	}
	out.checks(f.id, facts.Checks()...)
	if hopeless {
		if slices.Contains(facts.Found.Reasons, match.Ambiguous) {
			out.isAmbiguous(w.Name, facts.Found.Key)
		}
		return f
	}
	needs(c, f, out)
	return f
}

// entry is a finding as the docket keeps it.
func entry(c compared, w atWork, f check.Facts) docket.Finding {
	of := f.Found
	entry := docket.Finding{
		Type: w.Name, Address: f.Address, Status: of.Status, Reasons: of.Reasons,
		Key: string(record.AppendKey(nil, of.Key)), Order: of.Key.Order(), Title: c.title(w, of),
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
		entry.Agreed = string(record.AppendLine(nil, w.fields, record.Record{Key: of.Agreed.Stands(), Values: of.Agreed.Values,
			Came: of.Agreed.Came}))
	}
	entry.Fields = shown(f)
	return entry
}

// hangsOn keeps what a finding is decided together with, beside what it needs: its owner, and
// of a record that only the target has all that it refers to.
func hangsOn(c compared, w atWork, f finding, out *sink) {
	rec := f.Found.Source
	if rec == nil {
		rec = f.Found.Target
	}
	if rec == nil { // a key that occurs more than once
		return
	}
	tie := func(kind group.Kind, typ string, key record.Key) {
		out.does(func() error { return out.builder.Tie(out.ctx, f.id, kind, typ, key, c.catalog.Address(typ, key)) })
	}
	if f.Type.PartOf != "" {
		if owner := w.ownerIn()(*rec); len(owner.Parts()) > 0 {
			tie(group.Owner, f.Type.PartOf, owner)
		}
	}
	if f.Found.Status != match.TargetOnly {
		return
	}
	for _, v := range slices.Concat(f.Found.Key.Parts(), rec.Values) {
		for _, ref := range v.References() {
			tie(group.Needs, ref.Refers(), ref.Key())
		}
	}
}

// needs keeps what the values that may be written need: attachments and references.
func needs(c compared, f finding, out *sink) {
	for _, p := range f.Proposed() {
		if p.Value.Kind() == record.Bytes {
			out.does(func() error { return out.builder.Content(out.ctx, p.Value) })
		}
	}
	for _, m := range f.Mentions() {
		typ, key := m.To.Refers(), m.To.Key()
		n := docket.Need{Holder: f.id, Type: typ, Key: string(record.AppendKey(nil, key)), Required: m.Required}
		n.Field, n.Address, n.Owner = m.Field, c.catalog.Address(typ, key), m.Owner
		n.ByName = f.Type.Refers[m.Field].ByKey && c.names.Paired(typ, key)
		out.does(func() error { return out.builder.Need(out.ctx, n, key) })
	}
}

func (c compared) title(w atWork, f match.Finding) string {
	at := record.FieldAt(w.fields, w.Title)
	if at < 0 {
		return ""
	}
	for _, rec := range []*record.Record{f.Source, f.Target} {
		if rec == nil || rec.Values[at].IsAbsent() {
			continue
		}
		if text := show.Show(c.catalog, w.fields[at], rec.Values[at]); text != nil {
			return *text
		}
	}
	return ""
}

// shown gives the fields of a finding as people see them: those that differ, and of a
// record that only one side has, those that are not null.
func shown(f check.Facts) []docket.Field {
	out := []docket.Field{}
	switch of := f.Found; {
	case match.Hopeless(of.Reasons):
	case of.Target == nil:
		for i, v := range of.Source.Values {
			if source := f.Show(f.Fields[i], v); source != nil {
				out = append(out, docket.Field{Field: f.Fields[i].Name, Source: source, Moved: string(match.MovedSource)})
			}
		}
	case of.Source == nil:
		for i, v := range of.Target.Values {
			if target := f.Show(f.Fields[i], v); target != nil {
				one := docket.Field{Field: f.Fields[i].Name, Target: target}
				if of.Agreed != nil && slices.Contains(of.Reasons, match.RemovedInSource) && !of.Agreed.Values[i].IsAbsent() {
					one.Agreed, one.AgreedKnown = f.Show(f.Fields[i], of.Agreed.Values[i]), true
				}
				out = append(out, one)
			}
		}
	default:
		for _, d := range of.Differences {
			field := f.FieldOf(d)
			out = append(out, docket.Field{
				Field: field.Name, Source: f.Show(field, d.Source), Target: f.Show(field, d.Target),
				Agreed: f.Show(field, d.Agreed), AgreedKnown: d.AgreedKnown, Moved: string(d.Moved),
			})
		}
	}
	return out
}
