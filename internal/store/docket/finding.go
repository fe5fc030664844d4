package docket

import (
	"anagram/internal/core/check"
	"anagram/internal/core/decision"
	"anagram/internal/core/match"
)

// Field is one field of a finding, as people see it. Nil is null.
type Field struct {
	Field       string  `json:"field"`
	Source      *string `json:"source"`
	Target      *string `json:"target"`
	Agreed      *string `json:"agreed"`
	AgreedKnown bool    `json:"agreed_known"`
	Moved       string  `json:"moved"`
	Take        string  `json:"take"`
	Decision    string  `json:"decision,omitempty"` // where it differs from the record's
}

// Finding is one record in a docket, with what has been decided about it.
type Finding struct {
	ID      int64
	Type    string
	Address string
	Was     string // address that the record has in the target, "" where it is the same
	Title   string
	Status  match.Status
	Reasons []match.Reason
	Fields  []Field
	Key     string // as in a record line
	Order   string
	Source  string // record line, "" where the side does not have it
	Target  string
	Agreed  string  // what both last agreed on, "" where nothing is known
	Group   int     // number of the group that it is in, from 1
	Owner   int64   // the finding of the record that it is a part of, 0 where that is none
	Before  Earlier // an approval of an earlier docket; its docket is 0 where there is none
	decision.Standing
}

// Of gives what of the finding its standing depends on.
func (f Finding) Of() decision.Finding {
	out := decision.Finding{Status: f.Status, Reasons: f.Reasons, InTarget: f.Target != "", Standing: f.Standing,
		Fields: make([]decision.Field, len(f.Fields))}
	for i, field := range f.Fields {
		out.Fields[i] = field.of()
	}
	return out
}

func (f Field) of() decision.Field {
	return decision.Field{Name: f.Field, Moved: match.Moved(f.Moved)}
}

// ApprovedFields lists the fields that may be written, in field order.
func (f Finding) ApprovedFields() []string { return f.Of().ApprovedFields() }

// Proposes gives what the finding proposes for a field.
func (f Finding) Proposes(field Field) match.Proposal { return f.Of().Proposes(field.of()) }

// Settled reports whether a side was chosen for every field of a conflict that needs it.
func (f Finding) Settled() bool { return f.Of().Settled() }

// Stand gives the decision on the finding as a whole.
func (f Finding) Stand() decision.Decision { return f.Of().Stand() }

// Hopeless reports whether a conflict cannot be settled by choosing a side.
func (f Finding) Hopeless() bool { return match.Hopeless(f.Reasons) }

// Adds is match.Adds.
func (f Finding) Adds() bool { return match.Adds(f.Status, f.Target != "", f.Reasons) }

// Removes is match.Removes.
func (f Finding) Removes() bool { return match.Removes(f.Status, f.Reasons) }

// Asks reports whether the finding asks for a decision.
func (f Finding) Asks() bool { return match.Asks(f.Status) || f.Removes() }

// IsApproved reports whether the finding, or a field of it, is approved.
func (f Finding) IsApproved() bool { return f.Of().IsApproved() }

// Need is a stored need, for the sequence of an import.
type Need struct {
	Holder   int64 // the finding that refers
	Required bool
	ByName   bool // it is the key that is stored, so what is referred to must have it
	// Frees says that it is the other way round: the holder is to be removed, and what is
	// named refers to it by the field.
	Frees bool
	Type  string
	Key   string
	check.Need
}
