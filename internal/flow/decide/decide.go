package decide

import (
	"context"
	"slices"

	"anagram/internal/core/check"
	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/core/yamldoc"
	"anagram/internal/flow/session"
	"anagram/internal/flow/standing"
	"anagram/internal/store/docket"
)

// Request says what is decided about which findings.
type Request struct {
	Decision docket.Decision
	Patterns []string
	Statuses []match.Status
	Types    []string
	Field    string // "" for whole records
	Note     string
	// Take says whose values are approved where the finding does not say it itself: source
	// or target; "" is not said.
	Take string
	// Again decides anew what was decided before. Without it an approval by a pattern with a
	// star, a status or a type leaves every record alone on which, or on a field of which,
	// something was decided; that of a record leaves the fields alone that were declined or
	// held. A decline or hold always wins over an earlier approval.
	Again bool
}

// Result says what was decided.
type Result struct {
	Decided  int
	ByStatus map[match.Status]int
	// PassedOver counts findings that were selected but cannot be approved.
	PassedOver map[match.Status]int
	Kept       int // findings that keep an earlier decision
	// KeptFields counts fields that keep theirs though their record was approved.
	KeptFields int
	Blocked    []BlockedRecord
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
	case r.Take != "" && r.Decision != docket.Approved:
		return result, session.Usage("--take goes with approve: it says whose values are approved")
	}
	runs, err := d.Runs(ctx)
	if err != nil {
		return result, err
	}
	if _, open := docket.LastUnsettled(runs); open {
		return result, session.Usage("It is not known yet how the last import of docket %d ended, so nothing is decided on top of it. Find it out with anagram import %d, then decide", d.Header.Number, d.Header.Number)
	}
	filter, err := findingFilter(d, r.Patterns, r.Statuses, r.Types)
	if err == nil {
		filter, err = d.WithNames(ctx, filter)
	}
	if err != nil {
		return result, err
	}
	if err := checkField(d, filter, r.Field); err != nil {
		return result, err
	}
	verdicts, err := result.choose(ctx, d, filter, r)
	if err != nil {
		return result, err
	}
	if err := d.Decide(ctx, s.Who, r.Note, s.Now(), verdicts); err != nil {
		return result, err
	}
	standing, err := standing.Read(ctx, d)
	if err != nil {
		return result, err
	}
	for _, a := range standing.Approved {
		if checks := standing.Blocked[a.ID]; len(checks) > 0 {
			result.Blocked = append(result.Blocked, BlockedRecord{Address: a.Address, Checks: checks})
		}
	}
	return result, nil
}

// choose gives the verdicts on every finding selected, and counts what became of them. It
// is an error where a pattern fits nothing.
func (result *Result) choose(ctx context.Context, d *docket.Docket, filter docket.Filter, r Request) ([]docket.Verdict, error) {
	var verdicts []docket.Verdict
	hits := make([]int, len(filter.Patterns))
	for f, err := range d.Findings(ctx, filter) {
		if err != nil {
			return nil, err
		}
		named := false
		for i, fits := range filter.Fit(f) {
			if fits {
				hits[i]++
				named = named || filter.Patterns[i].Exact()
			}
		}
		switch {
		case r.Field != "" && !slices.ContainsFunc(f.Fields, func(have docket.Field) bool { return have.Field == r.Field }):
			continue
		case !named && !r.Again && r.leaves(f):
			if f.On(r.Field) != r.Decision {
				result.Kept++
			}
			continue
		}
		fits, ok := verdictsOn(f, r)
		if !ok {
			result.PassedOver[f.Status]++
			continue
		}
		result.ByStatus[f.Status]++
		result.Decided++
		result.KeptFields += r.keeps(f)
		verdicts = append(verdicts, fits...)
	}
	for i, n := range hits {
		if n == 0 {
			return nil, session.Usage("Docket %d has no finding that fits %q; anagram review lists what there is. Nothing was decided", d.Header.Number, filter.Patterns[i])
		}
	}
	if len(verdicts) == 0 && len(result.PassedOver) == 0 && result.Kept == 0 && len(filter.Patterns) == 0 {
		return nil, session.Usage("No finding of docket %d fits; nothing was decided", d.Header.Number)
	}
	return verdicts, nil
}

