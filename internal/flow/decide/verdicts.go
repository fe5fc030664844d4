package decide

import (
	"slices"

	"anagram/internal/core/decision"
	"anagram/internal/core/match"
	"anagram/internal/store/docket"
)

// leaves reports whether a request that does not name a record leaves it as it was decided.
func (r Request) leaves(f docket.Finding) bool {
	switch {
	case r.Decision == decision.Undecided: // whoever takes decisions back means those that there are
		return false
	case r.Decision == decision.Approved && r.Field == "":
		return f.Spoke(r.who) || f.ByRule
	case r.Field != "":
		on := f.By(r.who, r.Field)
		return on != decision.Undecided && (r.Decision == decision.Approved || on != decision.Approved)
	default: // toward safety
		own := f.By(r.who, "")
		return own != decision.Undecided && own != decision.Approved &&
			!slices.ContainsFunc(f.FieldsBy(r.who), func(field string) bool { return f.By(r.who, field) == decision.Approved })
	}
}

// keeps counts the fields that stay declined or held though their record is approved.
func (r Request) keeps(f docket.Finding) int {
	if r.Decision == decision.Approved && r.Take != TakeTarget && r.Field == "" && !r.Again {
		return len(against(f, r.who))
	}
	return 0
}

// against lists the fields that a person declined, holds or keeps by themselves.
func against(f docket.Finding, who string) []string {
	var out []string
	for _, field := range f.FieldsBy(who) {
		if on := f.By(who, field); on != decision.Approved && on != decision.Undecided {
			out = append(out, field)
		}
	}
	return out
}

// Sides whose values can be taken.
const (
	TakeSource = "source"
	TakeTarget = "target"
)

// Verdicts gives the decisions on one finding; ok is false where it cannot be decided
// so. A conflict and an edit of the target are approved by saying whose values are taken.
func Verdicts(f docket.Finding, r Request) (out []docket.Verdict, ok bool) {
	one := func(field string, what decision.Decision) {
		out = append(out, docket.Verdict{Finding: f.ID, Field: field, Decision: what, Overrules: r.Overrule})
	}
	switch {
	case r.Decision == decision.Undecided:
		return takenBack(f, r.Field, r.who), true
	case r.Decision != decision.Approved:
		one(r.Field, r.Decision)
		return out, true
	}
	what := decision.Approved
	if r.Take == TakeTarget {
		what = decision.TargetKept
	}
	switch {
	case f.Removes() && r.Take != "" && r.Field == "":
		one("", what)
	case f.Status == match.TargetOnly || f.Hopeless():
		return nil, false
	case r.Field != "":
		// One field: a side has to be said where nothing is proposed for it.
		if r.Take == "" && (f.Status == match.Conflict || f.Status == match.TargetEdit) {
			return nil, false
		}
		one(r.Field, what)
	case r.Take == TakeTarget:
		one("", what) // the target's record stays as it is, all of it
	case r.Take == "" && (f.Status == match.Conflict || f.Status == match.TargetEdit):
		return nil, false
	default:
		out = wholeRecord(f, r, what)
	}
	return out, true
}

// takenBack takes back what a person said of a finding, or of one field of it; nothing where they
// said nothing. What a rule decided anybody opens again.
func takenBack(f docket.Finding, field, who string) (out []docket.Verdict) {
	if field != "" {
		if f.By(who, field) != decision.Undecided || f.ByRule {
			out = append(out, docket.Verdict{Finding: f.ID, Field: field, Decision: decision.Undecided})
		}
		return out
	}
	for _, own := range f.FieldsBy(who) {
		out = append(out, docket.Verdict{Finding: f.ID, Field: own, Decision: decision.Reopened})
	}
	if f.By(who, "") != decision.Undecided || f.ByRule || len(out) > 0 {
		out = append(out, docket.Verdict{Finding: f.ID, Decision: decision.Undecided})
	}
	return out
}

// wholeRecord is the approval of the record, and after it of each field for which a side has
// to be said, or that was declined or held and is decided anew. One that is not stays as it
// is.
func wholeRecord(f docket.Finding, r Request, what decision.Decision) []docket.Verdict {
	out := []docket.Verdict{{Finding: f.ID, Decision: what, Overrules: r.Overrule}}
	declined := against(f, r.who)
	for _, field := range f.Fields {
		own, proposal := slices.Contains(declined, field.Field), f.Proposes(field)
		// Who names a record and says take source means all of it. A pattern or a filter leaves to
		// the target what only the target changed, but for conflicts and edits of the target.
		all := r.Take == TakeSource && (r.named || f.Status == match.Conflict || f.Status == match.TargetEdit)
		chooses := f.Status == match.TargetEdit || proposal == match.Choose || proposal == match.Keep && all && !f.Adds()
		if r.Again && own && proposal == match.Write || chooses && (r.Again || !own) {
			out = append(out, docket.Verdict{Finding: f.ID, Field: field.Field, Decision: what, Overrules: r.Overrule})
		}
	}
	return out
}
