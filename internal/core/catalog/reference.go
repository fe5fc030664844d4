package catalog

import (
	"maps"
	"slices"

	"anagram/internal/core/record"
	"anagram/internal/core/weave"
)

// Reference says how a field points at records.
type Reference struct {
	// To lists the record types that it may point at, one in nearly all cases.
	To []string
	// ByKey is set where the field holds the key itself, not the internal id.
	ByKey bool
	// Chooser is the field whose value says which of To it is, by Words: its value to the
	// record type. Without a chooser and with several types, the type is the one that has
	// the record.
	Chooser string
	Words   map[string]string
	// Columns are the columns that make up the reference together, and for each the one
	// that it equals there. Nil where the field is a column itself.
	Columns []Pair
	// None lists stored values that stand for no reference; the first is written for null.
	None []string
	// Inside says how ids stand within the value; nil where the value is one.
	Inside []weave.Form
}

// Pair is a column here and the one of the record type referred to that it equals.
type Pair struct{ Here, There string }

// One gives the record type of a reference that always points at the same one, else "".
func (r Reference) One() string {
	if len(r.To) == 1 && r.Chooser == "" && r.Inside == nil {
		return r.To[0]
	}
	return ""
}

// Plain reports whether a single column holds the internal id, or the key, of a record
// that is always of the same type.
func (r Reference) Plain() bool { return r.One() != "" && r.Columns == nil }

// field sets what a field with this reference is.
func (r Reference) field(f *record.Field) {
	f.Kind = record.Reference
	if r.Inside != nil {
		f.Kind = record.Woven
	}
	if f.Refers = r.One(); f.Refers == "" {
		f.Among = slices.Clone(r.To)
	}
}

// Late reports whether a field of a new record can get its value after the record was
// written though null is refused: it refers to something that nothing asks for before the
// commit, and is neither in the key nor the owner.
func (t *Type) Late(place Place, field string) bool {
	ref, ok := t.Refers[field]
	column, there := place.Column(field)
	if !ok || !there || ref.Inside != nil || ref.Columns != nil || field == t.OwnerField() || slices.Contains(t.Key, field) {
		return false
	}
	held := column.RefersTo != "" || slices.ContainsFunc(place.Foreign, func(f ForeignKey) bool {
		return slices.ContainsFunc(f.Pairs, func(p Pair) bool { return p.Here == field })
	})
	return column.Waits || !held
}

// Stored lists the columns that a field is kept in.
func (t *Type) Stored(field string) []string {
	columns := t.Refers[field].Columns
	if columns == nil {
		return []string{field}
	}
	out := make([]string, len(columns))
	for i, pair := range columns {
		out[i] = pair.Here
	}
	return out
}

// Targets lists the record types that a type refers to, each once, sorted.
func (t *Type) Targets() []string {
	found := map[string]bool{}
	for _, ref := range t.Refers {
		for _, to := range ref.To {
			found[to] = true
		}
	}
	return slices.Sorted(maps.Keys(found))
}

// Serves reports whether a column is part of a reference of several columns.
func (t *Type) Serves(column string) bool {
	for _, ref := range t.Refers {
		if slices.ContainsFunc(ref.Columns, func(p Pair) bool { return p.Here == column }) {
			return true
		}
	}
	return false
}

// Chooses reports whether a field says which type a reference beside it points at.
func (t *Type) Chooses(field string) bool {
	for _, ref := range t.Refers {
		if ref.Chooser == field {
			return true
		}
	}
	return false
}

// takenUp reports whether a column only serves a reference of several columns.
func takenUp(t *Type, column string) bool {
	if _, own := t.Refers[column]; own || slices.Contains(t.Key, column) {
		return false
	}
	return t.Serves(column)
}

// Together lists the pairs of fields of which one says what the other means: the field that
// chooses the type of a reference, and two fields that share a column. To write one without
// the other would change what that one refers to.
func (t *Type) Together() [][2]string {
	var out [][2]string
	fields := sortedNames(t.Refers)
	for i, field := range fields {
		ref := t.Refers[field]
		if ref.Chooser != "" {
			out = append(out, [2]string{field, ref.Chooser})
		}
		for _, pair := range ref.Columns {
			if slices.Contains(t.Key, pair.Here) && t.Refers[pair.Here].To == nil {
				out = append(out, [2]string{field, pair.Here})
			}
		}
		for _, other := range fields[i+1:] {
			if (ref.Columns != nil || t.Refers[other].Columns != nil) &&
				slices.ContainsFunc(t.Stored(other), func(column string) bool { return slices.Contains(t.Stored(field), column) }) {
				out = append(out, [2]string{field, other})
			}
		}
	}
	return out
}

// KeptBeside reports whether a column that serves a reference is kept by another field as
// well: a part of the key, a reference of its own, or another one of several columns.
func (t *Type) KeptBeside(field, column string) bool {
	if slices.Contains(t.Key, column) && column != field || t.Refers[column].To != nil && column != field {
		return true
	}
	for name, ref := range t.Refers {
		if name != field && slices.ContainsFunc(ref.Columns, func(p Pair) bool { return p.Here == column }) {
			return true
		}
	}
	return false
}
