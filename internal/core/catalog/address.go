package catalog

import (
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
	changing := 0
	for _, field := range t.Key {
		if c.referenceChangesLength(t.Refers[field], map[string]bool{}) {
			changing++
		}
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
		case v.IsNull():
			out = append(out, "~")
		case changing > 1 && c.referenceChangesLength(ref, map[string]bool{}):
			out = append(out, record.EncodePath(path()))
		default:
			out = append(out, path()...)
		}
	}
	return out
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
