package decide

import (
	"context"
	"iter"
	"path"
	"slices"
	"strings"
	"time"

	"anagram/internal/core/check"
	"anagram/internal/core/decision"
	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/core/yamldoc"
	"anagram/internal/flow/session"
	"anagram/internal/flow/standing"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/run"
	"anagram/internal/store/register"
)

// Which says which findings are meant. What is empty does not limit.
type Which struct {
	Patterns  []string
	Statuses  []match.Status
	Types     []string
	Decisions []decision.Decision // as they stand; open means those that ask for a decision
	By        []string            // who decided
	Checks    []string            // codes of checks, one of which they have
	Before    bool                // an earlier docket approved them, on the values that both sides still have
	Group     string              // address of a record: the group that it is in, or heads
	WaitsFor  string              // a person whose word would bring the finding on
	// ChangedBy are people who changed the record last on either side, as its stamp says; ChangedSince
	// is a moment, RFC 3339, at or after which either side changed it. Own imports count for neither.
	ChangedBy    []string
	ChangedSince string
}

// Any reports whether something limits it beside patterns.
func (w Which) Any() bool {
	return len(w.Statuses)+len(w.Types)+len(w.Decisions)+len(w.By)+len(w.Checks)+len(w.ChangedBy) > 0 || w.ChangedSince != "" ||
		w.WaitsFor != "" || w.Group != "" || w.Before
}

// Reviewed is a finding with its checks, static ones and those that follow from the
// decisions as they are.
type Reviewed struct {
	docket.Finding
	Checks []check.Check
	Said   []docket.Comment // what was asked and answered
	Needs  int              // approvals that are still asked for
}

// Stands says how the finding stands, with those who are asked to approve in view.
func (r Reviewed) Stands() decision.Decision {
	if stand := r.Of().Stands(); stand != decision.Approved && stand != decision.InPart || r.Needs == 0 {
		return stand
	}
	return decision.Waiting
}

// Blocked reports whether something stands in the way of the finding.
func (r Reviewed) Blocked() bool {
	return slices.ContainsFunc(r.Checks, func(c check.Check) bool { return c.Level == check.Blocker })
}

// order says how findings come.
type order int

const (
	byKey    order = iota // by type in dependency order, and key
	byStatus              // by type, status and key
	byGroup               // by group, the head of each first
)

// selected is what a docket is asked for: which findings, and what is known about all.
type selected struct {
	d        *docket.Docket
	session  *session.Session
	which    Which
	filter   docket.Filter
	static   map[int64][]check.On
	said     map[int64][]docket.Comment
	standing standing.Standing
	demand   standing.Demand
	asked    map[int64][]string // who is asked something on a finding
}

// choose reads what findings are meant. A type, a status, a pattern or a group that the
// docket does not know is an error with the nearest word.
func choose(ctx context.Context, of *session.Session, d *docket.Docket, w Which) (selected, error) {
	w.By, w.WaitsFor = named(w.By, of.Who), strings.Join(named([]string{w.WaitsFor}, of.Who), "")
	since, err := sinceOf(w.ChangedSince)
	if err != nil {
		return selected{}, err
	}
	w.ChangedSince, w.ChangedBy = since, named(w.ChangedBy, of.Who)
	s := selected{d: d, session: of, which: w}
	if s.demand, err = standing.Demanded(of, d); err != nil {
		return s, err
	}
	if s.filter, err = findingFilter(d, w); err != nil {
		return s, err
	}
	if s.filter, err = d.Found.WithNames(ctx, s.filter); err != nil {
		return s, err
	}
	if w.Group != "" {
		if s.filter.Group, err = groupOf(ctx, d, w.Group); err != nil {
			return s, err
		}
	}
	if s.static, err = d.Found.Checks(ctx); err != nil {
		return s, err
	}
	said, err := d.Comments(ctx)
	if err != nil {
		return s, err
	}
	s.said = map[int64][]docket.Comment{}
	for _, c := range said {
		s.said[c.Finding] = append(s.said[c.Finding], c)
	}
	if w.WaitsFor != "" {
		open, err := questions(ctx, d)
		if err != nil {
			return s, err
		}
		s.asked = map[int64][]string{}
		for _, q := range open {
			s.asked[q.finding] = append(s.asked[q.finding], decision.Name(q.To))
		}
	}
	s.standing, err = standing.Read(ctx, d, s.demand)
	return s, err
}

