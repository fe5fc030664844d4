package standing

import (
	"context"
	"slices"
	"strings"

	"anagram/internal/core/catalog"
	"anagram/internal/core/check"
	"anagram/internal/core/decision"
	"anagram/internal/core/match"
	"anagram/internal/core/record"
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
	adds     bool     // an import makes the record
	Removes  bool     // the record is taken away, as the import that made it is taken back
	proposed []string // of fields: those that the finding proposes by itself
	differs  []string // fields in which both sides differ, or that a new finding has
	Needs    []docket.Need
	After    []int64 // findings that give up a value which this one gets
	Seq      int64   // the last word in the log that approves anything of it
	Said     string  // when that was said
}

// Writes reports whether a field of the finding is going to be written.
func (a *Approval) Writes(field string) bool {
	if a.Removes {
		return false
	}
	if a.Status == match.New {
		return !slices.Contains(a.declined, field)
	}
	return slices.Contains(a.fields, field)
}

// Wrote gives a finding as if just these of its type's fields were approved: to look again at
// what imports wrote.
func Wrote(f docket.Finding, all []record.Field, fields []string) *Approval {
	a := &Approval{ID: f.ID, Type: f.Type, Address: f.Address, Status: f.Status, Removes: f.Removes(), adds: f.Adds(), fields: fields}
	if a.adds {
		a.Status = match.New
		for _, field := range all {
			if !slices.Contains(fields, field.Name) {
				a.declined = append(a.declined, field.Name)
			}
		}
	}
	return a
}

// Rekeys reports whether the record is going to get the source's key.
func (a *Approval) Rekeys(c *catalog.Catalog) bool {
	t, ok := c.Type(a.Type)
	return ok && a.Status != match.New && slices.ContainsFunc(t.Key, func(field string) bool { return slices.Contains(a.fields, field) })
}

// escapes reports whether a blocker does not matter, as what it is about is not going to
// be written.
func (a *Approval) escapes(c check.On) bool {
	if c.Code == check.ValueTaken || !c.Holds(a.Writes) { // whether a value is taken follows from what is approved
		return true
	}
	if c.Code != check.MissingReference && c.Code != check.AmbiguousKey {
		return false
	}
	return !slices.ContainsFunc(a.Needs, func(n docket.Need) bool { return n.Finding == 0 })
}

// Standing is which approved findings can be imported as things stand.
type Standing struct {
	Approved []*Approval // in docket order
	Tally    decision.Tally
	Blocked  map[int64][]check.Check // what stands in the way, by finding
	Missing  map[int64]int           // approvals that are still asked for, of those approved by fewer
}

// Read works out what can be imported, where the target demands that of approvals.
func Read(ctx context.Context, d *docket.Docket, demand Demand) (Standing, error) {
	out := Standing{Blocked: map[int64][]check.Check{}}
	r := reading{d: d, byID: map[int64]*Approval{}}
	var err error
	if out.Approved, out.Tally, err = approvals(ctx, d); err != nil {
		return out, err
	}
	for _, a := range out.Approved {
		r.byID[a.ID] = a
	}
	if err := r.readNeeds(ctx); err != nil {
		return out, err
	}
	if r.static, err = d.Found.Checks(ctx); err != nil {
		return out, err
	}
	clashes, err := readClaims(ctx, d, out.Approved)
	if err != nil {
		return out, err
	}
	lacking, missing, err := demand.lacks(ctx, d, out.Approved)
	if err != nil {
		return out, err
	}
	out.Missing = missing
	candidates := make([]check.Candidate, 0, len(out.Approved))
	for _, a := range out.Approved {
		own := append(r.own(a), clashes[a.ID]...)
		if c, lacks := lacking[a.ID]; lacks {
			own = append(own, c)
		}
		c := check.Candidate{ID: a.ID}
		if len(own) > 0 {
			out.Blocked[a.ID] = own
			c.Blocked = string(own[0].Code)
		}
		candidates = append(candidates, r.needed(a, c))
	}
	fallen := check.Standing(candidates)
	for _, a := range out.Approved {
		if _, down := fallen[a.ID]; down {
			if more := r.through(a, fallen); len(more) > 0 {
				out.Blocked[a.ID] = append(out.Blocked[a.ID], more...)
			}
		}
	}
	return out, nil
}

