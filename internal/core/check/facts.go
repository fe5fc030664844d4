package check

import (
	"slices"
	"time"

	"anagram/internal/core/catalog"
	"anagram/internal/core/evidence"
	"anagram/internal/core/known"
	"anagram/internal/core/match"
	"anagram/internal/core/record"
)

// Facts are what the rules about one record go by: what was found of it on both sides, its type,
// and the place that is to take it. They are gathered at the match, and anew at the import, when
// the record, the place and its rights may be others; the rules are the same functions.
type Facts struct {
	Written
	Found     match.Finding
	Source    string         // name of the environment that the source's values come from
	Fields    []record.Field // of the values on both sides
	Keys      []record.Field // the parts of the key
	Filled    []string       // columns that the import itself fills in a new record
	Unwritten bool           // the target is a parcel: nothing is ever written there
	Back      int            // docket whose import is taken back, 0 for none
	Within    bool           // a record within the key has a key that occurs more than once
	Suspects  []evidence.Suspect
	Zones     [2]*time.Location // of the source's times without one, and the target's; nil is not known
	Covered   known.Coverage    // since when the type is known whole
	// Show gives a value as people see it, nil for one that there is not.
	Show func(record.Field, record.Value) *string
	// Approved are the fields that are going to be written, parts of the key among them; nil is
	// at the match, where all that may be approved counts.
	Approved []string
}

// On is a check that holds while of some fields exactly others are written; without fields it
// holds in any case.
type On struct {
	Check
	Fields, Writes []string
	Partial        bool // Writes are not what the finding proposes, so it holds after a choice only
}

// Holds reports whether the check holds where writes says which fields are written.
func (c On) Holds(writes func(field string) bool) bool {
	return !slices.ContainsFunc(c.Fields, func(field string) bool { return writes(field) != slices.Contains(c.Writes, field) })
}

// Proposed is a value that may come to be written.
type Proposed struct {
	Field record.Field
	Value record.Value
}

// Proposed lists the values that may come to be written: of a record that is new all of them, its
// key first; of another one those that the source changed, and where a person may take either
// side, all that differ. At the import it lists those that are approved.
func (f Facts) Proposed() []Proposed {
	if f.Found.Source == nil || f.Removes {
		return nil
	}
	wanted := func(name string) bool { return f.Approved == nil || slices.Contains(f.Approved, name) }
	var out []Proposed
	if f.Adds {
		for i, part := range f.Found.Key.Parts() {
			out = append(out, Proposed{f.FieldOf(match.Difference{Field: i, Key: true}), part})
		}
		for i, v := range f.Found.Source.Values {
			if wanted(f.Fields[i].Name) {
				out = append(out, Proposed{f.Fields[i], v})
			}
		}
		return out
	}
	for _, d := range f.Found.Differences {
		if f.Found.Status == match.Changed && f.Approved == nil && match.Propose(f.Found.Status, d.Moved) != match.Write {
			continue
		}
		if field := f.FieldOf(d); wanted(field.Name) {
			out = append(out, Proposed{field, d.Source})
		}
	}
	return out
}

// FieldOf gives the field of a difference; no part of a key can be written later.
func (f Facts) FieldOf(d match.Difference) record.Field {
	if !d.Key {
		return f.Fields[d.Field]
	}
	field := f.Keys[d.Field]
	field.Required = true
	return field
}

// Mention is a record that a value which may be written refers to.
type Mention struct {
	Field    string
	To       record.Value // a reference
	Owner    bool         // the record is a part of it
	Required bool         // the record cannot be written without
}

// Mentions lists what the proposed values refer to.
func (f Facts) Mentions() []Mention {
	var out []Mention
	for _, p := range f.Proposed() {
		for _, ref := range p.Value.References() {
			owner := p.Field.Name == f.Type.OwnerField()
			out = append(out, Mention{p.Field.Name, ref, owner, p.Field.Required || owner})
		}
	}
	return out
}

// Required lists the fields that a new record must be given in its place.
func Required(place catalog.Place, fields []record.Field) []string {
	var out []string
	for _, field := range fields {
		if column, ok := place.Column(field.Name); ok && MustBeGiven(column) && !slices.Contains(place.Triggered, field.Name) {
			out = append(out, field.Name)
		}
	}
	return out
}