// each gives the findings that are meant.
func (s selected) each(ctx context.Context, by order) iter.Seq2[Reviewed, error] {
	return func(yield func(Reviewed, error) bool) {
		filter := s.filter
		filter.ByStatus, filter.ByGroup = by == byStatus, by == byGroup
		for f, err := range s.d.Found.Findings(ctx, filter) {
			if err != nil {
				yield(Reviewed{}, err)
				return
			}
			r := s.with(f)
			if s.which.fits(r, s.session.Who) && s.which.changed(s.d.Header, f) &&
				(s.which.WaitsFor == "" || s.waits(r, s.which.WaitsFor)) && !yield(r, nil) {
				return
			}
		}
	}
}

// with gives a finding its checks.
func (s selected) with(f docket.Finding) Reviewed {
	r := Reviewed{Finding: f, Said: s.said[f.ID], Needs: s.standing.Missing[f.ID]}
	for _, c := range s.static[f.ID] {
		// Of what is decided only those blockers count that stand in the way of it.
		decided := c.Level == check.Blocker && slices.Contains([]decision.Decision{decision.Approved, decision.Declined,
			decision.TargetKept}, f.Stand())
		if !c.Partial && !decided {
			r.Checks = append(r.Checks, c.Check)
		}
	}
	for _, c := range s.standing.Blocked[f.ID] {
		if !slices.ContainsFunc(r.Checks, c.Is) {
			r.Checks = append(slices.Clone(r.Checks), c)
		}
	}
	return r
}

// sinceOf reads a date, whose beginning in UTC is meant, or a time; "" is neither.
func sinceOf(text string) (string, error) {
	if text == "" {
		return "", nil
	}
	if t, ok := session.Moment(text); ok {
		return t.Format(time.RFC3339), nil
	}
	return "", session.Usage("--changed-since %q is neither a date such as 2026-11-23 nor a time such as 2026-11-23T08:00:00Z", text)
}

// changed reports whether somebody who is meant changed the record, and since then.
func (w Which) changed(h docket.Header, f docket.Finding) bool {
	if len(w.ChangedBy) == 0 && w.ChangedSince == "" {
		return true
	}
	since, _ := time.Parse(time.RFC3339, w.ChangedSince)
	return slices.ContainsFunc(h.Changes(f), func(c docket.Change) bool {
		at, told := c.Moment()
		by := len(w.ChangedBy) == 0 || slices.ContainsFunc(w.ChangedBy, func(who string) bool { return strings.EqualFold(who, c.By) })
		return c.Own == nil && by && (w.ChangedSince == "" || told && !at.Before(since))
	})
}

// fits reports whether a finding is among those meant, as far as the docket could not say it.
func (w Which) fits(r Reviewed, me string) bool {
	if len(w.Decisions) > 0 {
		stand, wide := r.Stands(), r.Stand()
		// What is only to be seen is open to who asks for its status; what waits for another
		// approval is approved as well, and what people clash on is open.
		if wide == decision.Undecided && stand == decision.ToSee && !slices.Contains(w.Statuses, r.Status) {
			wide = stand
		}
		if !slices.Contains(w.Decisions, stand) && !slices.Contains(w.Decisions, wide) {
			return false
		}
	}
	if len(w.By) > 0 && !slices.ContainsFunc(w.By, func(who string) bool { return saidBySomebody(r, who, me) }) {
		return false
	}
	return len(w.Checks) == 0 || slices.ContainsFunc(r.Checks, func(c check.Check) bool {
		return slices.Contains(w.Checks,
			string(c.Code))
	})
}