// lists are lists of fields. Very many approvals have the same, which is kept once.
type lists map[string][]string

func (l lists) of(fields []string) []string {
	if len(fields) == 0 {
		return nil
	}
	key := strings.Join(fields, "\x00")
	if had, ok := l[key]; ok {
		return had
	}
	l[key] = fields
	return fields
}

// approvals gives the findings that are approved, or of which a field is, and counts all.
func approvals(ctx context.Context, d *docket.Docket) ([]*Approval, decision.Tally, error) {
	var out []*Approval
	same := lists{}
	tally, err := d.Found.AllOpen(ctx)
	if err != nil {
		return nil, tally, err
	}
	for f, err := range d.Found.Stands(ctx) {
		if err != nil {
			return nil, tally, err
		}
		tally.Decided(f.Of())
		if !f.IsApproved() {
			continue
		}
		a := &Approval{ID: f.ID, Type: f.Type, Address: f.Address, Status: f.Status, Removes: f.Removes(), Seq: f.Seq, Said: f.DecidedAt}
		for _, w := range f.Said() {
			if w.Decision == decision.Approved && (w.Seq > a.Seq || a.Said == "") {
				a.Seq, a.Said = w.Seq, w.At
			}
		}
		if a.Removes {
			out = append(out, a)
			continue
		}
		for _, field := range f.Fields {
			a.differs = append(a.differs, field.Field)
		}
		a.differs = same.of(a.differs)
		a.adds = f.Adds()
		for _, field := range f.Fields {
			if f.Proposes(field) == match.Write {
				a.proposed = append(a.proposed, field.Field)
			}
		}
		a.proposed = same.of(a.proposed)
		if !f.Adds() {
			a.fields = same.of(f.ApprovedFields())
			out = append(out, a)
			continue
		}
		a.Status = match.New // what is a conflict about it is settled
		for field, on := range f.ByField {
			if on != decision.Approved {
				a.declined = append(a.declined, field)
			}
		}
		slices.Sort(a.declined)
		out = append(out, a)
	}
	return out, tally, nil
}

// reading is a docket whose approvals are looked at together.
type reading struct {
	d      *docket.Docket
	byID   map[int64]*Approval
	static map[int64][]check.On
}

// readNeeds gives every approval what it needs of those fields that are written.
func (r reading) readNeeds(ctx context.Context) error {
	for n, err := range r.d.Found.Needs(ctx, true) {
		if err != nil {
			return err
		}
		if a := r.byID[n.Holder]; a != nil && n.InTarget != 1 && (n.Frees && a.Removes || !n.Frees && a.Writes(n.Field)) {
			a.Needs = append(a.Needs, n)
		}
	}
	return nil
}

// own gives what stands in the way of an approval by itself.
func (r reading) own(a *Approval) []check.Check {
	var out []check.Check
	for _, found := range r.static[a.ID] {
		if found.Level == check.Blocker && !a.escapes(found) {
			out = append(out, found.Check)
		}
	}
	if t, ok := r.d.Catalog.Type(a.Type); ok {
		for _, both := range t.Together() {
			one, other := both[0], both[1]
			if !slices.Contains(a.differs, one) || !slices.Contains(a.differs, other) || a.Writes(one) == a.Writes(other) {
				continue
			}
			if !a.Writes(one) {
				one, other = other, one
			}
			out = append(out, check.Apart(a.Address, one, other))
		}
	}
	t, _ := r.d.Type(a.Type)
	for _, field := range a.declined {
		if slices.Contains(t.Required, field) {
			out = append(out, check.Declined(a.Address, field, r.d.Header.Target))
		}
	}
	return out
}

