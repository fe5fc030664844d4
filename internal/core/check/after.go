package check

import (
	"slices"

	"anagram/internal/core/catalog"
	"anagram/internal/core/match"
	"anagram/internal/core/record"
)

// After are some fields of a record as they would stand once some of them were written: what a
// rule of the target, or a set of values that no two records may share, is asked about.
type After struct {
	Differ   []string       // those of the fields in which both sides differ
	Writes   []string       // those of them that are written; never nil
	Proposed bool           // they are what the finding proposes, the source's side taken where there is a choice
	Values   []record.Value // of all the fields, in their order
}

// Known reports whether all the values are there: nulls are not each other.
func (a After) Known() bool {
	return !slices.ContainsFunc(a.Values, func(v record.Value) bool { return v.IsNull() || v.IsAbsent() })
}

// After lists how fields may come to stand, by what may be approved of them: a new record gets
// all or nothing, what else it gets is the target's to say. At the import it is one, as approved.
func (f Facts) After(names []string) []After {
	differ, proposed := f.differing(names)
	combinations := Combinations(differ)
	switch {
	case f.Approved != nil:
		combinations = [][]string{slices.DeleteFunc(slices.Clone(differ),
			func(name string) bool { return !slices.Contains(f.Approved, name) })}
	case f.Adds:
		combinations = [][]string{differ}
	}
	out := make([]After, len(combinations))
	for i, writes := range combinations {
		out[i] = After{Differ: differ, Writes: append([]string{}, writes...), Proposed: slices.Equal(writes, proposed)}
		for _, name := range names {
			out[i].Values = append(out[i].Values, f.ValueAfter(name, writes))
		}
	}
	return out
}

// differing gives those of some fields in which both sides differ, and those of them that are
// written where the finding is approved, taking the source's side where a side has to be chosen.
// Of a record that is new these are all that are no part of the key.
func (f Facts) differing(names []string) (differ, proposed []string) {
	for _, name := range names {
		at := record.FieldAt(f.Fields, name)
		if at < 0 {
			// A part of the key stays, except of a record that gets the source's key.
			part := slices.Index(f.Type.Key, name)
			if slices.ContainsFunc(f.Found.Differences, func(d match.Difference) bool { return d.Key && d.Field == part }) {
				differ, proposed = append(differ, name), append(proposed, name)
			}
			continue
		}
		if f.Adds {
			differ, proposed = append(differ, name), append(proposed, name)
			continue
		}
		for _, d := range f.Found.Differences {
			if d.Field == at && !d.Key {
				differ = append(differ, name)
				if match.Propose(f.Found.Status, d.Moved) != match.Keep {
					proposed = append(proposed, name)
				}
			}
		}
	}
	return differ, proposed
}

// ValueAfter gives the value of a field, or of a part of the key, once some fields are written.
func (f Facts) ValueAfter(name string, writes []string) record.Value {
	at := record.FieldAt(f.Fields, name)
	switch {
	case at < 0:
		key := f.Found.Key
		if f.Found.Target != nil && f.Found.Target.Was != nil && !slices.Contains(writes, name) {
			key = *f.Found.Target.Was
		}
		return key.Parts()[slices.Index(f.Type.Key, name)]
	case f.Adds || slices.Contains(writes, name):
		return f.Found.Source.Values[at]
	default:
		return f.Found.Target.Values[at]
	}
}

// Tells reports whether it is known how the fields will stand: what a new record gets where a field
// of it is not approved is the target's to say.
func (f Facts) Tells(a After) bool { return !f.Adds || len(a.Writes) == len(a.Differ) }

// Judged are the rules of the place that can be tried: those about values alone, all of them
// compared.
func Judged(t *catalog.Type, place catalog.Place, keys, fields []record.Field) []catalog.Rule {
	all := slices.Concat(keys, fields)
	plain := func(name string) bool {
		i := record.FieldAt(all, name)
		_, words := t.Words[name]
		return i >= 0 && !words && !slices.Contains([]record.Kind{record.Reference, record.Woven, record.Bytes}, all[i].Kind)
	}
	var out []catalog.Rule
	for _, rule := range place.Rules {
		if !slices.ContainsFunc(rule.Columns, func(column string) bool { return !plain(column) }) {
			out = append(out, rule)
		}
	}
	return out
}

// Broken says that a rule of the place refuses the fields as they would stand.
func (f Facts) Broken(rule catalog.Rule, a After) On {
	free := slices.DeleteFunc(slices.Clone(a.Differ), func(name string) bool {
		column, _ := f.Place.Column(name)
		return f.Adds && MustBeGiven(column)
	})
	return On{Check: Breaks(f.Address, rule, free, f.Target), Fields: a.Differ, Writes: a.Writes, Partial: !a.Proposed}
}

// Demands reports whether a new record cannot do without what it would get of some fields.
func (f Facts) Demands(names, required []string) bool {
	_, proposed := f.differing(names)
	return f.Adds && !slices.ContainsFunc(proposed, func(name string) bool { return !slices.Contains(required, name) })
}
