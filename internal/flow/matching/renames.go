package matching

import (
	"context"

	"anagram/internal/core/check"
	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/core/rename"
)

// renames collects the records of a type that only one side has, while there are few
// enough of them to be looked at.
type renames struct {
	typ       string
	finder    rename.Finder
	addresses map[int64]string
	keys      map[int64]record.Key
}

// mostRenames is up to how many records that only one side has are compared with each
// other; a type that is new as a whole was not renamed.
const mostRenames = 20_000

func (r *renames) note(id int64, address string, f match.Finding) {
	if r == nil || len(r.addresses) > mostRenames {
		return
	}
	switch f.Status {
	case match.New:
		r.finder.Source(id, f.Source.Values)
	case match.TargetOnly:
		r.finder.Target(id, f.Target.Values)
	default:
		return
	}
	r.addresses[id], r.keys[id] = address, f.Key
}

// likelyRenames points at each other what is probably one record. What only has such a
// record in its key is not pointed at: it follows once that one is paired.
func (m *matching) likelyRenames(ctx context.Context) error {
	r := m.renames
	if r == nil || len(r.addresses) > mostRenames {
		return nil
	}
	source := m.parcel.Manifest.Source
	likely := r.finder.Likely()
	for _, p := range likely {
		m.likely.Add(r.typ, r.keys[p.Target], r.keys[p.Source])
	}
	for _, p := range likely {
		if key := r.keys[p.Source]; m.likely.TargetParts(r.typ, key).Order() == r.keys[p.Target].Order() {
			continue
		}
		one, other := r.addresses[p.Source], r.addresses[p.Target]
		if err := m.check(ctx, p.Source, check.Renamed(one, other, source, m.target, p.Fields, p.Of, true)); err != nil {
			return err
		}
		if err := m.check(ctx, p.Target, check.Renamed(other, one, source, m.target, p.Fields, p.Of, false)); err != nil {
			return err
		}
	}
	return nil
}
