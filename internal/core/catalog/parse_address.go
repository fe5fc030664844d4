package catalog

import (
	"fmt"
	"slices"
	"strings"

	"anagram/internal/core/record"
)

// ParseAddress reads a record's address, TYPE/PART/PART, into its type and key. Shapes
// say what kinds the parts are. A star stands for itself here.
func (c *Catalog) ParseAddress(shapes record.Shapes, address string) (string, record.Key, error) {
	typ, path, ok := strings.Cut(address, "/")
	if _, known := c.byName[typ]; !known {
		return "", record.Key{}, fmt.Errorf("%q is no address: the catalog has no record type %q", address, typ)
	}
	if !ok {
		return "", record.Key{}, fmt.Errorf("%q is no address: the key is missing", address)
	}
	key, err := c.ParsePath(shapes, typ, path)
	return typ, key, err
}

// ParsePath reads an address without its type.
func (c *Catalog) ParsePath(shapes record.Shapes, typ, path string) (record.Key, error) {
	parts := strings.Split(path, "/")
	values, rest, err := c.takeParts(shapes, typ, parts, 0)
	if err == nil && len(rest) > 0 {
		err = fmt.Errorf("%d parts are too many%s", len(parts), c.encoded(typ, parts, len(parts)-len(rest)))
	}
	if err != nil {
		return record.Key{}, fmt.Errorf("%q is no key of %s: %w", path, typ, err)
	}
	return shapes.Key(typ, values), nil
}

// encoded gives "; did you mean …?" where the last part of a key was written with its slashes
// as they are.
func (c *Catalog) encoded(typ string, parts []string, taken int) string {
	t := c.byName[typ]
	if taken == 0 || t.Refers[t.Key[len(t.Key)-1]].To != nil {
		return ""
	}
	head := append(slices.Clone(parts[:taken-1]), strings.Join(parts[taken-1:], "%2F"))
	return fmt.Sprintf("; a slash in a part is written %%2F: did you mean %s/%s?", typ, strings.Join(head, "/"))
}

// takeParts reads the key of a type from the head of parts; keep of them have to be left
// for others.
func (c *Catalog) takeParts(shapes record.Shapes, typ string, parts []string, keep int) ([]record.Value, []string, error) {
	t, ok := c.byName[typ]
	shape := shapes[typ]
	if !ok || len(shape) != len(t.Key) {
		return nil, nil, fmt.Errorf("the record type %q is not described", typ)
	}
	values := make([]record.Value, len(shape))
	for i, field := range shape {
		after := keep
		for _, later := range t.layout[i+1:] {
			after += later.nulls
		}
		ref := t.Refers[field.Name]
		var err error
		if values[i], parts, err = c.takeField(shapes, typ, field, ref, parts, after, t.layout[i]); err != nil {
			return nil, nil, err
		}
	}
	return values, parts, nil
}

// takeField reads one field of a key.
func (c *Catalog) takeField(shapes record.Shapes, typ string, field record.Field, ref Reference, parts []string, keep int,
	l partLayout) (record.Value, []string, error) {
	missing := len(parts) == 0 && (ref.To == nil || l.folded)
	switch {
	case ref.To != nil && ref.One() == typ && len(parts)-keep <= 0:
		return record.NullValue(), parts, nil // the root of a tree
	case missing:
		return record.Value{}, nil, fmt.Errorf("a part for %s is missing", field.Name)
	case ref.To == nil:
		v, err := parsePart(field, parts[0])
		return v, parts[1:], err
	case len(parts) > 0 && parts[0] == "~" && ref.One() != typ:
		rest, err := takeNull(field.Name, parts, l.nulls)
		return record.NullValue(), rest, err
	case !l.folded && len(parts) > 0 && record.Nulls(parts[0]) && len(parts[0]) > 1:
		return c.takeReference(shapes, ref, append([]string{parts[0][1:]}, parts[1:]...), keep)
	case !l.folded:
		return c.takeReference(shapes, ref, parts, keep)
	}
	inner, err := record.DecodePart(parts[0])
	if err != nil {
		return record.Value{}, nil, err
	}
	v, rest, err := c.takeReference(shapes, ref, strings.Split(inner, "/"), 0)
	if err == nil && len(rest) > 0 {
		err = fmt.Errorf("%s has too many parts", field.Name)
	}
	return v, parts[1:], err
}

// takeNull takes the n parts of a null reference.
func takeNull(name string, parts []string, n int) ([]string, error) {
	if len(parts) < n || slices.ContainsFunc(parts[:n], func(p string) bool { return p != "~" }) {
		return nil, fmt.Errorf("%s is null, which is written %s", name, strings.TrimSuffix(strings.Repeat("~/", n), "/"))
	}
	return parts[n:], nil
}

func (c *Catalog) takeReference(shapes record.Shapes, ref Reference, parts []string, keep int) (record.Value, []string, error) {
	to := ref.One()
	if to == "" {
		if len(parts) == 0 {
			return record.Value{}, nil, fmt.Errorf("a record type is missing, one of %s", strings.Join(ref.To, ", "))
		}
		to, parts = parts[0], parts[1:]
		if !slices.Contains(ref.To, to) {
			return record.Value{}, nil, fmt.Errorf("%q is none of the record types %s", to, strings.Join(ref.To, ", "))
		}
	}
	values, rest, err := c.takeParts(shapes, to, parts, keep)
	if err != nil {
		return record.Value{}, nil, err
	}
	key := shapes.Key(to, values)
	if ref.One() == "" {
		return record.AmongValue(to, key), rest, nil
	}
	return record.ReferenceValue(to, key), rest, nil
}

// least is the smallest number of parts that a field takes.
func (c *Catalog) least(ref Reference, seen map[string]bool) int {
	if ref.To == nil || ref.One() == "" {
		return 1
	}
	t := c.byName[ref.One()]
	if t == nil || seen[t.Name] {
		return 0
	}
	seen[t.Name] = true
	n := 0
	for _, field := range t.Key {
		n += c.leastOf(t, field, seen)
	}
	delete(seen, t.Name)
	return max(n, 1)
}

// leastOf is least for a field of a key.
func (c *Catalog) leastOf(t *Type, field string, seen map[string]bool) int {
	if c.folds(t, field) {
		return 1
	}
	return c.least(t.Refers[field], seen)
}

func parsePart(field record.Field, part string) (record.Value, error) {
	if part == "~" {
		return record.NullValue(), nil
	}
	text, err := record.DecodePart(part)
	if err != nil {
		return record.Value{}, err
	}
	v, err := record.Parse(field.Kind, text)
	if err != nil {
		err = fmt.Errorf("%s: %w", field.Name, err)
	}
	return v, err
}
