// Package match compares the records of a source with those of a target, by key.
//
// The contract: source, target and agreed values are streams of one record type in
// key order; Join passes over all three once, each read a little ahead in a goroutine
// of its own, and keeps only that and the records of one key in memory. It yields a Finding for everything that is not the
// same and counts the rest. It never matches by guess: records that share a key on a
// side are a conflict of their own, and so is whatever has such a record in its key.
package match

import (
	"bytes"
	"errors"
	"iter"
	"slices"

	"anagram/internal/core/known"
	"anagram/internal/core/record"
)

// Status is what a finding is.
type Status string

// The statuses, in the order in which they are always shown.
const (
	Conflict   Status = "conflict"
	Changed    Status = "changed"
	New        Status = "new"
	TargetEdit Status = "target-edit"
	TargetOnly Status = "target-only"
	Same       Status = "same"
)

// Statuses lists all statuses in the order in which they are shown.
func Statuses() []Status { return []Status{Conflict, Changed, New, TargetEdit, TargetOnly, Same} }

// Reason says why a finding is a conflict.
type Reason string

// The reasons of conflicts.
const (
	Ambiguous       Reason = "ambiguous"
	BothMoved       Reason = "both-moved"
	RemovedInTarget Reason = "removed-in-target"
	TargetNewer     Reason = "target-newer"
	RetiredInTarget Reason = "retired-in-target"
	// CreatedOnBoth is a record that was not on both sides when its type was first matched whole,
	// and that both have by now, with different values.
	CreatedOnBoth Reason = "created-on-both"
	// Taken is not found by Join, but once it is known who holds what in the target.
	Taken Reason = "taken"
	// RetiredInSource is a record that only the target has in scope: the source has it, but
	// left out.
	RetiredInSource Reason = "retired-in-source"
	// RemovedInSource is a record that both sides had when they last agreed, and that the source
	// has no more; EditedSince is one of these that the target changed since.
	RemovedInSource Reason = "removed-in-source"
	EditedSince     Reason = "edited-since"
	// HeldOutside is a record that would be new though the target has it, out of the type's
	// scope.
	HeldOutside Reason = "held-outside"
	// CannotBeRead is a record of which a side holds something that has no canonical form.
	CannotBeRead Reason = "cannot-be-read"
	// CreatedHere is not found by Join: an earlier import made the record, and the match is
	// there to take that import back.
	CreatedHere Reason = "created-here"
)

// Moved says which side changed a field since the value both last agreed on.
type Moved string

// Sides that moved. Unknown is the case without agreed values.
const (
	MovedUnknown Moved = ""
	MovedSource  Moved = "source"
	MovedTarget  Moved = "target"
	MovedBoth    Moved = "both"
)

// Difference is one field in which source and target differ.
type Difference struct {
	Field       int // index in the fields of the stream, or with Key in those of the key
	Key         bool
	Source      record.Value
	Target      record.Value
	Agreed      record.Value
	AgreedKnown bool
	Moved       Moved
}

// Finding is one record with its status. Source and Target are nil where the side
// does not have the record, and its first one where the key is ambiguous.
type Finding struct {
	Key         record.Key
	Status      Status
	Reasons     []Reason
	Source      *record.Record
	Target      *record.Record
	Agreed      *record.Record // what both last agreed on, nil where nothing is known
	Differences []Difference   // of changed, target-edit and conflict, in field order
	// Unexplained says that both differ though by their stamps nobody changed either.
	Unexplained bool
	// SourceIDs and TargetIDs list the internal ids where the key is ambiguous, at
	// most MaxIDs of them.
	SourceIDs, TargetIDs []string
}

// MaxIDs bounds the internal ids that an ambiguous finding lists.
const MaxIDs = 20

