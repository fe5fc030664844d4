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
	t.PartOf = Noted{Name: to, Why: why, Sure: t.KeySure && t.score.stated}
}

// areas groups types by the first word of their names, and the others by what they
// refer to.
func areas(types []*Type) []Area {
	areaOf := byFirstWord(types)
	alike := maps.Clone(areaOf)
	// The others go where all that they refer to is, as far as that is one area.
	for range types {
		for _, t := range types {
			if areaOf[t.Name] != "" {
				continue
			}
			if one := areaReferred(t, areaOf); one != "" {
				areaOf[t.Name] = one
			}
		}
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
	for _, t := range types {
		switch area := areaOf[t.Name]; {
		case area == "":
			put("general", "the rest", t.Name)
		case alike[t.Name] == "":
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

// byFirstWord gives the areas of types whose names begin alike, unless most do.
func byFirstWord(types []*Type) map[string]string {
	word := func(name string) string { first, _, _ := strings.Cut(name, "_"); return first }
	count := map[string]int{}
	for _, t := range types {
		count[word(t.Name)]++
	}
	out := map[string]string{}
	for _, t := range types {
		if first := word(t.Name); count[first] > 1 && count[first]*2 <= len(types) {
			out[t.Name] = first
		}
	}
	return out
}

// areaReferred gives the one area in which all that a type refers to is, "" where there are
// several or none. A part goes where its owner is.
func areaReferred(t *Type, areaOf map[string]string) string {
	one := areaOf[t.PartOf.Name]
	if t.PartOf.Name != "" {
		return one
	}
	for _, r := range t.Refers {
		at := areaOf[r.To]
		if r.To == t.Name {
			continue
		}
		if one == "" {
			one = at
		} else if at != one {
			return ""
		}
	}
	return one
}
