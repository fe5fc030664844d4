package standing

import (
	"context"
	"fmt"
	"slices"

	"anagram/internal/core/catalog"
	"anagram/internal/core/check"
	"anagram/internal/core/match"
	"anagram/internal/store/docket"
)

// Approval is one approved finding, with what is needed to sequence it.
type Approval struct {
	ID       int64
	Type     string
	Address  string
	Status   match.Status
	fields   []string // of a changed finding: those that may be written
	declined []string // of a new finding: those that may not
	Needs    []docket.Need
	After    []int64 // findings that give up a value which this one gets
}

// Standing is which approved findings can be imported as things stand.
type Standing struct {
	Approved []*Approval // in docket order
	Blocked  map[int64][]check.Check
}

// Read works out what can be imported.
func Read(ctx context.Context, d *docket.Docket) (Standing, error) {
	out := Standing{Blocked: map[int64][]check.Check{}}
	byID := map[int64]*Approval{}
	for f, err := range d.Findings(ctx, docket.Filter{Statuses: []match.Status{match.New, match.Changed, match.Conflict, match.TargetEdit}}) {
		if err != nil {
			return out, err
		}
		if !f.IsApproved() {
			continue
		}
		a := &Approval{ID: f.ID, Type: f.Type, Address: f.Address, Status: f.Status}
		if f.Adds() {
			a.Status = match.New // what is a conflict about it is settled
		}
		if a.Status != match.New {
			a.fields = f.ApprovedFields()
		} else {
			for field, on := range f.ByField {
				if on != docket.Approved {
					a.declined = append(a.declined, field)
				}
			}
			slices.Sort(a.declined)
		}
		byID[f.ID] = a
		out.Approved = append(out.Approved, a)
	}
	for n, err := range d.Needs(ctx, true) {
		if err != nil {
			return out, err
		}
		a := byID[n.Holder]
		if a == nil || n.InTarget == 1 || !a.Writes(n.Field) {
			continue
		}
		a.Needs = append(a.Needs, n)
	}
	static, err := d.Checks(ctx)
	if err != nil {
		return out, err
	}
	clashes, err := out.readClaims(ctx, d)
	if err != nil {
		return out, err
	}
	candidates := make([]check.Candidate, 0, len(out.Approved))
	for _, a := range out.Approved {
		c := check.Candidate{ID: a.ID}
		for _, found := range static[a.ID] {
			if found.Level == check.Blocker && !a.escapes(found) {
				c.Blocked = string(found.Code)
				out.Blocked[a.ID] = append(out.Blocked[a.ID], found.Check)
			}
		}
		for _, field := range a.declined {
			if t, _ := d.Type(a.Type); slices.Contains(t.Required, field) {
				c.Blocked = string(check.ValueDoesNotFit)
				out.Blocked[a.ID] = append(out.Blocked[a.ID], check.Declined(a.Address, field, d.Header.Target))
			}
		}
		for _, clash := range clashes[a.ID] {
			c.Blocked = string(clash.Code)
			out.Blocked[a.ID] = append(out.Blocked[a.ID], clash)
		}
		for _, n := range a.Needs {
			switch needed := byID[n.Finding]; {
			case n.Finding == 0:
			case n.ByName && needed != nil && !needed.Rekeys(d.Catalog):
				c.Blocked = string(check.ReferenceNotApproved)
			default:
				c.Needs = append(c.Needs, n.Finding)
			}
		}
		c.Needs = append(c.Needs, a.After...)
		candidates = append(candidates, c)
	}
	fallen := check.Standing(candidates)
	for _, a := range out.Approved {
		if _, down := fallen[a.ID]; !down {
			continue
		}
		for _, id := range a.After {
			if _, down := fallen[id]; down {
				out.Blocked[a.ID] = append(out.Blocked[a.ID], check.Check{Code: check.ValueTaken, Level: check.Blocker,
					Message: fmt.Sprintf("%s gets a value that %s has to give up first, which cannot be imported itself.", a.Address, byID[id].Address),
					Mend:    fmt.Sprintf("Mend %s first.", byID[id].Address)})
			}
		}
		for _, n := range a.Needs {
			if n.Finding == 0 {
				continue
			}
			needed := byID[n.Finding]
			if needed == nil || n.ByName && !needed.Rekeys(d.Catalog) {
				c := check.NotApproved(a.Address, n.Need, d.Header.Target, d.Header.Number, "")
				if n.ByName {
					c = check.NotRekeyed(a.Address, n.Need, d.Header.Target)
				}
				out.Blocked[a.ID] = append(out.Blocked[a.ID], c)
				continue
			}
			if _, down := fallen[n.Finding]; down && n.Finding != a.ID {
				why := "something that it needs is missing."
				if c := static[n.Finding]; len(c) > 0 {
					why = c[0].Message
				}
				out.Blocked[a.ID] = append(out.Blocked[a.ID], check.NotApproved(a.Address, n.Need, d.Header.Target, d.Header.Number, why))
			}
		}
	}
	return out, nil
}

// readClaims works out which approved findings would get values that another record has
// once everything approved is written, and which have to wait for one that gives them up.
func (s Standing) readClaims(ctx context.Context, d *docket.Docket) (map[int64][]check.Check, error) {
	all, err := d.Claims(ctx)
	if err != nil || len(all) == 0 {
		return nil, err
	}
	var live []check.Claim
	for _, a := range s.Approved {
		for _, c := range all[a.ID] {
			differs := map[string]bool{}
			for _, other := range all[a.ID] {
				for _, field := range other.Writes {
					differs[field] = differs[field] || other.Set == c.Set
				}
			}
			all := true
			for field, in := range differs {
				all = all && (!in || a.Writes(field) == slices.Contains(c.Writes, field))
			}
			if all {
				live = append(live, c.Claim)
			}
		}
	}
	offers := func(finding int64, set string) bool {
		return slices.ContainsFunc(all[finding], func(c docket.Claim) bool { return c.Set == set })
	}
	out := map[int64][]check.Check{}
	clashing := map[int64]bool{}
	for _, clash := range check.Clashes(live, offers) {
		clashing[clash.Finding] = true
		out[clash.Finding] = append(out[clash.Finding], check.Taken(clash, d.Header.Target, d.Header.Number))
	}
	byID := map[int64]*Approval{}
	for _, a := range s.Approved {
		byID[a.ID] = a
	}
	for _, c := range live {
		if c.Holder != 0 && byID[c.Holder] != nil && !clashing[c.Finding] {
			byID[c.Finding].After = append(byID[c.Finding].After, c.Holder)
		}
	}
	return out, nil
}

// Writes reports whether a field of the finding is going to be written.
func (a *Approval) Writes(field string) bool {
	if a.Status == match.New {
		return !slices.Contains(a.declined, field)
	}
	return slices.Contains(a.fields, field)
}

// Rekeys reports whether the record is going to get the source's key.
func (a *Approval) Rekeys(c *catalog.Catalog) bool {
	t, ok := c.Type(a.Type)
	return ok && a.Status != match.New && slices.ContainsFunc(t.Key, func(field string) bool { return slices.Contains(a.fields, field) })
}

// escapes reports whether a blocker does not matter, as what it is about is not going to
// be written.
func (a *Approval) escapes(c docket.Check) bool {
	if c.Code == check.ValueTaken || !c.Holds(a.Writes) { // whether a value is taken follows from what is approved
		return true
	}
	if c.Code != check.MissingReference && c.Code != check.AmbiguousKey {
		return false
	}
	return !slices.ContainsFunc(a.Needs, func(n docket.Need) bool { return n.Finding == 0 })
}
