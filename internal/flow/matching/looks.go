package matching

import (
	"context"

	"anagram/internal/core/check"
	"anagram/internal/core/evidence"
	"anagram/internal/core/match"
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

// hardlyMeets checks a type that was compared as a whole.
func hardlyMeets(c compared, w atWork, by map[match.Status]int, out *sink) {
	if c.back != nil {
		return
	}
	met := by[match.Changed] + by[match.Conflict] + by[match.TargetEdit] + by[match.Same]
	if found, ok := check.HardlyMeets(w.Name, w.Key, c.source, c.target, by[match.New], by[match.TargetOnly], met); ok {
		out.onDocket(found)
	}
}

// signatures are what is known of how the person at work stands in the target's stamps.
type signatures struct {
	ids   map[string]string // by type, where people are records
	asked bool              // the target can be asked, and does not stamp by itself
}

// unsigned says of a type with something to write that it cannot be written who does it.
func unsigned(c compared, w atWork, by map[match.Status]int, out *sink) {
	if !c.signs.asked || c.against != nil {
		return
	}
	changes := by[match.Changed] + by[match.Conflict] + by[match.TargetEdit]
	for _, of := range []struct{ adds, any bool }{{true, by[match.New] > 0}, {false, changes > 0}} {
		column, _, bad := w.Unsigned(w.place, c.target, w.Signature(c.session.Who, c.signs.ids), of.adds)
		if bad && of.any {
			out.onDocket(check.Unsigned(w.Name, w.Type, column, c.target, c.session.Who, false))
			return
		}
	}
}
