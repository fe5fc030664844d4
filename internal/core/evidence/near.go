package evidence

import (
	"slices"
	"strings"
)

// otherWords end like an id and are none.
var otherWords = map[string]bool{
	"paid": true, "unpaid": true, "prepaid": true, "valid": true, "invalid": true, "void": true, "grid": true, "bid": true,
	"aid": true, "mid": true, "solid": true, "liquid": true, "fluid": true,
	"hybrid": true, "acid": true, "raid": true, "rapid": true, "lid": true, "kid": true, "maid": true, "laid": true, "said": true,
	"covid": true, "pyramid": true,
}

// IDName reports whether a name is one that internal ids have.
func IDName(name string) bool {
	lower := strings.ToLower(name)
	word := lower[strings.LastIndex(lower, "_")+1:]
	return strings.HasSuffix(lower, "id") && !otherWords[word] || strings.HasPrefix(lower, "id_") ||
		strings.HasSuffix(lower, "_ids") || lower == "ids" || strings.HasPrefix(lower, "fk_")
}

// Named is what names say of the type that a column may point at.
type Named struct {
	Type, Place string // names of the record type and of its place
	Singular    string // of the place, without its schema
	ID          string // its internal id
	Itself      bool   // it is the type that the column belongs to
}

// Near says how near the name of a column is to that of a type: 3 for the same word, 2 and 1
// for a part of it, 0 for another.
func Near(column string, to Named) int {
	word := strings.ToLower(column)
	base := stem(word)
	id := base != word // the name says that it is an id
	name, place := strings.ToLower(to.Type), strings.ToLower(to.Place)
	if _, bare, ok := strings.Cut(place, "."); ok {
		place = bare
	}
	one := strings.TrimSuffix(base, "s")
	switch {
	case base == "":
		return 0
	case to.Itself && (base == "parent" || base == "pid" || strings.HasPrefix(base, "parent_") || strings.HasSuffix(base, "_parent")):
		return 3
	case base == name || one == name || base == place || base == strings.ToLower(to.Singular) || word == strings.ToLower(to.ID) &&
		!to.Itself && word != "id":
		return 3
	case !id && (one == last(name) && len(one) > 3 || strings.HasSuffix(base, "_"+name)):
		return 1
	case !id:
		return 0
	}
	return partOf(base, one, name)
}

// stem is the name of a column without what says that it is an id.
func stem(word string) string {
	base := word
	for _, affix := range []string{"_id", "_fk", "_ref", "_key", "id"} {
		if cut, ok := strings.CutSuffix(base, affix); ok && cut != "" {
			base = cut
			break
		}
	}
	for _, affix := range []string{"fk_", "id_", "ref_"} {
		base = strings.TrimPrefix(base, affix)
	}
	return strings.Trim(base, "_")
}

// last is the last word of a name.
func last(name string) string { return name[strings.LastIndex(name, "_")+1:] }

// partOf says how near two names are of which one may be a part of the other.
func partOf(base, one, name string) int {
	flat := func(s string) string { return strings.ReplaceAll(s, "_", "") }
	for _, near := range []bool{strings.HasSuffix(base, "_"+name), strings.HasSuffix(one, "_"+name),
		strings.HasSuffix(name, "_"+base), strings.HasSuffix(name, "_"+one), one == last(name), flat(base) == flat(name)} {
		if near {
			return 2
		}
	}
	if strings.HasSuffix(base, "_"+last(name)) && len(last(name)) > 2 || strings.HasPrefix(name, base+"_") ||
		strings.HasSuffix(base, name) && len(name) > 3 {
		return 1
	}
	return 0
}

// idStem is the name of a column without what says that it is an id.
func idStem(column string) (string, bool) {
	lower := strings.ToLower(column)
	for _, affix := range []string{"_id", "_key", "_ref", "_no", "id"} {
		if cut, ok := strings.CutSuffix(lower, affix); ok && cut != "" {
			return cut, true
		}
	}
	return "", false
}

// Chooses reports whether a name is that of a column which says of what type the id in another
// is: object_type beside object_id.
func Chooses(column, id string) bool {
	stem, ok := idStem(id)
	if !ok {
		return false
	}
	lower := strings.ToLower(column)
	for _, affix := range []string{"_type", "_kind", "_table", "_model", "_class", "_name", "_entity", "type", "kind"} {
		if lower == stem+affix {
			return true
		}
	}
	generic := slices.Contains([]string{"object", "entity", "res", "record", "item", "target", "source", "owner", "parent", "subject",
		"foreign", "link", "linked", "related", "ref", "model", "element"}, stem)
	return lower == stem || generic && slices.Contains([]string{"model", "type", "kind", "entity", "object", "table", "table_name",
		"object_type", "entity_type"}, lower)
}
