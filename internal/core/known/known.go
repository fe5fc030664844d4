// Package known says what a pair of environments knows of each other, and what it knows after a match
// or an import: values in, values out. flow/agreed keeps it.
//
// The rules: a record that was on both sides has an entry, with the values on which both agreed and
// none for fields that differed. A key that was met, but of which it could not be told what both sides
// had (more than one record with it, or a record that a condition leaves out), is "seen". A type that
// was matched whole is covered: a record of it that has no entry and was not seen was not on both
// sides then, nor since, unless either side made it on its own.
package known

import (
	"slices"

	"anagram/internal/core/record"
)

// Coverage says since when a record type is known whole: the first match of all of it, by the same key
// and condition.
type Coverage struct {
	Docket int    `json:"docket"`
	At     string `json:"at"` // when the source was read, RFC 3339 in UTC
	Only   string `json:"only,omitempty"`
}

// Match is a match of one type, as far as it matters for what is known afterwards.
type Match struct {
	Fields   []record.Field // those that are compared first, then others that are kept
	Compared int
	Docket   int
	At       string // RFC 3339
}

// After works out the entry of a key after a match; nil is none. Source and target are the records of
// either side, nil where it has none; before is the entry so far. Whole says that both sides were read
// whole; apart, that the record was made on either side on its own: until both have the same, or
// somebody decides, it stays unknown.
func (m Match) After(whole, apart bool, source, target, before *record.Record) *record.Record {
	fields, compared := m.Fields, m.Compared
	notes := NotesOf(before)
	switch {
	case source == nil && target == nil && whole:
		return nil // neither side has it any more
	case (source == nil || target == nil) && before == nil, apart:
		return nil
	case source == nil || target == nil:
		kept := *before
		kept.Key = before.Stands()
		switch {
		case source != nil:
			notes.Gone = nil
		case target != nil && notes.Gone == nil:
			notes.Gone = &Gone{Docket: m.Docket, At: m.At}
		}
		notes.On(&kept)
		return &kept
	}
	notes.Gone = nil
	key := source.Key
	if target.Was != nil { // they do not agree on the key yet
		if key = *target.Was; before != nil {
			key = before.Stands()
		}
	}
	out := record.Record{Key: key, Values: make([]record.Value, len(fields))}
	for i, field := range fields {
		out.Values[i] = record.AbsentValue()
		if before != nil {
			out.Values[i] = before.Values[i]
		}
		if i < compared && !source.Values[i].IsAbsent() && !target.Values[i].IsAbsent() && field.Same(source.Values[i], target.Values[i]) {
			out.Values[i] = source.Values[i]
		}
	}
	notes.On(&out)
	return &out
}

// Unvalued is the entry of a record that was on both sides, with which values is not known.
func Unvalued(key record.Key, fields []record.Field) *record.Record {
	out := &record.Record{Key: key, Values: make([]record.Value, len(fields))}
	for i := range out.Values {
		out.Values[i] = record.AbsentValue()
	}
	return out
}

// Taught is what an import teaches of a record: values on which both sides agree by now, the others
// absent, and what is to be forgotten.
type Taught struct {
	Record record.Record
	Forget []string // fields on which nothing is agreed any more
	Gone   bool     // there is to be no entry: what made both sides agree was taken back
	Own    *Own     // what was left of it in the target, nil where that is not known
}

// Over gives the entry of a key once what an import teaches was laid over what was known before, nil
// for none. Fields are those of the record; before may be nil.
func (t Taught) Over(fields []record.Field, before *record.Record) *record.Record {
	if t.Gone {
		return nil
	}
	out := t.Record
	out.Values = slices.Clone(t.Record.Values)
	for i, field := range fields {
		switch {
		case slices.Contains(t.Forget, field.Name):
			out.Values[i] = record.AbsentValue()
		case before != nil && out.Values[i].IsAbsent():
			out.Values[i] = before.Values[i]
		}
	}
	Notes{Own: t.Own}.On(&out)
	return &out
}
