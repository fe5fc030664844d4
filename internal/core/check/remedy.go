package check

import (
	"fmt"
	"strings"
)

// Way is one thing that a person can do about a check: what kind of thing, with which names.
// It becomes words in one place, and what is asked of it (is it done in the source?) is asked
// of its kind, never of the words.
type Way struct {
	Kind Kind
	Args []any // names and numbers, in the order of the form of the kind
}

// Kind is a kind of thing to do. What its form needs stands in forms.
type Kind int

// The kinds. Those in the source need an export to come into a docket.
const (
	Said Kind = iota // a sentence of its own
	CorrectInSource
	CorrectValue
	GiveInSource
	ChangeKey
	RemoveDoubles
	RemoveSourceDoubles
	ExportToo
	ExportAgain
	ExportAndMatch
	NameOtherKey
	TakeOutOfIgnore
	StateReleases
	EqualSettings
	NameAccount
	NeverStamp
	LeaveOutField
	CorrectThere
	CreateThere
	CreateWithSecret
	ChangeThere
	FreeThere
	ExchangeKeys
	RemoveThere
	RemoveReference
	MakeUnique
	UseAgain
	MakeByHand
	MakeOneByHand
	LetFollow
	DefaultThere
	DefaultOrLocal
	GiveLocal
	SetAfter
	AskRight
	AskRightToRestore
	Approve
	ApproveToo
	ApproveFieldToo
	ApproveSource
	ApproveTarget
	MendFirst
	Decline
	DeclineField
	DeclineFieldOnly
	DeclineThenStays
	PairThem
	Unpair
	ImportFirst
	LookAtReferred
	SayWhatItIs
	CompareSome
	KeepOne
	Resume
	TakeBack
)

// form is how a kind reads, in the imperative and without a capital; {again} is what makes
// the docket anew.
type form struct {
	words  string
	source bool // it is done where the parcel comes from
}

var forms = map[Kind]form{
	Said:                {"%s", false},
	CorrectInSource:     {"correct %s in the source, then export and {again}", true}, // what
	CorrectValue:        {"correct the value in the source, then export and {again}", true},
	GiveInSource:        {"give it a value in the source, then export and {again}", true},
	ChangeKey:           {"correct the key or remove all but one of them in %s and in %s, then export and {again}", true}, // source, target
	RemoveSourceDoubles: {"correct the key or remove all but one of them in %s, then export and {again}", true},           // source
	RemoveDoubles:       {"correct the key or remove all but one of them in %s, then {again}", false},                     // target
	ExportToo:           {"export %s as well and {again}", true},                                                          // address
	ExportAgain:         {"export again and match that%s", true},                                                          // unless, or why
	ExportAndMatch:      {"export and {again}", true},
	NameOtherKey:        {"name another key in the catalog, then export and {again}", true},
	TakeOutOfIgnore:     {"take field %s out of ignore: in the catalog, or put it under local: with a value for %s; then export and {again}", true}, // field, target
	StateReleases:       {"say where the release of both environments is to be had with release: in anagram.yaml, then export and {again}", true},
	EqualSettings:       {"make it equal on both sides, then export and {again}", true},
	NameAccount:         {"name the account that stands for imports under stamp: of %s in the catalog, account: {%s: …}, and {again}", false}, // type, target
	NeverStamp:          {"say write: never there, if time and person are to stay as they are, and {again}", false},
	LeaveOutField:       {"leave field %s out with ignore: in the catalog, then export and {again}", true}, // field
	CorrectThere:        {"correct it in %s, then {again}", false},                                         // target
	CreateThere:         {"create it in %s and {again}", false},                                            // target
	CreateWithSecret:    {"create the record in %s with its secret value and {again}", false},              // target
	ChangeThere:         {"change %s in %s and {again}", false},                                            // address, target
	FreeThere:           {"change %s in %s to something else for now, then {again}", false},                // address, target
	ExchangeKeys:        {"give them these keys in %s itself, forget their pairs with anagram pair --forget, then {again}", false},
	RemoveThere:         {"remove all but one of them in %s, then {again}", false},   // target
	RemoveReference:     {"take that reference away in %s and restore again", false}, // target
	MakeUnique:          {"make the key of that record unique, then {again}", false}, //
	UseAgain:            {"bring it back into use in %s and {again}", false},         // target
	MakeByHand:          {"make it in %s by hand and {again}", false},                // target
	MakeOneByHand:       {"make one of them in %s by hand, with a reference to a record that is there, and {again}", false},
	LetFollow:           {"let the foreign key of %s follow (ON UPDATE CASCADE) in %s and {again}", false}, // column, target
	DefaultThere:        {"give field %s a default in %s and {again}", false},                              // field, target
	DefaultOrLocal:      {"give field %s a default in %s, or put it under local: with a value for %[2]s instead of derived:; then {again}", false},
	GiveLocal:           {"give a value with local: {%s: {%s: …}} in the catalog and {again}", false}, // field, target
	SetAfter:            {"set it in %s after the import", false},                                     // target
	AskRight:            {"ask for that right and {again}", false},
	AskRightToRestore:   {"ask for that right and restore again", false},
	Approve:             {"approve %s", false},                                             // address
	ApproveToo:          {"approve %s as well", false},                                     // address
	ApproveFieldToo:     {"approve field %s as well", false},                               // field
	ApproveSource:       {"approve it with --take source%s", false},                        // to what end
	ApproveTarget:       {"with --take target%s", false},                                   // to what end; after ApproveSource
	MendFirst:           {"mend %s first", false},                                          // address
	Decline:             {"decline %s", false},                                             // address, "it", "the record"
	DeclineField:        {"decline field %s", false},                                       // fields
	DeclineFieldOnly:    {"decline field %s, and approve the others of the record", false}, // field
	DeclineThenStays:    {"decline %s: then it stays", false},                              // address
	PairThem:            {"if they are one record, say so with anagram pair %s %s and {again}%s", false},
	Unpair:              {"if it is to be that record after all, forget it with anagram pair --forget %s %s and {again}", false},
	ImportFirst:         {"import docket %d first, or decline what is no longer wanted there", false},
	LookAtReferred:      {"look whether it is meant to be the same record; to bring its values as well, export %s and {again}", true},
	// address
	SayWhatItIs: {"%s Then {again}", false},
	CompareSome: {"compare a few of both sides; if they are the same records, correct key: or refers: of %s in the catalog and {again}", false},
	KeepOne:     {"remove one of them in %s, or forget the pair with anagram pair --forget %s %s; then {again}", false},
	Resume:      {"finish it with anagram import %d --resume", false},
	TakeBack:    {"take it back with anagram restore %d", false},
}

