package decide

import (
	"context"
	"strings"

	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/run"
	"anagram/internal/store/workspace"
)

// Beside remembers that a record of the source comes in under another key, next to the target's
// own that has its key. Parts and references follow from the next match on. The new key must be
// free on both sides, which is asked of the target now. It gives both addresses.
func Beside(ctx context.Context, s *session.Session, d *docket.Docket, address, other, note string) (workspace.Pair, error) {
	h := d.Header
	none := workspace.Pair{}
	if err := Words("the note", note); err != nil {
		return none, err
	}
	f, err := one(ctx, d, address)
	if err != nil {
		return none, err
	}
	if h.TargetParcel != "" {
		return none, session.Usage("Docket %d compares two parcels; nothing is brought in", h.Number)
	}
	if f.Status == match.TargetOnly || f.Hopeless() || f.Source == "" || d.Header.Restores != 0 {
		return none,
			session.Usage("%s is none that %s could bring in; --beside takes a record that both have, or that comes from there",
				f.Address, h.Source)
	}
	if !strings.HasPrefix(other, f.Type+"/") {
		other = f.Type + "/" + other
	}
	typ, key, err := d.Catalog.ParseAddress(d.Header.Keys, other)
	if err != nil || typ != f.Type {
		return none, session.Usage("%q is no address of a %s; it looks like %s", other, f.Type, f.Address)
	}
	other = d.Catalog.Address(typ, key)
	p, err := record.ParsePattern(other)
	if err != nil {
		return none, session.Usage("%v", err)
	}
	for taken, err := range d.Found.Findings(ctx, docket.Filter{Patterns: []record.Pattern{p}}) {
		if err != nil {
			return none, err
		}
		return none, session.Usage("%s is a record already (%s in docket %d); choose another key", other, taken.Status, h.Number)
	}
	env, err := s.Open(ctx, h.Target, true)
	if err != nil {
		return none, err
	}
	defer env.Close()
	counts, err := env.Locate(ctx, &environment.Model{Environment: h.Target, Catalog: d.Catalog, Shapes: h.Keys}, typ, []record.Key{key})
	if err != nil {
		return none, err
	}
	if counts[0] > 0 {
		return none, session.Usage("%s is in %s already; choose another key", other, h.Target)
	}
	pair := workspace.Pair{Old: f.Address, New: other, By: s.Who, At: run.Stamp(s.Now()), Note: note, Beside: true, Source: h.Source,
		Target: h.Target}
	added, err := s.Workspace.AddPair(pair)
	if err == nil && !added {
		err = session.Usage("%s and %s are paired already; anagram pair --list shows how", f.Address, other)
	}
	return pair, err
}
