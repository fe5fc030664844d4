// Package check says what would go wrong with an import before anything is written.
//
// The contract: a Check has a fixed code, a level, a sentence with the facts and a
// sentence with the mend. Blockers stop a record or the whole docket, cautions do
// not. What a record needs is given as Needs; Standing works out in one pass over
// them which approved findings can be imported, whatever their order and circles.
package check

import (
	"fmt"
	"slices"
	"strings"

	"anagram/internal/core/catalog"

	"anagram/internal/core/show"
)

// Level says whether a check stops an import.
type Level string

// The levels.
const (
	Blocker Level = "blocker"
	Caution Level = "caution"
)

// Code names a kind of check; codes are fixed.
type Code string

// The codes.
const (
	MissingReference     Code = "missing-reference"
	OwnerNotApproved     Code = "owner-not-approved"
	ReferenceNotApproved Code = "reference-not-approved"
	AmbiguousKey         Code = "ambiguous-key"
	BrokenSeal           Code = "broken-seal"
	MustAgree            Code = "must-agree"
	Release              Code = "release"
	NotOnBothSides       Code = "not-on-both-sides"
	LocalNeeded          Code = "local-needed"
	UnfinishedImport     Code = "unfinished-import"
	ValueDoesNotFit      Code = "value-does-not-fit"
	NoRightCode          Code = "no-right"
	LooksRenamed         Code = "looks-renamed"
	OldParcel            Code = "old-parcel"
	SourceMoved          Code = "source-moved"
	ApprovalUsed         Code = "approval-used"
	DecidedLater         Code = "decided-later"
	OpenDocket           Code = "open-docket"
	ValueTaken           Code = "value-taken"
	PairNotUsed          Code = "pair-not-used"
	ReferredDiffers      Code = "referred-differs"
	KeyInUse             Code = "key-in-use"
	OtherTarget          Code = "other-target"
	OtherCatalog         Code = "other-catalog"
	HeldOutsideCode      Code = "held-outside"
	CircleCode           Code = "circle"
	ApprovalsCode        Code = "approvals"
	DirectionCode        Code = "direction"
	BesideCode           Code = "beside"
	StillReferred        Code = "still-referred"
	NotAsWritten         Code = "not-as-written"
	NotRestored          Code = "not-restored"
	RemindersCode        Code = "reminders"
	LooksLikeID          Code = "looks-like-id"
	CannotBeReadCode     Code = "cannot-be-read"
	StampUnfilled        Code = "stamp-unfilled"
)

// Codes lists the codes, in order.
func Codes() []string {
	var out []string
	for _, code := range []Code{MissingReference, OwnerNotApproved, ReferenceNotApproved, AmbiguousKey, BrokenSeal, MustAgree,
		Release, NotOnBothSides, LocalNeeded, UnfinishedImport,
		ValueDoesNotFit, NoRightCode, LooksRenamed, OldParcel, SourceMoved, OpenDocket, ApprovalUsed, DecidedLater, ValueTaken,
		PairNotUsed, ReferredDiffers,
		KeyInUse, OtherTarget, OtherCatalog, HeldOutsideCode, CircleCode, ApprovalsCode, DirectionCode, BesideCode, StillReferred,
		NotAsWritten, NotRestored, RemindersCode, LooksLikeID, CannotBeReadCode, StampUnfilled,
		"both-moved", "cannot-be-explained", "created-on-both", "removed-in-source", "target-newer", "retired-in-target",
		"removed-in-target"} {
		out = append(out, string(code))
	}
	slices.Sort(out)
	return out
}

// Check is one thing that a person should know about a record or a docket.
type Check struct {
	Code    Code   `json:"code"`
	Level   Level  `json:"level"`
	Message string `json:"message"`
	Mend    string `json:"mend"` // any one of the ways, in words; all that a docket keeps of them
	ways    []Way
}

// Shared reports whether the check is about something else than its record, which may hold up
// others alike; those have the same mend.
func (c Check) Shared() bool {
	switch c.Code {
	case MissingReference, OwnerNotApproved, ReferenceNotApproved, NoRightCode, StillReferred, "removed-in-target":
		return true
	default:
		return false
	}
}

