package importing

import (
	"slices"

	"anagram/internal/core/check"
	"anagram/internal/core/match"
	"anagram/internal/flow/standing"
	"anagram/internal/store/docket"
)

// What a place takes is asked again before it is written to, by the functions that were asked at
// the match: rights and columns may be others by now. A record that they stop is left out.

// unallowed finds the approvals for which the account has no right any more. That is asked before
// anything is read: some engines let only those lock a record who may change it.
func (r Ready) unallowed(rest Rest) Rest {
	found := newRest()
	for _, a := range r.Standing.Approved {
		w, known := r.wouldBe(a, a.Status == match.New)
		if c, bad := w.Rights(); known && bad && !rest.skips(a) {
			r.stop(a, c, found)
		}
	}
	return found
}

// wouldBe is an approval as it would be written, for what its place says of it.
func (r Ready) wouldBe(a *standing.Approval, adds bool) (check.Written, bool) {
	typ, ok := r.Model.Catalog.Type(a.Type)
	if !ok || r.Places == nil {
		return check.Written{}, false
	}
	return check.Written{Address: a.Address, Target: r.Docket.Header.Target, Type: typ, Place: r.Places[typ.Place(r.Model.Environment)], Adds: adds, Removes: a.Removes}, true
}

// stop leaves an approval out for a check.
func (r Ready) stop(a *standing.Approval, c check.Check, found Rest) {
	if r.Docket.Header.Restores != 0 {
		c = check.TakingBack(c, r.Docket.Header.AgainInside())
	}
	found.leave(a, string(c.Code), c.Message+" "+c.Mend)
}

// turned asks again whether the values that would be written fit.
func (r Ready) turned(n now, t docket.Type, found Rest) bool {
	w, known := r.wouldBe(n.Approval, len(n.here) == 0)
	if !known || n.Removes {
		return false
	}
	writes := r.writes(n, t)
	for i, field := range t.Fields {
		if !slices.Contains(writes, field.Name) {
			continue
		}
		if c, bad := w.Value(field.Name, n.source.Values[i]); bad {
			r.stop(n.Approval, c, found)
			return true
		}
	}
	parts := n.source.Key.Parts()
	for i, field := range r.Model.Shapes[t.Name] {
		if !w.Adds && !slices.Contains(writes, field.Name) || i >= len(parts) {
			continue
		}
		if c, bad := w.Value(field.Name, parts[i]); bad {
			r.stop(n.Approval, c, found)
			return true
		}
	}
	return false
}