// groupOf gives the number of the group that a record heads, or is in.
func groupOf(ctx context.Context, d *docket.Docket, address string) (int, error) {
	groups, err := d.Found.Groups(ctx)
	if err != nil {
		return 0, err
	}
	for _, g := range groups {
		if g.Address == address {
			return g.Number, nil
		}
	}
	p, err := record.ParsePattern(address)
	if err != nil {
		return 0, session.Usage("%v", err)
	}
	if !p.Exact() {
		return 0, session.Usage("--group takes one record's address, such as assay/GLU, not the pattern %q", address)
	}
	for f, err := range d.Found.Findings(ctx, docket.Filter{Patterns: []record.Pattern{p}}) {
		if err != nil {
			return 0, err
		}
		return f.Group, nil
	}
	return 0, session.Usage("Docket %d has no group of %s; anagram review %d lists the groups", d.Header.Number, address, d.Header.Number)
}

// findingFilter reads patterns and names; a type or status that the docket does not
// know is an error with the nearest word.
// starred puts the types that patterns such as price_* name in their place; known is nil where
// nothing fits one.
func starred(wanted, names []string) (types, known []string) {
	for _, name := range wanted {
		if !record.HasStar(name) {
			types = append(types, name)
			continue
		}
		fits := false
		for _, typ := range names {
			if ok, err := path.Match(name, typ); err == nil && ok {
				fits = true
				types = append(types, typ)
			}
		}
		if !fits {
			return nil, nil
		}
	}
	return types, append([]string{}, names...)
}

func findingFilter(d *docket.Docket, w Which) (docket.Filter, error) {
	filter := docket.Filter{Statuses: w.Statuses, Types: w.Types, Before: w.Before}
	var words []string
	for _, s := range match.Statuses() {
		words = append(words, string(s))
	}
	for _, status := range w.Statuses {
		if !slices.Contains(words, string(status)) {
			return filter, session.Usage("The status %q is not known%s", status, yamldoc.Nearest(string(status), words))
		}
	}
	if err := knownDecisions(w.Decisions); err != nil {
		return filter, err
	}
	codes := check.Codes()
	for _, code := range w.Checks {
		if !slices.Contains(codes, code) {
			return filter, session.Usage("The check %q is not known%s", code, yamldoc.Nearest(code, codes))
		}
	}
	var names []string
	for _, t := range d.Types {
		names = append(names, t.Name)
	}
	known := func(name string) error {
		if name != "" && !slices.Contains(names, name) {
			return session.Usage("Docket %d has no record type %q%s", d.Header.Number, name, yamldoc.Nearest(name, names))
		}
		return nil
	}
	if filter.Types, names = starred(w.Types, names); names == nil {
		return filter, session.Usage("Docket %d has no record type that fits %s", d.Header.Number, strings.Join(w.Types, ", "))
	}
	for _, typ := range filter.Types {
		if err := known(typ); err != nil {
			return filter, err
		}
	}
	for _, text := range w.Patterns {
		p, err := record.ParsePattern(text)
		if err != nil {
			return filter, session.Usage("%v", err)
		}
		if err := known(p.Type()); err != nil {
			return filter, err
		}
		filter.Patterns = append(filter.Patterns, p)
	}
	return filter, nil
}

func knownDecisions(decisions []decision.Decision) error {
	words := []string{string(decision.Undecided), string(decision.Approved), string(decision.Declined), string(decision.Held),
		string(decision.TargetKept), string(decision.ToSee), string(decision.Clash), string(decision.Waiting), string(decision.InPart)}
	for _, d := range decisions {
		if !slices.Contains(words, string(d)) {
			return session.Usage("The decision %q is not known%s", d, yamldoc.Nearest(string(d), words))
		}
	}
	return nil
}

