package catalog

import (
	"slices"

	"anagram/internal/core/record"
)

// BesideOf lists the columns of a place that no compared field is kept in and that nothing
// but an import has a reason to change: not stamps, derived and ignored ones. Secret ones
// are never read.
func (t *Type) BesideOf(place Place, fields []record.Field) []string {
	kept := append([]string{t.ID, t.StampAt, t.StampBy, t.CreatedAt, t.CreatedBy}, t.Derived...)
	for _, field := range fields {
		kept = append(kept, t.Stored(field.Name)...)
	}
	for _, field := range t.Key {
		kept = append(kept, t.Stored(field)...)
	}
	var out []string
	for _, column := range place.Columns {
		if !column.Derived && !column.Unreadable && !column.Follows && !slices.Contains(kept, column.Name) &&
			!t.Ignores(column.Name) && !slices.Contains(t.Secret, column.Name) {
			out = append(out, column.Name)
		}
	}
	return out
}