// Need is a record that a finding's proposed values refer to.
type Need struct {
	Field   string
	Address string // of the record that is referred to
	Owner   bool   // the finding is a part of it
	// Standing of the record that is referred to:
	InTarget int   // records with its key in the target; 0 none, more than 1 ambiguous
	Finding  int64 // the new finding with its key in this docket, 0 for none
}

// Ambiguity checks a finding whose key occurs more than once: in the source with these
// spellings, in the target with these internal ids; one or none of either is no
// ambiguity there. With within set it is about a record in its key.
func Ambiguity(address, source, target string, spellings, ids []string, within bool) Check {
	c := blocker(AmbiguousKey, "")
	inSource := fmt.Sprintf("in %s (as %s)", source, strings.Join(spellings, ", "))
	inTarget := fmt.Sprintf("in %s (internal ids %s)", target, strings.Join(ids, ", "))
	where, way := inSource, do(RemoveSourceDoubles, source)
	switch {
	case within:
		c.Message = fmt.Sprintf("%s has a record in its key whose own key occurs more than once.", address)
		return c.mended(do(MakeUnique))
	case len(spellings) > 1 && len(ids) > 1:
		where, way = inSource+" and "+inTarget, do(ChangeKey, source, target)
	case len(ids) > 1:
		where, way = inTarget, do(RemoveDoubles, target)
	}
	c.Message = fmt.Sprintf("%s occurs more than once %s.", address, where)
	return c.mended(way)
}

// CannotRead checks a record of which a side holds something that has no form here.
func CannotRead(address, environment, field, why string, source bool) Check {
	correct := do(CorrectThere, environment)
	if source {
		correct = do(CorrectValue)
	}
	return blocker(CannotBeReadCode, fmt.Sprintf("%s: field %s cannot be read in %s: %s.", address, field, environment,
		strings.TrimRight(why, ". ")), correct, do(LeaveOutField, field))
}

// Unsigned checks a record type, or one record of it, of which it cannot be written who changed it.
// Of is the record's address, or the type's name; sure says that nothing in the target fills it.
func Unsigned(of string, t *catalog.Type, column, target, who string, sure bool) Check {
	why := fmt.Sprintf("%s takes no name such as %s", column, who)
	if p := t.StampPerson; p.At != "" {
		why = fmt.Sprintf("%s is not, or not once, among the people in %s (%s)", who, p.At, p.Name)
	}
	message := fmt.Sprintf("%s: who changes it cannot be written into %s of %s: %s, and no account is named. Whoever stands there now would seem to have done it.",
		of, column, target, why)
	ways := []Way{do(NameAccount, t.Name, target), do(NeverStamp)}
	if sure {
		return blocker(StampUnfilled, message, ways...)
	}
	return caution(StampUnfilled, message, ways...)
}

// NoKey checks a type of which a side has records whose key cannot be read, by their internal ids.
func NoKey(typ, environment string, records []string, more int, source bool) Check {
	correct := do(CorrectThere, environment)
	if source {
		correct = do(CorrectValue)
	}
	text := strings.Join(records, "; ")
	if more > 0 {
		text += fmt.Sprintf("; and %d more", more)
	}
	return caution(CannotBeReadCode, fmt.Sprintf("%s: the keys of records in %s cannot be read, so these are not compared, and what only the other side has may be one of them: %s.",
		typ, environment, text), correct)
}

// Reference checks one need that no decision can mend; ok is false where there is
// nothing to say.
func Reference(address string, n Need, target string, docket int) (Check, bool) {
	switch {
	case n.InTarget > 1:
		return blocker(AmbiguousKey, fmt.Sprintf("%s refers to %s (field %s), which occurs %d times in %s.", address, n.Address,
			n.Field, n.InTarget, target), do(RemoveThere, target)), true
	case n.InTarget == 0 && n.Finding == 0:
		return blocker(MissingReference, fmt.Sprintf("%s refers to %s (field %s), which is neither in %s nor in docket %d.", address,
			n.Address, n.Field, target, docket),
			do(ExportToo, n.Address), do(CreateThere, target)), true
	}
	return Check{}, false
}

