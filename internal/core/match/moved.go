package match

import (
	"strings"

	"anagram/internal/core/known"
	"anagram/internal/core/record"
)

// Which side moved, by what both last agreed on, by stamps since one was copied from the other, and by
// what was there when all of a type was compared.

// apart reports whether the record, of which nothing is known, was not on both sides before.
func (o atKey) apart(in Input) bool {
	return o.agreed == nil && !o.seen && in.Covers != nil && in.Covers(o.key)
}

// copied reports whether a record that one side has was there when both environments were one.
func (o atKey) copied(in Input, of *record.Record) bool {
	if in.Copied == nil || o.agreed != nil || o.seen || o.apart(in) || in.AgreedIsAll {
		return false
	}
	if o.target.first == nil {
		return in.Copied.OfSource(of.ChangedAt) == known.AsCopied
	}
	return in.Copied.OfTarget(of.ChangedAt) == known.AsCopied
}

// explain says of the differences of which nothing is agreed who moved, by the stamps; ok is false where
// they do not tell.
func (in Input) explain(f *Finding, entry *record.Record) (ok bool) {
	from, _ := known.Changed(entry, in.SourceName, f.Source)
	at, _ := known.Changed(entry, in.TargetName, f.Target)
	source, target := in.Copied.OfSource(from), in.Copied.OfTarget(at)
	if source == known.Untold || target == known.Untold {
		return false
	}
	by := map[[2]bool]Moved{{true, false}: MovedSource, {false, true}: MovedTarget, {true, true}: MovedBoth}
	moved := by[[2]bool{source == known.ChangedSince, target == known.ChangedSince}]
	for i, d := range f.Differences {
		if !d.AgreedKnown {
			f.Differences[i].Moved = moved
			f.Unexplained = f.Unexplained || moved == MovedUnknown
		}
	}
	return true
}

// goneFrom says why only the target has a record, as far as what both last agreed on tells. What was
// agreed after the parcel was made tells nothing about it.
func (o atKey) goneFrom(in Input, target record.Record) []Reason {
	agreed := o.agreed
	if o.copied(in, &target) {
		return []Reason{RemovedInSource}
	}
	if in.Agreed == nil || agreed == nil || in.AgreedLater || in.AgreedIsAll {
		return nil
	}
	reasons := []Reason{RemovedInSource}
	if len(Compare(in.Fields, agreed.Values, target.Values, nil)) > 0 {
		reasons = append(reasons, EditedSince)
	}
	return reasons
}

// differences gives those of key and fields, with which side moved.
func (in Input) differences(s, t record.Record, agreed *record.Record) []Difference {
	out := append(compareKeys(in.Keys, s, t, agreed), Compare(in.Fields, s.Values, t.Values, agreed)...)
	if in.AgreedIsAll && agreed == nil {
		for i := range out {
			out[i].Moved = MovedBoth
		}
	}
	return out
}

// newer reports whether somebody changed the target's record later than the source's. What this
// workspace wrote itself is no sign of anybody.
func (in Input) newer(source, target record.Record, entry *record.Record) bool {
	at, _ := known.Changed(entry, in.TargetName, &target)
	from, _ := known.Changed(entry, in.SourceName, &source)
	return later(at, from)
}

// later compares two stamps; where one is missing nothing is known.
func later(a, b string) bool {
	return a != "" && b != "" && strings.TrimSuffix(a, "Z") > strings.TrimSuffix(b, "Z")
}

func statusOf(differences []Difference) Status {
	status := Same
	for _, d := range differences {
		switch {
		case d.Moved == MovedBoth:
			return Conflict
		case d.Moved == MovedTarget && status == Same:
			status = TargetEdit
		case Propose(Changed, d.Moved) == Write:
			status = Changed
		}
	}
	return status
}

// Compare gives the fields in which two records differ, and which side moved each.
// A field that either side does not carry is not compared.
func Compare(fields []record.Field, source, target []record.Value, agreed *record.Record) []Difference {
	var out []Difference
	for i, field := range fields {
		s, t := source[i], target[i]
		if s.IsAbsent() || t.IsAbsent() || field.Same(s, t) {
			continue
		}
		d := Difference{Field: i, Source: s, Target: t}
		if agreed != nil {
			d.judge(field, agreed.Values[i])
		}
		out = append(out, d)
	}
	return out
}

// judge says which side moved since the agreed value, where that is known.
func (d *Difference) judge(field record.Field, agreed record.Value) {
	if agreed.IsAbsent() {
		return
	}
	d.Agreed, d.AgreedKnown = agreed, true
	switch {
	case field.Same(agreed, d.Target):
		d.Moved = MovedSource
	case field.Same(agreed, d.Source):
		d.Moved = MovedTarget
	default:
		d.Moved = MovedBoth
	}
}

// compareKeys gives the fields of the key in which a record of the target that stands
// under another key differs.
func compareKeys(fields []record.Field, source, target record.Record, agreed *record.Record) []Difference {
	if target.Was == nil {
		return nil
	}
	var out []Difference
	for i, field := range fields {
		d := Difference{Field: i, Key: true, Source: source.Key.Parts()[i], Target: target.Was.Parts()[i]}
		if field.Same(d.Source, d.Target) {
			continue
		}
		if agreed != nil {
			d.judge(field, agreed.Stands().Parts()[i])
		}
		out = append(out, d)
	}
	return out
}
