package evidence

import (
	"slices"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
)

// Seen is a record type of a catalog with what was seen of it in one environment.
type Seen struct {
	Type  *catalog.Type
	Place catalog.Place
	Table *Table // nil where nothing was
	// Columns are those that are suspected, as Suspicious lists them; nil for a type that only
	// its ids are looked at of.
	Columns []string
	// Texts are columns of texts and documents within which ids may stand, with what was seen
	// of them; nil where nothing was.
	Texts     []string
	TextsSeen *Table
}

// Suspect is a field that a catalog takes for a plain value and that behaves like an internal
// id.
type Suspect struct {
	Type, Field string
	To          string // the record type whose ids it seems to hold, "" where only its name speaks
	Key         bool   // it is part of the key
	// Form and Text say how ids stand within its value, as the catalog writes it; "" where the
	// value is one.
	Form, Text string
}

// Suspicious lists the columns of a type that may hold internal ids though the catalog says
// nothing of it: whole numbers that travel, or texts that are named like ids.
func Suspicious(t *catalog.Type, place catalog.Place) []string {
	var out []string
	for _, c := range place.Columns {
		_, refers := t.Refers[c.Name]
		number := c.Kind == record.Integer || c.Kind == record.Text && IDName(c.Name)
		if number && !refers && !t.Serves(c.Name) && !c.Derived && !c.Unreadable && t.Carried(c.Name) &&
			!slices.Contains(t.Plain, c.Name) && t.Retired.Field != c.Name && !t.Chooses(c.Name) {
			out = append(out, c.Name)
		}
	}
	return out
}

// SuspiciousTexts lists the columns within whose values ids may stand though the catalog says
// nothing of it.
func SuspiciousTexts(t *catalog.Type, place catalog.Place) []string {
	var out []string
	for _, c := range place.Columns {
		_, refers := t.Refers[c.Name]
		text := c.Kind == record.Text && len(c.Limits.OneOf) == 0 || c.Kind == record.JSON
		if text && !refers && !t.Serves(c.Name) && !c.Derived && !c.Unreadable && t.Carried(c.Name) &&
			!slices.Contains(t.Plain, c.Name) && !slices.Contains(t.Key, c.Name) && t.Title != c.Name {
			out = append(out, c.Name)
		}
	}
	return out
}

// unlikely is how unlikely it must be that other numbers look like ids where no name says it.
const unlikely = 1e-6

// Suspects looks for fields that behave like internal ids in one environment.
func Suspects(all []Seen) (out []Suspect) {
	for _, s := range all {
		for _, name := range s.Columns {
			one := Suspect{Type: s.Type.Name, Field: name, Key: slices.Contains(s.Type.Key, name)}
			one.To = likelyIDs(s, name, all)
			if one.To != "" || IDName(name) && (one.Key || chooser(s.Place, name)) {
				out = append(out, one)
			}
		}
		for _, name := range s.Texts {
			out = append(out, within(s, name, all)...)
		}
	}
	return out
}

// chooser reports whether a place has a column beside an id that seems to say of what type it is.
func chooser(place catalog.Place, id string) bool {
	return slices.ContainsFunc(place.Columns, func(c catalog.Column) bool { return c.Name != id && Chooses(c.Name, id) })
}

// within lists the ways in which ids seem to stand in the values of a column.
func within(s Seen, column string, all []Seen) (out []Suspect) {
	if s.TextsSeen == nil || s.TextsSeen.Columns[column] == nil {
		return nil
	}
	c, _ := s.Place.Column(column)
	some := s.TextsSeen.Columns[column].Some
	for _, w := range Ways(column, c.Kind, some) {
		found := &Column{}
		for _, text := range some {
			for _, id := range w.Find(text) {
				found.Values = append(found.Values, Number(id))
			}
		}
		if to := whoseInside(found, w.Hint, w.Form == "list", s, all); to != "" {
			out = append(out, Suspect{Type: s.Type.Name, Field: column, To: to, Form: w.Form, Text: w.Text})
		}
	}
	return out
}

// whoseInside gives the type all of whose ids some numbers are, by the name beside them or as no
// accident would make them that.
func whoseInside(found *Column, hint string, list bool, s Seen, all []Seen) string {
	best, closest := "", 0
	for _, other := range all {
		if other.Type.ID == "" || other.Table == nil || other.Table.Columns[other.Type.ID] == nil {
			continue
		}
		ids := other.Table.Columns[other.Type.ID]
		if len(found.Values) == 0 || !found.MayBe(ids) {
			continue
		}
		near := Near(hint, Named{Type: other.Type.Name, Place: other.Place.Name, ID: other.Type.ID, Itself: other.Type == s.Type})
		if near < 2 || !list && !IDName(hint) && near < 3 {
			near = 0
		}
		if h := found.Among(ids); h.Within < h.Values || near == 0 && found.ByChance(ids) > unlikely {
			continue
		}
		if best == "" || near > closest {
			best, closest = other.Type.Name, near
		}
	}
	return best
}

// likelyIDs gives the type whose ids a column seems to hold.
func likelyIDs(s Seen, column string, all []Seen) string {
	if s.Table == nil || s.Table.Columns[column] == nil || !s.Table.Columns[column].Whole() {
		return ""
	}
	c := s.Table.Columns[column]
	best, closest := "", 0
	for _, other := range all {
		if other.Type.ID == "" || other.Table == nil || other.Table.Columns[other.Type.ID] == nil {
			continue
		}
		ids := other.Table.Columns[other.Type.ID]
		if !c.MayBe(ids) {
			continue
		}
		near := Near(column, Named{Type: other.Type.Name, Place: other.Place.Name, ID: other.Type.ID, Itself: other.Type == s.Type})
		values, all := realValues(c, ids)
		if values == 0 || !all {
			continue
		}
		if near < 2 && c.ByChance(ids) > unlikely {
			continue
		}
		if near >= 2 && !IDName(column) && values < 2 {
			continue
		}
		if best == "" || near > closest {
			best, closest = other.Type.Name, near
		}
	}
	return best
}

// realValues counts the different values of a column but those that stand for nothing, and tells
// whether all of them are ids.
func realValues(c, ids *Column) (values int, all bool) {
	h := c.Among(ids)
	values = h.Values
	for _, none := range []string{"0", "-1"} {
		if c.Set()[Number(none)] > 0 && ids.Set()[Number(none)] == 0 {
			values--
		}
	}
	return values, h.Within >= values
}