// NotApproved checks a need on a record of this docket that is not going to be
// imported as things stand; why says what stands in its way, "" for a missing approval.
func NotApproved(address string, n Need, target string, docket int, why string) Check {
	c := blocker(ReferenceNotApproved, "")
	verb := "refers to"
	if n.Owner {
		c.Code, verb = OwnerNotApproved, "is part of"
	}
	if why != "" {
		c.Message = fmt.Sprintf("%s %s %s (field %s), which is approved in docket %d but cannot be imported itself: %s", address,
			verb, n.Address, n.Field, docket, why)
		return c.mended(do(MendFirst, n.Address))
	}
	c.Message = fmt.Sprintf("%s %s %s (field %s), which is not in %s and is in docket %d but not approved.", address, verb, n.Address,
		n.Field, target, docket)
	return c.mended(do(Approve, n.Address), do(CreateThere, target))
}

// HeldOutside checks a record that would be new though the target has it: the condition of
// its type leaves it out there.
func HeldOutside(address, typ, target, id string, there Side) Check {
	changed := ""
	if there.At != "" {
		changed = ", last changed " + there.changed()
	}
	return blocker(HeldOutsideCode,
		fmt.Sprintf("%s is in %s already, but only: of %s in the catalog leaves it out there (%s%s); it would be made a second time.",
			address, target, typ, id, changed),
		do(UseAgain, target), do(Decline, "it"))
}

// Beside says that a record comes in under another key than the source has.
func Beside(words, address, old string) Check {
	return caution(BesideCode, words, do(Unpair, show.Arg(old), show.Arg(address)))
}

// Circle checks records that require each other, so that none of them can be written first.
func Circle(address, others, target string) Check {
	if others == "" {
		return blocker(CircleCode, address+" requires itself, so it cannot be written first.", do(MakeByHand, target), do(Decline, "it"))
	}
	return blocker(CircleCode, fmt.Sprintf("%s and %s require each other, so none of them can be written first.", address, others),
		do(MakeOneByHand, target), do(Decline, "them"))
}

// Apart checks that two fields are approved together of which one says what the other means.
func Apart(address, written, other string) Check {
	return blocker(ReferenceNotApproved,
		fmt.Sprintf("%s: fields %s and %s tell together what the record refers to, and only %s is approved.", address, written, other,
			written),
		do(ApproveFieldToo, other), do(DeclineField, written))
}

// NotRekeyed checks a need on the new key of a record that the target knows by another one
// and that is not going to get it.
func NotRekeyed(address string, n Need, target string) Check {
	return blocker(ReferenceNotApproved,
		fmt.Sprintf("%s holds the key of %s (field %s), which has another key in %s until the change of it is approved.", address,
			n.Address, n.Field, target),
		do(ApproveToo, n.Address), do(Decline, address))
}

// InUse checks a record whose key is to be changed while the target holds others to it that
// store the key itself and do not follow.
func InUse(address, field, by, column, target string) Check {
	return blocker(KeyInUse,
		fmt.Sprintf("The key of %s cannot be changed in %s: records of %s hold it themselves (%s), and the foreign key there does not follow.", address, target, by, column),
		do(LetFollow, column, target), do(DeclineField, field))
}

// Differs cautions that a record which the parcel does not hold, but refers to, has other
// values in the target. By is one record that refers to it, or how many do.
func Differs(by string, several bool, address, source, target string, fields []string) Check {
	verb, what := "refers", "field "+strings.Join(fields, ", ")
	if several {
		verb = "refer"
	}
	if len(fields) > 1 {
		what = "fields " + strings.Join(fields, ", ")
	}
	return caution(ReferredDiffers, fmt.Sprintf("%s %s to %s, which is not in the parcel and is not in %s as it is in %s (%s).", by,
		verb, address, target, source, what),
		do(LookAtReferred, address))
}

// Is reports whether two checks say the same.
func (c Check) Is(other Check) bool {
	return c.Code == other.Code && c.Level == other.Level && c.Message == other.Message && c.Mend == other.Mend
}
