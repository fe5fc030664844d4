// Package decision says what decisions on a finding add up to.
//
// The contract: values in, values out. Words are those of the log, in its order; whose words
// count, and how many are asked for, comes in from outside. What a finding proposes is said by
// match. Nothing here is stored or shown.
package decision

import (
	"maps"
	"slices"
)

// Decision is what a person decided; Undecided is none yet.
type Decision string

// The decisions. TargetKept is an approval that takes the target's side: the record, or the
// field, stays as the target has it.
const (
	Undecided  Decision = "open"
	Approved   Decision = "approved"
	Declined   Decision = "declined"
	Held       Decision = "held"
	TargetKept Decision = "target-kept"
	// Reopened takes the decision on a field back as if it had never been made.
	Reopened Decision = "reopened"
	// ToSee is how a finding stands that asks for no decision and has none.
	ToSee Decision = "to-see"
	// Clash is how one stands of which people want different sides, and Waiting one with fewer
	// approvals than are asked for.
	Clash   Decision = "clash"
	Waiting Decision = "waiting"
	// InPart is how one stands of which some of what is proposed is approved and some is not.
	InPart Decision = "in-part"
)

// OnField is the last decision on a single field.
type OnField struct {
	Decision      Decision
	Seq           int64 // in the log
	Who, At, Note string
	Carried       int // the earlier docket in which it was decided first, 0 for none
}

// Standing is what has been decided.
type Standing struct {
	Decision  Decision
	DecidedBy string
	DecidedAt string
	Note      string
	// CarriedFrom is the earlier docket in which this was decided first, 0 for none.
	CarriedFrom int
	ByRule      bool // by a standing rule of the workspace
	// Approvers are those whose last word on the record is an approval, in the order in which
	// they first said so.
	Approvers []string
	Seq       int64 // of the decision on the record, in the log
	Stopped   int64 // of the last decision on the record that was no approval
	// ByField holds the decisions on single fields that count beside the record's.
	ByField map[string]Decision
	// Against lists the fields whose own last decision was no approval, which an approval of
	// the record leaves as they are.
	Against []string
	own     map[string]OnField
	// Wanted lists the fields of which people want different sides, "" for the record: they stay
	// open until one of them says otherwise.
	Wanted []Wanted
	// Overruled lists whose declines and holds somebody overruled, and who did.
	Overruled []Overruled
	voices    []*voice
	record    *Word           // what settles the record, where DecidedBy is about a part of it
	stopping  map[string]bool // names of those who decline or hold something of it, so that it counts
}

// Wanted is who wants which side of a field.
type Wanted struct {
	Field          string // "" is the record
	Source, Target []string
}

// Overruled is a decline or hold that does not count any more.
type Overruled struct{ Who, By, At, Field string }

// SaidOn gives who decided on a field, why, when, and in which earlier docket first.
func (s Standing) SaidOn(field string) (who, note, at string, carried int) {
	if own, ok := s.own[field]; ok && s.On(field) == own.Decision {
		return own.Who, own.Note, own.At, own.Carried
	}
	if s.record != nil {
		return s.record.Who, s.record.Note, s.record.At, s.record.Carried
	}
	return s.DecidedBy, s.Note, s.DecidedAt, s.CarriedFrom
}

// Take fills in the decisions on single fields that count beside the record's: those that
// came after it, and where the record was approved, those before it as well. Only a decline
// or hold of the record takes back the approval of a field, and only a decision on a field
// its decline or hold.
func (s *Standing) Take(byField map[string]OnField) {
	s.own = byField
	for _, field := range slices.Sorted(maps.Keys(byField)) {
		on := byField[field]
		if on.Decision == Reopened {
			continue
		}
		if on.Decision != Approved {
			s.Against = append(s.Against, field)
		}
		if on.Seq < s.Seq && (s.Decision != Approved || on.Decision == Approved && on.Seq < s.Stopped) {
			continue
		}
		if s.ByField == nil {
			s.ByField = map[string]Decision{}
		}
		s.ByField[field] = on.Decision
		if on.Who != "" && s.DecidedBy == "" {
			s.DecidedBy, s.DecidedAt, s.Note, s.CarriedFrom = on.Who, on.At, on.Note, on.Carried
		}
	}
}

// DecidedByOne reports whether a person decided on the record or on a field of it, so that it
// counts.
func (s Standing) DecidedByOne(who string) bool {
	if s.Decision != Undecided && s.DecidedBy == who {
		return true
	}
	for field := range s.ByField {
		if s.own[field].Who == who {
			return true
		}
	}
	return false
}

// On gives the decision that counts for a field.
func (s Standing) On(field string) Decision {
	if d, ok := s.ByField[field]; ok {
		return d
	}
	return s.Decision
}

// Touched reports whether anything was decided, on the record or on one of its fields.
func (s Standing) Touched() bool { return s.Decision != Undecided || len(s.ByField) > 0 }

// AnyApproved reports whether the record or one of its fields is approved.
func (s Standing) AnyApproved() bool {
	return s.Decision == Approved || slices.Contains(slices.Collect(maps.Values(s.ByField)), Approved)
}
