package decide

import (
	"context"
	"maps"
	"slices"
	"strings"

	"anagram/internal/core/check"
	"anagram/internal/core/decision"
	"anagram/internal/core/match"
	"anagram/internal/core/yamldoc"
	"anagram/internal/flow/session"
	"anagram/internal/flow/standing"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/run"
)

// Request says what is decided about which findings.
type Request struct {
	Which
	Decision decision.Decision
	Field    string // "" for whole records
	Note     string
	// WithParts and WithNeeds add the parts of what is selected, and what it needs from the
	// docket, however far.
	WithParts, WithNeeds bool
	// Take says whose values are approved where the finding does not say it itself: source
	// or target; "" is not said.
	Take string
	// Again decides anew what was decided before. Without it an approval by a pattern with a
	// star, a status or a type leaves every record alone on which, or on a field of which,
	// something was decided; that of a record leaves the fields alone that were declined or
	// held. A decline or hold always wins over an earlier approval.
	Again bool
	// Overrule makes an approval count though others declined or hold it. It needs a note.
	Overrule bool
	who      string // whose word it is
	named    bool   // the record, or its group, is named
}

// Of says whose word a request is, and whether it names its record.
func (r Request) Of(who string, named bool) Request {
	r.who, r.named = who, named
	return r
}

// Result says what was decided.
type Result struct {
	Decided  int
	ByStatus map[match.Status]int
	// PassedOver counts findings that were selected but cannot be approved.
	PassedOver map[match.Status]int
	Kept       int // findings that keep an earlier decision
	// Parts and Needed are the addresses of what was decided beside what was selected.
	Parts, Needed []string
	// KeptFields counts fields that keep theirs though their record was approved.
	KeptFields int
	// Taken counts the fields whose source's value was approved by --take source; of these the
	// target had changed Moved itself. Left are fields that a pattern or a filter left to the
	// target, as only the target changed them.
	Taken, Moved, Left int
	// Stopped are the findings that were approved and stay as others declined or hold them;
	// OfOthers those that were to be opened again and that only others decided.
	Stopped, OfOthers []Other
	// Blocked are all approved records that cannot be imported as things stand. Of them,
	// Newly are those with what was not in the way before; Freed what no longer is.
	Blocked, Newly, Freed []BlockedRecord
	// Now is the docket as it stands by now.
	Now docket.Summary
}

// Other is a finding on which somebody else's word counts.
type Other struct {
	Address string
	By      []string
}

// BlockedRecord is an approved record that cannot be imported as things stand.
type BlockedRecord struct {
	Address string
	Checks  []check.Check
}

// Decide appends a decision to the log for every finding selected.
func Decide(ctx context.Context, s *session.Session, d *docket.Docket, r Request) (Result, error) {
	result := Result{ByStatus: map[match.Status]int{}, PassedOver: map[match.Status]int{}}
	switch {
	case r.Take != "" && r.Take != TakeSource && r.Take != TakeTarget:
		return result, session.Usage("--take is source or target, not %q", r.Take)
	case r.Take != "" && r.Decision != decision.Approved:
		return result, session.Usage("--take goes with approve: it says whose values are approved")
	}
	if err := Words("the note", r.Note); err != nil {
		return result, err
	}
	if err := MayOverrule(s, d, r); err != nil {
		return result, err
	}
	r.who = s.Who
	if err := Settled(ctx, d); err != nil {
		return result, err
	}
	before, err := choose(ctx, s, d, r.Which)
	if err != nil {
		return result, err
	}
	if err := checkField(d, before.filter, r.Field); err != nil {
		return result, err
	}
	verdicts, err := result.choose(ctx, before, r)
	if err != nil {
		return result, err
	}
	if err := d.Decide(ctx, s.Who, r.Note, s.Now(), verdicts); err != nil {
		return result, err
	}
	// It is decided: who interrupts what is told about that would take it for not decided.
	ctx = context.WithoutCancel(ctx)
	after, err := standing.Read(ctx, d, before.demand)
	if err != nil {
		return result, err
	}
	past, err := docket.PastOf(ctx, d)
	if err != nil {
		return result, err
	}
	result.Now = docket.Summary{Past: past, Tally: after.Tally}
	result.Blocked = blockedOf(after, func(int64, check.Check) bool { return false })
	result.Newly = blockedOf(after, func(id int64, c check.Check) bool { return slices.ContainsFunc(before.standing.Blocked[id], c.Is) })
	result.Freed = blockedOf(before.standing, func(id int64, c check.Check) bool {
		return slices.ContainsFunc(after.Blocked[id], func(now check.Check) bool { return now.Code == c.Code })
	})
	return result, nil
}