// do makes a way.
func do(kind Kind, args ...any) Way { return Way{Kind: kind, Args: args} }

// say is a way in words of its own, for what nothing else is asked of.
func say(words string, args ...any) Way { return do(Said, fmt.Sprintf(words, args...)) }

func (w Way) words(again string) string {
	return fmt.Sprintf(strings.ReplaceAll(forms[w.Kind].words, "{again}", again), w.Args...)
}

// matchAgain is what makes a docket of a match anew.
const matchAgain = "match again"

// remedy says ways in a sentence: any one of them mends. again is what makes the docket anew.
func remedy(ways []Way, again string) string {
	if len(ways) == 0 {
		return ""
	}
	parts := make([]string, len(ways))
	between := ", or "
	for i, w := range ways {
		if parts[i] = w.words(again); strings.ContainsAny(parts[i], ",;") {
			between = "; or "
		}
	}
	text := strings.Join(parts, between)
	return strings.ToUpper(text[:1]) + text[1:] + "."
}

// blocker and caution make checks; any one of the ways mends.
func blocker(code Code, message string, ways ...Way) Check {
	return Check{Code: code, Level: Blocker, Message: message, Mend: remedy(ways, matchAgain), ways: ways}
}

func caution(code Code, message string, ways ...Way) Check {
	c := blocker(code, message, ways...)
	c.Level = Caution
	return c
}

// mended gives the check with other ways.
func (c Check) mended(ways ...Way) Check {
	c.ways, c.Mend = ways, remedy(ways, matchAgain)
	return c
}

// TakingBack gives a check as it is said where an import is taken back: what was there before
// cannot be corrected, and nothing is exported for it. again is what makes that docket anew.
func TakingBack(c Check, again string) Check {
	var left []Way
	for _, w := range c.ways {
		if !forms[w.Kind].source {
			left = append(left, w)
		}
	}
	if len(left) == 0 {
		left = []Way{say("decline it: then it stays as it is")}
	}
	c.ways, c.Mend = left, remedy(left, again)
	return c
}
