package flow

import (
	"context"
	"slices"

	"anagram/internal/core/check"
	"anagram/internal/core/match"
	"anagram/internal/store/docket"
)

// approval is one approved finding, with what is needed to sequence it.
type approval struct {
	id       int64
	typ      string
	address  string
	status   match.Status
	fields   []string // of a changed finding: those that may be written
	declined []string // of a new finding: those that may not
	needs    []docket.Need
}

// standing is which approved findings can be imported as things stand.
type standing struct {
	approved []*approval // in docket order
	blocked  map[int64][]check.Check
}

// readStanding works out what can be imported.
func readStanding(ctx context.Context, d *docket.Docket) (standing, error) {
	out := standing{blocked: map[int64][]check.Check{}}
	byID := map[int64]*approval{}
	for f, err := range d.Findings(ctx, docket.Filter{Statuses: []match.Status{match.New, match.Changed, match.Conflict, match.TargetEdit}}) {
		if err != nil {
			return out, err
		}
		if !f.IsApproved() {
			continue
		}
		a := &approval{id: f.ID, typ: f.Type, address: f.Address, status: f.Status}
		if f.Removed() {
			a.status = match.New // it is not in the target and is brought back
		}
		if a.status != match.New {
			a.fields = f.ApprovedFields()
		} else {
			for field, on := range f.ByField {
				if on != docket.Approved {
					a.declined = append(a.declined, field)
				}
			}
		}
		byID[f.ID] = a
		out.approved = append(out.approved, a)
	}
	for n, err := range d.Needs(ctx, true) {
		if err != nil {
			return out, err
		}
		a := byID[n.Holder]
		if a == nil || n.InTarget == 1 || !a.writes(n.Field) {
			continue
		}
		a.needs = append(a.needs, n)
	}
	static, err := d.Checks(ctx)
	if err != nil {
		return out, err
	}
	candidates := make([]check.Candidate, 0, len(out.approved))
	for _, a := range out.approved {
		c := check.Candidate{ID: a.id}
		for _, found := range static[a.id] {
			if found.Level == check.Blocker && !a.escapes(found) {
				c.Blocked = string(found.Code)
				out.blocked[a.id] = append(out.blocked[a.id], found)
			}
		}
		for _, n := range a.needs {
			if n.Finding != 0 {
				c.Needs = append(c.Needs, n.Finding)
			}
		}
		candidates = append(candidates, c)
	}
	fallen := check.Standing(candidates)
	for _, a := range out.approved {
		if _, down := fallen[a.id]; !down {
			continue
		}
		for _, n := range a.needs {
			if n.Finding == 0 {
				continue
			}
			needed := byID[n.Finding]
			if needed == nil {
				out.blocked[a.id] = append(out.blocked[a.id], check.NotApproved(a.address, n.Need, d.Header.Target, d.Header.Number, ""))
				continue
			}
			if _, down := fallen[n.Finding]; down && n.Finding != a.id {
				why := "something that it needs is missing."
				if c := static[n.Finding]; len(c) > 0 {
					why = c[0].Message
				}
				out.blocked[a.id] = append(out.blocked[a.id], check.NotApproved(a.address, n.Need, d.Header.Target, d.Header.Number, why))
			}
		}
	}
	return out, nil
}

// writes reports whether a field of the finding is going to be written.
func (a *approval) writes(field string) bool {
	if a.status == match.New {
		return !slices.Contains(a.declined, field)
	}
	return slices.Contains(a.fields, field)
}

// escapes reports whether a missing reference does not matter, as none of the fields
// with a need that nothing satisfies is going to be written.
func (a *approval) escapes(c check.Check) bool {
	if c.Code == check.ValueDoesNotFit {
		about := func(field string) bool { return check.About(c, field) }
		if a.status == match.New {
			return slices.ContainsFunc(a.declined, about)
		}
		return !slices.ContainsFunc(a.fields, about)
	}
	if c.Code != check.MissingReference && c.Code != check.AmbiguousKey {
		return false
	}
	return !slices.ContainsFunc(a.needs, func(n docket.Need) bool { return n.Finding == 0 })
}