// Settled refuses a docket of which nobody knows how its last import ended.
func Settled(ctx context.Context, d *docket.Docket) error {
	runs, err := run.List(ctx, d)
	if err != nil {
		return err
	}
	if _, open := run.LastUnsettled(runs); open {
		return session.Usage("It is not known yet how the last import of docket %d ended, so nothing is decided on top of it. Find it out with anagram import %d, then decide", d.Header.Number, d.Header.Number)
	}
	if _, open := run.LastUnfinished(runs); open {
		return session.Usage("The last import of docket %d was broken off half way, so nothing is decided on top of it. Finish it with anagram import %d --resume, or take it back with anagram restore %d", d.Header.Number, d.Header.Number, d.Header.Number)
	}
	return nil
}

// blockedOf lists what stands in the way of approved records, but for what is left out.
func blockedOf(s standing.Standing, leftOut func(id int64, c check.Check) bool) []BlockedRecord {
	var out []BlockedRecord
	for _, a := range s.Approved {
		var checks []check.Check
		for _, c := range s.Blocked[a.ID] {
			if !leftOut(a.ID, c) {
				checks = append(checks, c)
			}
		}
		if len(checks) > 0 {
			out = append(out, BlockedRecord{Address: a.Address, Checks: checks})
		}
	}
	return out
}

// choose gives the verdicts on every finding selected, and counts what became of them. It
// is an error where a pattern fits nothing.
func (result *Result) choose(ctx context.Context, from selected, r Request) ([]docket.Verdict, error) {
	d := from.d
	var verdicts []docket.Verdict
	hits := make([]int, len(from.filter.Patterns))
	chosen := map[int64]bool{}
	for f, err := range from.each(ctx, byKey) {
		if err != nil {
			return nil, err
		}
		named := false
		for i, fits := range from.filter.Fit(f.Finding) {
			if fits {
				hits[i]++
				named = named || from.filter.Patterns[i].Exact()
			}
		}
		chosen[f.ID] = true
		verdicts = append(verdicts, result.on(f.Finding, r, named || r.Group != "")...)
	}
	for i, n := range hits {
		if n == 0 {
			why := Absent(ctx, from.session, d, from.filter.Patterns[i])
			if why == "" {
				why = "; anagram review lists what there is"
			}
			return nil, session.Usage("Nothing was decided: docket %d has no finding that fits %q%s", d.Header.Number,
				from.filter.Patterns[i], strings.TrimSuffix(why, "."))
		}
	}
	more, err := result.along(ctx, d, r, chosen)
	if err != nil {
		return nil, err
	}
	verdicts = append(verdicts, more...)
	if len(verdicts) == 0 && len(result.PassedOver) == 0 && result.Kept == 0 && len(from.filter.Patterns) == 0 {
		return nil, session.Usage("No finding of docket %d fits; nothing was decided", d.Header.Number)
	}
	return verdicts, nil
}

// on gives the verdicts on one finding and counts what became of it.
func (result *Result) on(f docket.Finding, r Request, named bool) []docket.Verdict {
	switch {
	case r.Field != "" && !slices.ContainsFunc(f.Fields, func(have docket.Field) bool { return have.Field == r.Field }):
		return nil
	case !named && !r.Again && r.leaves(f):
		if f.By(r.who, r.Field) != r.Decision {
			result.Kept++
		}
		return nil
	}
	if named && f.Removes() && r.Take == "" && r.Decision == decision.Approved {
		r.Take = TakeSource // who names the record means it
	}
	r.named = named
	fits, ok := Verdicts(f, r)
	if !ok {
		result.PassedOver[f.Status]++
		return nil
	}
	if len(fits) == 0 { // it is open as it is, as far as this person is concerned
		if r.Decision == decision.Undecided && f.Touched() {
			result.OfOthers = append(result.OfOthers, OtherOf(f))
		}
		return nil
	}
	result.ByStatus[f.Status]++
	result.Decided++
	result.KeptFields += r.keeps(f)
	result.tellSides(f, r, fits)
	if stopped := f.Stoppers(r.who); r.Decision == decision.Approved && len(stopped) > 0 && !r.Overrule {
		result.Stopped = append(result.Stopped, Other{f.Address, stopped})
	}
	return fits
}

// OtherOf is a finding that others decided.
func OtherOf(f docket.Finding) Other { return Other{f.Address, people(f)} }

// people lists whose words on a finding count.
func people(f docket.Finding) []string {
	var out []string
	for _, w := range f.Said() {
		if !slices.Contains(out, w.Who) {
			out = append(out, w.Who)
		}
	}
	return out
}

