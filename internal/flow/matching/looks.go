package matching

import (
	"context"

	"anagram/internal/core/check"
	"anagram/internal/core/evidence"
	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/core/show"
	"anagram/internal/flow/fit"
)

// What behaves like an internal id though the catalog has it as a plain value.

// suspects looks for it in the target, by record type.
func (c compared) suspects(ctx context.Context) (map[string][]evidence.Suspect, error) {
	out := map[string][]evidence.Suspect{}
	if c.against != nil || c.back != nil { // nothing is written there, or what was there before
		return out, nil
	}
	found, err := fit.Suspects(ctx, c.env, c.catalog, c.target, func(typ string) bool {
		_, ok := c.parcel.Manifest.Type(typ)
		return ok
	})
	for _, s := range found {
		out[s.Type] = append(out[s.Type], s)
	}
	return out, err
}

// looksLikeID checks what a finding would bring into fields that behave like internal ids.
func looksLikeID(ctx context.Context, c compared, w atWork, f finding, out *sink) error {
	for _, s := range c.looks[w.Name] {
		value, differs := suspected(c, w, f, s)
		if !differs {
			continue
		}
		if err := out.check(ctx, f.id, check.LikeID(f.address, value, w.Name, s, f.adds())); err != nil {
			return err
		}
	}
	return nil
}

// mostShown is how much of a value a check shows.
const mostShown = 40

// suspected gives the value that a finding would bring into a field.
func suspected(c compared, w atWork, f finding, s evidence.Suspect) (string, bool) {
	text := func(field record.Field, v record.Value) (string, bool) {
		shown := show.Show(c.catalog, field, v)
		if shown == nil || v.IsNull() || v.IsAbsent() {
			return "", false
		}
		if runes := []rune(*shown); len(runes) > mostShown {
			return string(runes[:mostShown]) + "…", true
		}
		return *shown, true
	}
	for i, field := range c.model.Shapes[w.Name] {
		if field.Name == s.Field && f.adds() {
			return text(field, f.Key.Parts()[i])
		}
	}
	at := record.FieldAt(w.fields, s.Field)
	if at < 0 {
		return "", false
	}
	if f.adds() {
		return text(w.fields[at], f.Source.Values[at])
	}
	for _, d := range f.Differences {
		if !d.Key && d.Field == at && match.Propose(f.Status, d.Moved) == match.Write {
			return text(w.fields[at], d.Source)
		}
	}
	return "", false
}

// hardlyMeets checks a type that was compared as a whole.
func hardlyMeets(ctx context.Context, c compared, w atWork, by map[match.Status]int, out *sink) error {
	if c.back != nil {
		return nil
	}
	met := by[match.Changed] + by[match.Conflict] + by[match.TargetEdit] + by[match.Same]
	if found, ok := check.HardlyMeets(w.Name, w.Key, c.source, c.target, by[match.New], by[match.TargetOnly], met); ok {
		return out.onDocket(ctx, found)
	}
	return nil
}