// serves reports whether an approval gives what a need asks for.
func (r reading) serves(n docket.Need, needed *Approval) bool {
	switch {
	case needed == nil:
		return false
	case n.Frees:
		return needed.Removes || needed.Writes(n.Field)
	default:
		return !n.ByName || needed.Rekeys(r.d.Catalog)
	}
}

// needed adds to a candidate what it needs from others of the docket.
func (r reading) needed(a *Approval, c check.Candidate) check.Candidate {
	for _, n := range a.Needs {
		switch needed := r.byID[n.Finding]; {
		case n.Finding == 0:
		case needed != nil && !r.serves(n, needed):
			c.Blocked = string(check.ReferenceNotApproved)
		default:
			c.Needs = append(c.Needs, n.Finding)
		}
	}
	c.Needs = append(c.Needs, a.After...)
	return c
}

// through says what stands in the way of an approval through others.
func (r reading) through(a *Approval, fallen map[int64]int64) []check.Check {
	var out []check.Check
	h := r.d.Header
	for _, id := range a.After {
		if _, down := fallen[id]; down {
			other := r.byID[id].Address
			out = append(out, check.HeldUp(a.Address, other))
		}
	}
	for _, n := range a.Needs {
		_, down := fallen[n.Finding]
		switch needed := r.byID[n.Finding]; {
		case n.Finding == 0:
		case !r.serves(n, needed) && n.Frees:
			out = append(out, check.ReferredUnapproved(a.Address, n.Address, n.Field, h.Target))
		case n.Frees && down && n.Finding != a.ID:
			out = append(out, check.ReferredBlocked(a.Address, n.Address, n.Field, h.Target))
		case n.Frees:
		case !r.serves(n, needed) && n.ByName:
			out = append(out, check.NotRekeyed(a.Address, n.Need, h.Target))
		case !r.serves(n, needed):
			out = append(out, check.NotApproved(a.Address, n.Need, h.Target, h.Number, ""))
		case down && n.Finding != a.ID:
			why := "something that it needs is missing."
			if c := r.static[n.Finding]; len(c) > 0 {
				why = c[0].Message
			}
			out = append(out, check.NotApproved(a.Address, n.Need, h.Target, h.Number, why))
		}
	}
	return out
}

// readClaims works out which approved findings would get values that another record has
// once everything approved is written, and which have to wait for one that gives them up.
func readClaims(ctx context.Context, d *docket.Docket, approved []*Approval) (map[int64][]check.Check, error) {
	all, err := d.Found.Claims(ctx)
	if err != nil || len(all) == 0 {
		return nil, err
	}
	byID := map[int64]*Approval{}
	var live []check.Claim
	for _, a := range approved {
		byID[a.ID] = a
		for _, c := range all[a.ID] {
			if a.comesTo(c, all[a.ID]) {
				live = append(live, c.Claim)
			}
		}
	}
	offers := func(finding int64, set string) bool {
		return slices.ContainsFunc(all[finding], func(c docket.Claim) bool { return c.Set == set })
	}
	out := map[int64][]check.Check{}
	for _, clash := range check.Clashes(live, offers) {
		out[clash.Finding] = append(out[clash.Finding], check.Taken(clash, d.Header.Target, d.Header.Number))
	}
	for _, c := range live {
		if c.Holder != 0 && byID[c.Holder] != nil && out[c.Finding] == nil {
			byID[c.Finding].After = append(byID[c.Finding].After, c.Holder)
		}
	}
	return out, nil
}

// comesTo reports whether a claim is the one, of those on its set, that holds for what is
// going to be written.
func (a *Approval) comesTo(c docket.Claim, all []docket.Claim) bool {
	for _, other := range all {
		if other.Set != c.Set {
			continue
		}
		for _, field := range other.Writes {
			if a.Writes(field) != slices.Contains(c.Writes, field) {
				return false
			}
		}
	}
	return true
}
