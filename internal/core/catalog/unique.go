package catalog

import (
	"slices"

	"anagram/internal/core/record"
)

// UniqueSets gives the sets of fields of which no two records may have the same values:
// those that a place holds unique and those that the catalog names. Sets that hold the
// whole key are left out, as keys differ anyhow, unless the environment compares one of their
// columns otherwise; and so are sets with a column that is not among the fields: what the
// other side has in it is not known.
func (t *Type) UniqueSets(place Place, shape, fields []record.Field) [][]string {
	var out [][]string
	add := func(set []string) {
		if len(set) == 0 {
			return
		}
		whole := !slices.ContainsFunc(t.Key, func(field string) bool { return !slices.Contains(set, field) })
		known := !slices.ContainsFunc(set, func(name string) bool { return !named(shape, name) && !named(fields, name) })
		twice := slices.ContainsFunc(out, func(have []string) bool { return slices.Equal(have, set) })
		loose := slices.ContainsFunc(set, func(name string) bool { column, _ := place.Column(name); return column.Loose })
		if (!whole || loose) && known && !twice {
			out = append(out, set)
		}
	}
	for _, columns := range append(slices.Clone(place.Unique), place.Primary) {
		add(fieldsOf(t, columns))
	}
	for _, set := range t.Unique {
		add(set)
	}
	return out
}

// fieldsOf names the fields that are kept in some columns, each once.
func fieldsOf(t *Type, columns []string) []string {
	var out []string
	for _, column := range columns {
		field := column
		for _, name := range sortedNames(t.Refers) {
			pairs := t.Refers[name].Columns
			inside := !slices.ContainsFunc(pairs, func(p Pair) bool { return !slices.Contains(columns, p.Here) })
			if len(pairs) > 0 && inside && slices.ContainsFunc(pairs, func(p Pair) bool { return p.Here == column }) {
				field = name
			}
		}
		if !slices.Contains(out, field) {
			out = append(out, field)
		}
	}
	return out
}

func named(fields []record.Field, name string) bool {
	return slices.ContainsFunc(fields, func(f record.Field) bool { return f.Name == name })
}
