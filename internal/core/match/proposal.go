package match

import "slices"

// What a finding proposes is said here and nowhere else. The log of decisions, the import,
// reviews and checks ask; where a database has to decide, a test holds both equal.

// Proposal is what a finding proposes for one field in which both sides differ.
type Proposal int

// The proposals.
const (
	Keep   Proposal = iota // the target's value stays
	Write                  // the source's value is written
	Choose                 // a person has to say whose value it is
)

// Propose says what a finding proposes for a field that moved so. A person may choose
// otherwise for every field.
func Propose(status Status, moved Moved) Proposal {
	switch status {
	case New:
		return Write
	case Changed:
		if moved == MovedUnknown || moved == MovedSource {
			return Write
		}
	case Conflict:
		switch moved {
		case MovedSource:
			return Write
		case MovedUnknown, MovedBoth:
			return Choose
		}
	}
	return Keep
}

// Hopeless reports whether no choice of a side can settle a conflict.
func Hopeless(reasons []Reason) bool {
	return slices.Contains(reasons, Ambiguous) || slices.Contains(reasons, HeldOutside) || slices.Contains(reasons, CannotBeRead)
}

// Adds reports whether an import makes the record new in the target: it is new, or the
// target removed it, or it is new and something else that it has is taken there.
func Adds(status Status, inTarget bool, reasons []Reason) bool {
	return status == New || status == Conflict && !inTarget && !Hopeless(reasons)
}

// Removes reports whether an import may remove the record from the target: only where it is
// there to take back an earlier one, which made the record.
func Removes(status Status, reasons []Reason) bool {
	return status == TargetOnly && slices.Contains(reasons, CreatedHere)
}

// Asks reports whether the status asks for a decision.
func Asks(status Status) bool { return status == Conflict || status == Changed || status == New }
