package decision

import (
	"slices"

	"anagram/internal/core/match"
)

// Field is a field in which both sides of a finding differ, or that a new record has.
type Field struct {
	Name  string
	Moved match.Moved
}

// Finding is what of a finding its standing depends on.
type Finding struct {
	Status   match.Status
	Reasons  []match.Reason
	InTarget bool // the target has the record
	Fields   []Field
	Standing
}

// ApprovedFields lists the fields of a finding that may be written, in field order.
//
// The approval of a whole record is that of what the finding proposes. A field for which
// nothing is proposed, as the target moved it, both did, or the record as a whole is in
// conflict, needs an approval of its own.
func (f Finding) ApprovedFields() []string {
	var out []string
	for _, field := range f.Fields {
		if _, own := f.ByField[field.Name]; f.On(field.Name) == Approved && (own || f.Proposes(field) == match.Write) {
			out = append(out, field.Name)
		}
	}
	return out
}

// Proposes gives what the finding proposes for a field.
func (f Finding) Proposes(field Field) match.Proposal {
	return match.Propose(f.Status, field.Moved)
}

// Settled reports whether a side was chosen for every field of a conflict that needs it.
// Where the whole record was declined or the target's was kept, that is its side.
func (f Finding) Settled() bool {
	for _, field := range f.Fields {
		if f.Proposes(field) == match.Choose && !slices.Contains([]Decision{Declined, TargetKept}, f.Decision) {
			if own, said := f.ByField[field.Name]; !said || own == Undecided {
				return false
			}
		}
	}
	return !f.Hopeless() && (len(f.Fields) > 0 || f.Adds())
}

// Stand gives the decision on the finding as a whole: approved where anything of it is
// written, else what holds for the record, or for every field that asks for a decision.
func (f Finding) Stand() Decision {
	switch {
	case f.IsApproved():
		return Approved
	case f.Decision != Undecided && f.Decision != Approved:
		return f.Decision
	case f.Adds() || len(f.ByField) == 0:
		return Undecided
	}
	stand := Declined
	for _, field := range f.Fields {
		own, decided := f.ByField[field.Name]
		switch {
		case f.Proposes(field) == match.Keep:
		case !decided || own == Approved || own == Undecided:
			return Undecided
		case own == Held, own == TargetKept && stand != Held:
			stand = own
		}
	}
	return stand
}

// Stands is Stand in more words: what asks for nothing and was not decided is only to be seen, and
// what people want different sides of is a clash.
func (f Finding) Stands() Decision {
	switch stand := f.Stand(); {
	case stand == Undecided && len(f.Wanted) > 0:
		return Clash
	case stand == Undecided && !f.Asks():
		return ToSee
	case stand == Approved && f.inPart():
		return InPart
	default:
		return stand
	}
}

// inPart reports whether something that the finding proposes, or asks a side of, is not approved.
func (f Finding) inPart() bool {
	written := f.ApprovedFields()
	return slices.ContainsFunc(f.Fields, func(field Field) bool {
		if f.Adds() {
			return f.On(field.Name) != Approved
		}
		return f.Proposes(field) != match.Keep && !slices.Contains(written, field.Name)
	})
}

// Hopeless reports whether a conflict cannot be settled by choosing a side.
func (f Finding) Hopeless() bool { return match.Hopeless(f.Reasons) }

// Adds is match.Adds.
func (f Finding) Adds() bool { return match.Adds(f.Status, f.InTarget, f.Reasons) }

// Removes is match.Removes.
func (f Finding) Removes() bool { return match.Removes(f.Status, f.Reasons) }

// Asks reports whether the finding asks for a decision.
func (f Finding) Asks() bool { return match.Asks(f.Status) || f.Removes() }

// IsApproved reports whether the finding, or a field of it, is approved.
func (f Finding) IsApproved() bool {
	switch f.Status {
	case match.New:
		return f.Decision == Approved && len(f.Wanted) == 0
	case match.Changed, match.TargetEdit:
		return len(f.ApprovedFields()) > 0
	case match.TargetOnly:
		return f.Removes() && f.Decision == Approved
	case match.Conflict:
		return f.Settled() && (len(f.ApprovedFields()) > 0 || f.Adds() && f.Decision == Approved && len(f.Wanted) == 0)
	default:
		return false
	}
}