// Input is what Join works on. All streams are in key order; a stream that is not
// ends in an error. Records of the target and agreed ones may be incomplete as
// long as they can be loaded: those of records whose Line is the same on both sides are
// never read.
type Input struct {
	SourceName, TargetName string // of the environments, by which own writes are known
	Fields                 []record.Field
	Keys                   []record.Field // the fields of the key
	Source                 record.Stream
	Target                 record.Stream
	Agreed                 record.Stream // nil where it is not known what both last agreed on
	// Outside are the keys, in their order, of records that the source leaves out; nil where
	// none are known.
	Outside iter.Seq2[record.Key, error]
	// AgreedLater says that the agreed values are from after the source was read. They tell
	// that the target had a record, but not which side moved.
	AgreedLater bool
	// AgreedIsAll says that a record without agreed values was on neither side: where both have
	// it by now and differ, both moved.
	AgreedIsAll bool
	// Covers says of a key, where it is given, that the agreed values would have it, had it been on
	// both sides when the type was matched whole. Seen are the keys, in their order, of which it could not be told then
	// what both sides had; nil is none.
	Covers func(record.Key) bool
	Seen   iter.Seq2[record.Key, error]
	// Copied, where it is given, says since when the two environments go their own ways. It tells who
	// moved where nothing is agreed.
	Copied *known.Copy
	// Then says that the source is what the target was itself at an earlier time: that the target's
	// record was changed later, or taken out of use, is what is looked for.
	Then bool
	// InScope says whether the selection covers a key. Target records outside are
	// counted as not compared.
	InScope func(record.Key) bool
	// Unknown says whether the target may have a record that is not in its stream; nil is
	// never. Such records of the source are counted as not compared.
	Unknown func(record.Key) bool
	// Retired says whether a record is out of use on its side; nil is never.
	Retired func(record.Record) bool
	// Remember, where it is given, is told of every key that any of the three has, in key
	// order, with what became of it, so that what both agree on can be kept.
	Remember func(Met) error
	// Ambiguous says whether a key has an ambiguous record in it. AnyAmbiguous, where it is
	// given, says whether there is any so far: without, no key is looked into.
	Ambiguous    func(record.Key) bool
	AnyAmbiguous func() bool
}

// Met is a key that source, target, agreed values or Seen have, and what became of it. Records that no
// side has are nil, and those of a key that is ambiguous; the status of a key that neither side has
// is "".
type Met struct {
	Status                 Status
	Reasons                []Reason
	Key                    record.Key
	Source, Target, Agreed *record.Record
	Seen                   bool // as Input.Seen says
	Outside                bool // the source has it, but leaves it out
	Passed                 bool // it was not asked what both sides have
}

// Counts are the findings by status, and the records outside the selection.
type Counts struct {
	By          map[Status]int
	NotCompared int
}

// Join compares and gives each finding to found, in key order. It stops at the
// first error, its own or found's.
func Join(in Input, found func(Finding) error) (Counts, error) {
	counts := Counts{By: map[Status]int{}}
	source := newSide("source", in.Source)
	defer source.stop()
	target := newSide("target", in.Target)
	defer target.stop()
	agreed := newSide(agreedName, in.Agreed)
	defer agreed.stop()
	outside := newSide("list of records that are left out", asRecords(in.Outside))
	defer outside.stop()
	seen := newSide("list of keys that were seen", asRecords(in.Seen))
	defer seen.stop()
	for {
		for _, side := range []*side{source, target, agreed, outside, seen} {
			if err := side.fill(); err != nil {
				return counts, err
			}
		}
		key, ok := least(source, target)
		if !ok {
			return counts, errors.Join(agreed.rest(in, Met{}), outside.rest(in, Met{Outside: true}), seen.rest(in, Met{Seen: true}))
		}
		one := atKey{key: key}
		var err error
		if one.source, err = source.take(key); err != nil {
			return counts, err
		}
		if one.target, err = target.take(key); err != nil {
			return counts, err
		}
		if one.agreed, err = agreed.takeUpTo(key, in, Met{}); err != nil {
			return counts, err
		}
		left, err := outside.takeUpTo(key, in, Met{Outside: true})
		if err != nil {
			return counts, err
		}
		met, err := seen.takeUpTo(key, in, Met{Seen: true})
		if err != nil {
			return counts, err
		}
		one.retired, one.seen = left != nil, met != nil
		if err := one.compare(in, &counts, found); err != nil {
			return counts, err
		}
	}
}

// atKey is what the three streams have at one key.
type atKey struct {
	key            record.Key
	source, target group
	agreed         *record.Record
	retired        bool // the source has it, but leaves it out
	seen           bool // see Input.Seen
}

// compare finds out what a key is, counts it, has it remembered and gives it to found.
func (o atKey) compare(in Input, counts *Counts, found func(Finding) error) error {
	if o.alike() {
		within, err := in.ambiguous(o.source.first)
		if err != nil {
			return err
		}
		if !within {
			counts.By[Same]++
			return in.remember(o.met(Same, nil, o.source.first, o.target.first))
		}
	}
	o.source.first, o.target.first, o.agreed = apart(o.source.first), apart(o.target.first), apart(o.agreed)
	for _, r := range []*record.Record{o.source.first, o.target.first} {
		if err := load(r); err != nil {
			return err
		}
	}
	if o.source.first == nil {
		o.key = o.target.first.Key
	} else {
		o.key = o.source.first.Key
	}
	if o.outside(in) {
		counts.NotCompared += o.source.count + o.target.count
		met := o.met(TargetOnly, nil, nil, nil)
		met.Passed = true
		return in.remember(met)
	}
	if err := load(o.agreed); err != nil {
		return err
	}
	f := o.judge(in)
	if f.Status == TargetOnly && o.retired {
		f.Reasons = []Reason{RetiredInSource}
	}
	counts.By[f.Status]++
	source, target := o.source.first, o.target.first
	if Hopeless(f.Reasons) {
		source, target = nil, nil // which of them would be guessing
	}
	if err := in.remember(o.met(f.Status, f.Reasons, source, target)); err != nil || f.Status == Same {
		return err
	}
	return found(f)
}

