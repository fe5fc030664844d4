package draft

import (
	"maps"
	"slices"
	"strings"
)

// findOwner takes a type whose key begins with a reference to another as part of it.
func (m *maker) findOwner(t *Type) {
	if len(t.Key) < 2 {
		return
	}
	to := t.refersTo(t.Key[0])
	if to == "" || to == t.Name {
		return
	}
	why := "its key is that of its " + to + " and something more"
	if !slices.ContainsFunc(t.Key, func(field string) bool { return t.refersTo(field) == "" }) {
		why = "a link, and " + to + " stands first in its key"
	}
	t.PartOf = Noted{to, why}
}

// areas groups types by the first word of their names, and the others by what they
// refer to.
func areas(types []*Type) []Area {
	word := func(name string) string { first, _, _ := strings.Cut(name, "_"); return first }
	count := map[string]int{}
	for _, t := range types {
		count[word(t.Name)]++
	}
	byName := map[string]*Area{}
	put := func(area, why, typ string) {
		if byName[area] == nil {
			byName[area] = &Area{Name: area, Why: why}
		}
		if len(why) > len(byName[area].Why) {
			byName[area].Why = why
		}
		byName[area].Types = append(byName[area].Types, typ)
	}
	areaOf := map[string]string{}
	for _, t := range types {
		if first := word(t.Name); count[first] > 1 && count[first]*2 <= len(types) {
			areaOf[t.Name] = first
		}
	}
	// The others go where all that they refer to is, as far as that is one area.
	why := map[string]string{}
	for range types {
		for _, t := range types {
			if areaOf[t.Name] != "" {
				continue
			}
			one := areaOf[t.PartOf.Name]
			for _, r := range t.Refers {
				switch at := areaOf[r.To]; {
				case r.To == t.Name || t.PartOf.Name != "":
				case one == "":
					one = at
				case at != one:
					one = "-"
				}
			}
			if one != "" && one != "-" {
				areaOf[t.Name], why[t.Name] = one, "refer"
			}
		}
	}
	for _, t := range types {
		switch area := areaOf[t.Name]; {
		case area == "":
			put("general", "the rest", t.Name)
		case why[t.Name] != "":
			put(area, "their names begin alike, or they refer to such", t.Name)
		default:
			put(area, "their names begin alike", t.Name)
		}
	}
	var out []Area
	for _, name := range slices.Sorted(maps.Keys(byName)) {
		out = append(out, *byName[name])
	}
	return out
}
