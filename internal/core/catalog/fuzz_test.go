package catalog

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"anagram/internal/core/record"
)

// FuzzParse reads anything as a catalog: what is one reads again as the same, and the
// addresses of its records read back as their keys.
func FuzzParse(f *testing.F) {
	f.Add([]byte("types:\n  a: {at: {x: y}, key: [b], refers: {b: a}, local: {c: {d: e}}, stamp: {at: f}}\nareas: {z: [a]}\n"))
	f.Add([]byte("types: &x\n  a: *x\n"))
	f.Add([]byte("types:\n  a: {key: [p, q, b], id: i, refers: {p: a, q: a}}\n  d: {key: [x, y, z], id: i, refers: {x: a, y: [a, d], z: a}}\n"))
	shipped, err := filepath.Glob("../../*/*/catalog.yaml")
	require.NoError(f, err)
	more, err := filepath.Glob("../../*/*/*/catalog.yaml")
	require.NoError(f, err)
	require.NotEmpty(f, append(shipped, more...), "the catalogs that ship with the program")
	for _, path := range append(shipped, more...) {
		source, err := os.ReadFile(path)
		require.NoError(f, err)
		f.Add(source)
	}
	f.Fuzz(func(t *testing.T, source []byte) {
		c, err := Parse("catalog.yaml", source)
		if err != nil {
			return
		}
		again, err := Parse("catalog.yaml", c.Source)
		require.NoError(t, err)
		require.Equal(t, c.Names(), again.Names())
		shapes := record.Shapes{}
		for _, typ := range c.Types {
			for _, name := range typ.Key {
				field := record.Field{Name: name, Kind: record.Text}
				if to := typ.Refers[name].To; len(to) == 1 {
					field.Kind, field.Refers = record.Reference, to[0]
				} else if len(to) > 1 {
					field.Kind, field.Among = record.Reference, to
				}
				shapes[typ.Name] = append(shapes[typ.Name], field)
			}
		}
		seen := map[string]string{}
		for _, typ := range c.Types {
			for _, text := range []string{"A", "~", "a/b", "", "null"} {
				key, ok := sampleKey(t, c, shapes, typ.Name, text, 0)
				if !ok {
					continue
				}
				address := c.Address(typ.Name, key)
				order := typ.Name + key.Order()
				if other, taken := seen[address]; taken {
					require.Equal(t, other, order, "two keys are %s", address)
				}
				seen[address] = order
				back, parsed, err := c.ParseAddress(shapes, address)
				require.NoError(t, err, address)
				require.Equal(t, order, back+parsed.Order(), address)
			}
		}
	})
}

// sampleKey makes a key whose texts are all the same; "null" leaves references null.
func sampleKey(t *testing.T, c *Catalog, shapes record.Shapes, typ, text string, depth int) (record.Key, bool) {
	t.Helper()
	if depth > 6 || len(shapes[typ]) == 0 {
		return record.Key{}, false
	}
	var parts []record.Value
	for _, field := range shapes[typ] {
		if field.Kind == record.Text {
			v, err := record.TextValue(text)
			require.NoError(t, err)
			parts = append(parts, v)
			continue
		}
		to := field.Refers
		if len(field.Among) > 0 {
			to = field.Among[len(text)%len(field.Among)]
		}
		if text == "null" || to == typ && (depth > 2 || len(text)+len(parts)&1 == 0) {
			parts = append(parts, record.NullValue())
			continue
		}
		inner, ok := sampleKey(t, c, shapes, to, text, depth+1)
		if !ok {
			return record.Key{}, false
		}
		if len(field.Among) > 0 {
			parts = append(parts, record.AmongValue(to, inner))
		} else {
			parts = append(parts, record.ReferenceValue(to, inner))
		}
	}
	return shapes.Key(typ, parts), true
}