// met is what is to be remembered of the key.
func (o atKey) met(status Status, reasons []Reason, source, target *record.Record) Met {
	return Met{Status: status, Reasons: reasons, Key: o.key, Source: source, Target: target, Agreed: o.agreed, Seen: o.seen,
		Outside: o.retired}
}

// ambiguous reports whether the key of a record has an ambiguous record in it.
func (in Input) ambiguous(r *record.Record) (bool, error) {
	if in.AnyAmbiguous != nil && !in.AnyAmbiguous() {
		return false, nil
	}
	err := load(r)
	return err == nil && in.Ambiguous(r.Key), err
}

// alike reports whether both sides have one record, and the same line of it.
func (o atKey) alike() bool {
	return o.source.count == 1 && o.target.count == 1 && o.source.first.Line != nil && o.target.first.Was == nil &&
		bytes.Equal(o.source.first.Line, o.target.first.Line) && !record.AnyUnreadable(o.source.first.Line)
}

// outside reports whether one side does not have the key, and nothing follows from that.
func (o atKey) outside(in Input) bool {
	return o.source.first == nil && !in.InScope(o.key) || o.target.first == nil && in.Unknown != nil && in.Unknown(o.key)
}

// apart copies a record out of its batch, as it may be kept.
func apart(r *record.Record) *record.Record {
	if r == nil {
		return nil
	}
	out := *r
	out.Line = bytes.Clone(r.Line)
	return &out
}

// load completes a record.
func load(r *record.Record) error {
	if r == nil || r.Load == nil {
		return nil
	}
	return r.Load(r)
}

func (in Input) remember(met Met) error {
	if in.Remember == nil {
		return nil
	}
	return in.Remember(met)
}

// judge decides what the key is.
func (o atKey) judge(in Input) Finding {
	key, s, t, agreed := o.key, o.source, o.target, o.agreed
	f := Finding{Key: key, Source: s.first, Target: t.first, Agreed: agreed, SourceIDs: s.ids, TargetIDs: t.ids}
	if s.count > 1 || t.count > 1 || in.Ambiguous(key) {
		f.Status, f.Reasons = Conflict, []Reason{Ambiguous}
		return f
	}
	f.SourceIDs, f.TargetIDs = nil, nil
	if unread(s.first) || unread(t.first) {
		f.Status, f.Reasons = Conflict, []Reason{CannotBeRead}
		return f
	}
	switch {
	case t.first == nil && (in.Agreed != nil && agreed != nil || o.copied(in, s.first)):
		f.Status, f.Reasons = Conflict, []Reason{RemovedInTarget}
		return f
	case t.first == nil:
		f.Status = New
		return f
	case s.first == nil:
		f.Status, f.Reasons = TargetOnly, o.goneFrom(in, *t.first)
		return f
	}
	return o.onBoth(in, f)
}

// unread reports whether a value of a record cannot be read.
func unread(r *record.Record) bool {
	return r != nil && slices.ContainsFunc(r.Values, func(v record.Value) bool { _, unreadable := v.Unreadable(); return unreadable })
}

// onBoth judges a record that both sides have once.
func (o atKey) onBoth(in Input, f Finding) Finding {
	source, target, agreed := *f.Source, *f.Target, o.agreed
	apart := o.apart(in)
	if in.AgreedLater {
		agreed = nil
	}
	f.Differences = in.differences(source, target, agreed)
	explained := !apart && in.Copied != nil && in.explain(&f, o.agreed)
	f.Status = statusOf(f.Differences)
	if f.Status == Conflict {
		f.Reasons = []Reason{BothMoved}
	}
	if apart && f.Status == Changed {
		f.Status, f.Reasons = Conflict, []Reason{CreatedOnBoth}
	}
	if f.Status != Changed && f.Status != Conflict || in.Then {
		return f
	}
	guessed := slices.ContainsFunc(f.Differences, func(d Difference) bool { return !d.AgreedKnown })
	if guessed && !in.AgreedIsAll && !apart && !explained && in.newer(source, target, o.agreed) {
		f.Status, f.Reasons = Conflict, append(f.Reasons, TargetNewer)
	}
	if in.Retired != nil && in.Retired(target) && !in.Retired(source) && (agreed == nil || !in.Retired(*agreed)) {
		f.Status, f.Reasons = Conflict, append(f.Reasons, RetiredInTarget)
	}
	return f
}
