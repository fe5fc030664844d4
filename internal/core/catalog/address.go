package catalog

import (
	"slices"
	"strings"

	"anagram/internal/core/record"
)

// Address gives a record's name in text: its type and the parts of its key. A
// reference contributes the parts of the key that it points at; in a tree, whose key
// refers to its own type, that makes the path from the root. Two references of changing
// length in one key are each written as one part, so that no two keys share an address.
func (c *Catalog) Address(typ string, key record.Key) string {
	out := typ
	for _, part := range c.parts(typ, key.Parts()) {
		out += "/" + part
	}
	return out
}

func (c *Catalog) parts(typ string, values []record.Value) []string {
	t, ok := c.byName[typ]
	if !ok || len(t.Key) != len(values) {
		out := make([]string, len(values))
		for i, v := range values {
			out[i] = record.EncodePart(v)
		}
		return out
	}
	var out []string
	for i, v := range values {
		ref := t.Refers[t.Key[i]]
		path := func() []string {
			inner := c.parts(v.Refers(), v.Parts())
			if ref.One() == "" { // the type tells two records with one key apart
				inner = append([]string{v.Refers()}, inner...)
			}
			return inner
		}
		switch {
		case ref.To == nil:
			out = append(out, record.EncodePart(v))
		case v.IsNull() && ref.One() == typ:
			// the root of a tree: its path starts with itself
		case v.IsNull(): // as many parts as the key has that it would point at
			out = append(out, slices.Repeat([]string{"~"}, t.layout[i].nulls)...)
		case t.layout[i].folded:
			out = append(out, record.EncodePath(path()))
		default:
			inner := path()
			if record.Nulls(inner[0]) { // the record is there, only its key begins with a null
				inner[0] += "~"
			}
			out = append(out, inner...)
		}
	}
	return out
}

// partLayout is how one field of a key stands in addresses.
type partLayout struct {
	folded bool // see folds
	nulls  int  // parts that a null takes
}

// layoutOf works out once how the key of a type stands in addresses.
func (c *Catalog) layoutOf(t *Type) []partLayout {
	out := make([]partLayout, len(t.Key))
	for i, field := range t.Key {
		out[i] = partLayout{folded: c.folds(t, field), nulls: c.leastOf(t, field, map[string]bool{})}
	}
	return out
}

// folds reports whether a reference in a key is written as one part: where two of them have
// paths of changing length, it could not be told where one ends.
func (c *Catalog) folds(t *Type, field string) bool {
	if !c.referenceChangesLength(t.Refers[field], map[string]bool{}) {
		return false
	}
	changing := 0
	for _, other := range t.Key {
		if c.referenceChangesLength(t.Refers[other], map[string]bool{}) {
			changing++
		}
	}
	return changing > 1
}

// changesLength reports whether keys of the type have addresses of different length.
func (c *Catalog) changesLength(typ string, seen map[string]bool) bool {
	t, ok := c.byName[typ]
	if !ok || seen[typ] {
		return seen[typ]
	}
	seen[typ] = true
	for _, field := range t.Key {
		if c.referenceChangesLength(t.Refers[field], seen) {
			return true
		}
	}
	delete(seen, typ)
	return false
}

// referenceChangesLength is changesLength for what a field points at; the keys of
// several types are taken to differ in length.
func (c *Catalog) referenceChangesLength(ref Reference, seen map[string]bool) bool {
	if ref.To == nil {
		return false
	}
	return ref.One() == "" || c.changesLength(ref.One(), seen)
}

// Path is the address of what a reference points at, without the record type.
func (c *Catalog) Path(v record.Value) string {
	return strings.Join(c.parts(v.Refers(), v.Parts()), "/")
}