// leaves reports whether a request that does not name a record leaves it as it was decided.
func (r Request) leaves(f docket.Finding) bool {
	switch {
	case r.Decision == docket.Approved && r.Field == "":
		return f.Touched()
	case r.Field != "":
		on := f.On(r.Field)
		return on != docket.Undecided && (r.Decision == docket.Approved || on != docket.Approved)
	default: // toward safety
		return f.Decision != docket.Undecided && !f.AnyApproved()
	}
}

// keeps counts the fields that stay declined or held though their record is approved.
func (r Request) keeps(f docket.Finding) int {
	if r.Decision == docket.Approved && r.Take != TakeTarget && r.Field == "" && !r.Again {
		return len(f.Against)
	}
	return 0
}

// Sides whose values can be taken.
const (
	TakeSource = "source"
	TakeTarget = "target"
)

// verdictsOn gives the decisions on one finding; ok is false where it cannot be decided
// so. A conflict and an edit of the target are approved by saying whose values are taken.
func verdictsOn(f docket.Finding, r Request) (out []docket.Verdict, ok bool) {
	one := func(field string, decision docket.Decision) {
		out = append(out, docket.Verdict{Finding: f.ID, Field: field, Decision: decision})
	}
	if r.Decision != docket.Approved {
		one(r.Field, r.Decision)
		return out, true
	}
	decision := docket.Approved
	if r.Take == TakeTarget {
		decision = docket.TargetKept
	}
	switch {
	case f.Status == match.TargetOnly || f.Hopeless():
		return nil, false
	case r.Field != "":
		// One field: a side has to be said where nothing is proposed for it.
		if r.Take == "" && (f.Status == match.Conflict || f.Status == match.TargetEdit) {
			return nil, false
		}
		one(r.Field, decision)
	case r.Take == TakeTarget:
		one("", decision) // the target's record stays as it is, all of it
	case r.Take == "" && (f.Status == match.Conflict || f.Status == match.TargetEdit):
		return nil, false
	default:
		out = wholeRecord(f, r, decision)
	}
	return out, true
}

// wholeRecord is the approval of the record, and after it of each field for which a side has
// to be said, or that was declined or held and is decided anew. One that is not stays as it
// is.
func wholeRecord(f docket.Finding, r Request, decision docket.Decision) []docket.Verdict {
	out := []docket.Verdict{{Finding: f.ID, Decision: decision}}
	for _, field := range f.Fields {
		against, proposal := slices.Contains(f.Against, field.Field), f.Proposes(field)
		chooses := f.Status == match.TargetEdit || proposal == match.Choose
		if r.Again && against && proposal == match.Write || chooses && (r.Again || !against) {
			out = append(out, docket.Verdict{Finding: f.ID, Field: field.Field, Decision: decision})
		}
	}
	return out
}

// findingFilter reads patterns and names; a type or status that the docket does not
// know is an error with the nearest word.
func findingFilter(d *docket.Docket, patterns []string, statuses []match.Status, types []string) (docket.Filter, error) {
	filter := docket.Filter{Statuses: statuses, Types: types}
	for _, status := range statuses {
		if !slices.Contains(match.Statuses(), status) {
			var words []string
			for _, s := range match.Statuses() {
				words = append(words, string(s))
			}
			return filter, session.Usage("The status %q is not known%s", status, yamldoc.Nearest(string(status), words))
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
	for _, typ := range types {
		if err := known(typ); err != nil {
			return filter, err
		}
	}
	for _, text := range patterns {
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
	return session.Usage("No record type of docket %d has a field %q that was compared%s", d.Header.Number, field, yamldoc.Nearest(field, names))
}
