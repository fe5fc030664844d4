package importing

import (
	"slices"

	"anagram/internal/core/check"
	"anagram/internal/store/docket"
)

// turned asks again what the place of a record takes, by the functions that were asked at the
// match: rights and columns may be others by now. A record that they stop is left out.
func (r Ready) turned(n now, t docket.Type, found Rest) bool {
	typ, ok := r.Model.Catalog.Type(t.Name)
	if !ok || r.Places == nil {
		return false
	}
	w := check.Written{Address: n.Address, Target: r.Docket.Header.Target, Type: typ, Place: r.Places[typ.Place(r.Model.Environment)], Adds: len(n.here) == 0, Removes: n.Removes}
	stop := func(c check.Check) bool {
		if r.Docket.Header.Restores != 0 {
			c = check.TakingBack(c, r.Docket.Header.AgainInside())
		}
		found.leave(n.Approval, string(c.Code), c.Message+" "+c.Mend)
		return true
	}
	if c, bad := w.Rights(); bad {
		return stop(c)
	}
	if n.Removes {
		return false
	}
	writes := r.writes(n, t)
	for i, field := range t.Fields {
		if !slices.Contains(writes, field.Name) {
			continue
		}
		if c, bad := w.Value(field.Name, n.source.Values[i]); bad {
			return stop(c)
		}
	}
	parts := n.source.Key.Parts()
	for i, field := range r.Model.Shapes[t.Name] {
		if !w.Adds && !slices.Contains(writes, field.Name) || i >= len(parts) {
			continue
		}
		if c, bad := w.Value(field.Name, parts[i]); bad {
			return stop(c)
		}
	}
	return false
}