// Names that stand for people in filters.
const (
	me     = "me"
	others = "others"
)

// named puts the name of who is at work in the place of me.
func named(who []string, atWork string) []string {
	out := slices.Clone(who)
	for i, name := range out {
		if name == me {
			out[i] = atWork
		}
	}
	return out
}

// saidBySomebody reports whether a person's word on a finding counts; of others, that of anybody
// else than who is at work.
func saidBySomebody(r Reviewed, who, atWork string) bool {
	if who != others {
		return r.Spoke(who) || r.DecidedByOne(who)
	}
	return slices.ContainsFunc(r.Finding.Said(), func(w decision.Word) bool { return decision.Name(w.Who) != decision.Name(atWork) })
}

// waits reports whether a person's word would bring a finding on: nobody decided it, people want
// different sides of it, or it has fewer approvals than the target demands and theirs would count.
func (s selected) waits(r Reviewed, who string) bool {
	if slices.Contains(s.asked[r.ID], decision.Name(who)) {
		return true
	}
	if !r.Asks() || r.Hopeless() || s.demand.Discounts(who, r.Type) {
		return false
	}
	switch r.Stand() {
	case decision.Undecided:
		return len(r.Wanted) > 0 || !r.Spoke(who) || r.Status == match.Conflict
	case decision.Approved:
		lacks := slices.ContainsFunc(r.Checks, func(c check.Check) bool { return c.Code == check.ApprovalsCode })
		return lacks && r.By(who, "") != decision.Approved
	}
	return false
}

// WaitFor gives the findings of a docket that wait for a person's word.
func WaitFor(ctx context.Context, of *session.Session, d *docket.Docket, who string) (map[int64]bool, error) {
	s, err := choose(ctx, of, d, Which{WaitsFor: who})
	if err != nil {
		return nil, err
	}
	out := map[int64]bool{}
	for r, err := range s.each(ctx, byKey) {
		if err != nil {
			return nil, err
		}
		out[r.ID] = true
	}
	return out, nil
}

// Waiting gives the approved findings that wait for the word of who is at work; nil where the target
// does not count people.
func Waiting(ctx context.Context, of *session.Session, d *docket.Docket) (map[int64]bool, error) {
	demand, err := standing.Demanded(of, d)
	if err != nil || demand.Counts() == 0 {
		return nil, err
	}
	all, err := WaitFor(ctx, of, d, of.Who)
	return all, err
}

// Lacking tells how many approved findings of a docket have fewer approvals than the target demands,
// and how many findings wait for the word of who is at work. Both are 0 where the target does not
// count people, or the docket is overtaken.
func Lacking(ctx context.Context, of *session.Session, docket docket.Summary, overtaken bool) (lacking, yours int, err error) {
	h := docket.Header
	e, err := of.Workspace.Environment(h.Target)
	imported := slices.ContainsFunc(docket.Runs, run.Run.Done)
	anybody := e.Guard.Approvals == 0 && !e.Guard.Signed && !e.Guard.Differs && len(of.Workspace.People) == 0
	if err != nil || anybody || overtaken && (docket.Tally.Approved == 0 || imported) {
		return 0, 0, nil //nolint:nilerr // an environment that is gone demands nothing
	}
	d, err := register.Open(ctx, of.Workspace, h.Number)
	if err != nil {
		return 0, 0, err
	}
	defer d.Close()
	s, err := choose(ctx, of, d, Which{})
	if err != nil {
		return 0, 0, err
	}
	for r, err := range s.each(ctx, byKey) {
		if err != nil {
			return 0, 0, err
		}
		if slices.ContainsFunc(r.Checks, func(c check.Check) bool { return c.Code == check.ApprovalsCode }) {
			lacking++
		}
		if !overtaken && s.waits(r, of.Who) {
			yours++
		}
	}
	return lacking, yours, nil
}
