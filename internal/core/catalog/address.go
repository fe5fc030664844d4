package catalog

import "anagram/internal/core/record"

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
		if c.changesLength(t.Refers[field], map[string]bool{}) {
			changing++
		}
	}
	var out []string
	for i, v := range values {
		to := t.Refers[t.Key[i]]
		switch {
		case to == "":
			out = append(out, record.EncodePart(v))
		case v.IsNull() && to == typ:
			// the root of a tree: its path starts with itself
		case v.IsNull():
			out = append(out, "~")
		case changing > 1 && c.changesLength(to, map[string]bool{}):
			out = append(out, record.EncodePath(c.parts(to, v.Parts())))
		default:
			out = append(out, c.parts(to, v.Parts())...)
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
		if to := t.Refers[field]; to != "" && c.changesLength(to, seen) {
			return true
		}
	}
	delete(seen, typ)
	return false
}