// tellSides counts whose values are taken by an approval for the source's side.
func (result *Result) tellSides(f docket.Finding, r Request, fits []docket.Verdict) {
	if r.Take != TakeSource || f.Adds() || f.Removes() {
		return
	}
	for _, field := range f.Fields {
		own := slices.ContainsFunc(fits, func(v docket.Verdict) bool { return v.Field == field.Field })
		switch {
		case own || r.Field == "" && f.Proposes(field) == match.Write:
			result.Taken++
			if field.Moved == string(match.MovedTarget) || field.Moved == string(match.MovedBoth) {
				result.Moved++
			}
		case r.Field == "" && f.Proposes(field) == match.Keep && f.By(r.who, field.Field) == decision.Undecided:
			result.Left++
		}
	}
}

// MayOverrule refuses an overruling by who may not, or without a note.
func MayOverrule(s *session.Session, d *docket.Docket, r Request) error {
	switch {
	case !r.Overrule:
		return nil
	case r.Decision != decision.Approved:
		return session.Usage("--overrule goes with approve: it approves what others declined or hold")
	case strings.TrimSpace(r.Note) == "":
		return session.Usage("--overrule needs a note, which stands beside the decision that it overrules: --note TEXT")
	}
	e, err := s.Workspace.Environment(d.Header.Target)
	if err != nil || len(e.Guard.Overrule) == 0 ||
		slices.ContainsFunc(e.Guard.Overrule, func(name string) bool { return decision.Name(name) == decision.Name(s.Who) }) {
		return nil //nolint:nilerr // without a workspace there is no guard; whoever imports has one
	}
	return session.Usage("%s may not overrule decisions on %s; %s may. Approve without --overrule: it is kept beside the other decision", s.Who, d.Header.Target, strings.Join(e.Guard.Overrule, ", "))
}

// along gives the verdicts on the parts of what was chosen and on what it needs.
func (result *Result) along(ctx context.Context, d *docket.Docket, r Request, chosen map[int64]bool) ([]docket.Verdict, error) {
	if !r.WithParts && !r.WithNeeds {
		return nil, nil
	}
	parts, needed, err := related(ctx, d, r, chosen)
	if err != nil || len(parts)+len(needed) == 0 {
		return nil, err
	}
	var verdicts []docket.Verdict
	for f, err := range d.Found.Findings(ctx, docket.Filter{}) {
		if err != nil {
			return nil, err
		}
		if !parts[f.ID] && !needed[f.ID] || chosen[f.ID] {
			continue
		}
		fits := result.on(f, r, false)
		verdicts = append(verdicts, fits...)
		switch {
		case len(fits) == 0:
		case parts[f.ID]:
			result.Parts = append(result.Parts, f.Address)
		default:
			result.Needed = append(result.Needed, f.Address)
		}
	}
	return verdicts, nil
}

// related gives the parts of chosen findings and the findings that they need, of each other
// as well, as far as the request asks for them.
func related(ctx context.Context, d *docket.Docket, r Request, chosen map[int64]bool) (parts, needed map[int64]bool, err error) {
	parts, needed = map[int64]bool{}, map[int64]bool{}
	partsOf, needsOf := map[int64][]int64{}, map[int64][]int64{}
	if r.WithParts {
		for f, err := range d.Found.Findings(ctx, docket.Filter{}) {
			if err != nil {
				return nil, nil, err
			}
			if f.Owner != 0 {
				partsOf[f.Owner] = append(partsOf[f.Owner], f.ID)
			}
		}
	}
	if r.WithNeeds {
		for n, err := range d.Found.Needs(ctx, false) {
			if err != nil {
				return nil, nil, err
			}
			needsOf[n.Holder] = append(needsOf[n.Holder], n.Finding)
		}
	}
	seen := maps.Clone(chosen)
	queue := slices.Collect(maps.Keys(chosen))
	follow := func(ids []int64, into map[int64]bool) {
		for _, id := range ids {
			if !seen[id] {
				seen[id], into[id] = true, true
				queue = append(queue, id)
			}
		}
	}
	for len(queue) > 0 {
		id := queue[0]
		queue = queue[1:]
		follow(partsOf[id], parts)
		follow(needsOf[id], needed)
	}
	return parts, needed, nil
}

func checkField(d *docket.Docket, filter docket.Filter, field string) error {
	if field == "" {
		return nil
	}
	var names []string
	for _, t := range d.Types {
		if len(filter.Types) > 0 && !slices.Contains(filter.Types, t.Name) {
			continue
		}
		for _, f := range slices.Concat(t.Fields, d.Header.Keys[t.Name]) { // of a key that changed, its parts
			names = append(names, f.Name)
		}
	}
	if slices.Contains(names, field) {
		return nil
	}
	return session.Usage("No record type of docket %d has a field %q that was compared%s", d.Header.Number, field,
		yamldoc.Nearest(field, names))
}
