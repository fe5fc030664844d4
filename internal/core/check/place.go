package check

import (
	"slices"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
)

// Written is a record that would be written, with the place that is to take it. The same is
// asked of it at the match and again at the import, when the place may be another one.
type Written struct {
	Address, Target string
	Type            *catalog.Type
	Place           catalog.Place
	Adds, Removes   bool
}

// Rights checks that the account may do what the import of a record would; ok is true where
// there is something to say.
func (w Written) Rights() (c Check, ok bool) {
	switch {
	case w.Removes && w.Place.CannotDelete:
		return MayNotRemove(w.Address, w.Target, w.Place.Name), true
	case w.Removes:
		return Check{}, false
	case w.Adds && w.Place.CannotInsert, !w.Adds && w.Place.CannotUpdate:
		return NoRight(w.Address, w.Target, w.Place.Name, w.Adds), true
	default:
		return Check{}, false
	}
}

// Value checks a value that would be written into a field; ok is true where there is
// something to say.
func (w Written) Value(field string, v record.Value) (c Check, ok bool) {
	column, known := w.Place.Column(field)
	if !known || w.Removes || v.IsAbsent() || v.IsNull() && w.Type.Refers[field].None != nil {
		return Check{}, false
	}
	return Fits(w.Address, w.Target, column, v, w.Adds && (slices.Contains(w.Type.Key, field) || MustBeGiven(column)))
}

// MustBeGiven reports whether a new record cannot do without a value for a column.
func MustBeGiven(column catalog.Column) bool {
	return column.Required && !column.Default
}
