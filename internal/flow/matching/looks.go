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
