package catalog

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"anagram/internal/core/record"
)

// world is a generated catalog with the shapes of its keys.
type world struct {
	*rand.Rand
	catalog *Catalog
	shapes  record.Shapes
	names   []string
}

// newWorld makes a catalog whose keys have texts, numbers, references to earlier types, to
// their own (trees) and to one of several.
func newWorld(t *testing.T, seed uint64) world {
	t.Helper()
	w := world{Rand: rand.New(rand.NewPCG(seed, 7)), shapes: record.Shapes{}}
	text := "types:\n"
	for i := range 2 + w.IntN(5) {
		name := fmt.Sprintf("t%d", i)
		var key, refers []string
		var shape []record.Field
		add := func(f record.Field, refer string) {
			f.Name = fmt.Sprintf("f%d", len(key))
			key, shape = append(key, f.Name), append(shape, f)
			if refer != "" {
				refers = append(refers, f.Name+": "+refer)
			}
		}
		if w.IntN(3) == 0 {
			add(record.Field{Kind: record.Reference, Refers: name}, name)
		}
		for range w.IntN(3) {
			if len(w.names) == 0 {
				break
			}
			to := w.names[w.IntN(len(w.names))]
			other := w.names[w.IntN(len(w.names))]
			if w.IntN(4) == 0 && other != to {
				add(record.Field{Kind: record.Reference, Among: []string{to, other}}, "["+to+", "+other+"]")
			} else {
				add(record.Field{Kind: record.Reference, Refers: to}, to)
			}
		}
		kinds := []record.Kind{record.Text, record.Integer, record.Date, record.Decimal, record.Boolean}
		for range 1 + w.IntN(2) {
			add(record.Field{Kind: kinds[w.IntN(len(kinds))]}, "")
		}
		text += fmt.Sprintf("  %s: {id: id, key: [%s], refers: {%s}}\n", name, strings.Join(key, ", "), strings.Join(refers, ", "))
		w.names, w.shapes[name] = append(w.names, name), shape
	}
	var err error
	w.catalog, err = Parse("generated", []byte(text))
	require.NoError(t, err, text)
	return w
}

var oddParts = []string{"A", "B", "a b", "", "~", "%7E", "a/b", "/", "//", "*", "?", "%", " lead", "trail ", "ä", "\x00", "\n", "t0", "t1", "日本"}

func (w world) key(t *testing.T, typ string, depth int) record.Key {
	t.Helper()
	var parts []record.Value
	for _, f := range w.shapes[typ] {
		if f.Kind == record.Reference {
			to := f.Refers
			if len(f.Among) > 0 {
				to = f.Among[w.IntN(2)]
			}
			switch {
			case depth > 3 || w.IntN(5) == 0:
				parts = append(parts, record.NullValue())
			case len(f.Among) > 0:
				parts = append(parts, record.AmongValue(to, w.key(t, to, depth+1)))
			default:
				parts = append(parts, record.ReferenceValue(to, w.key(t, to, depth+1)))
			}
			continue
		}
		text := map[record.Kind][]string{record.Text: oddParts, record.Integer: {"0", "-7", "12"}, record.Date: {"2026-01-02", "0999-12-31"},
			record.Decimal: {"1.5", "-0.25", "10"}, record.Boolean: {"true", "false"}}[f.Kind]
		v, err := record.Parse(f.Kind, text[w.IntN(len(text))])
		require.NoError(t, err)
		if w.IntN(10) == 0 {
			v = record.NullValue()
		}
		parts = append(parts, v)
	}
	return w.shapes.Key(typ, parts)
}

// TestAddressesAndTheirInverse makes keys of generated catalogs: an address reads back as
// its key, and no two keys have the same one.
func TestAddressesAndTheirInverse(t *testing.T) {
	for seed := range uint64(120) {
		w := newWorld(t, seed)
		seen := map[string]string{}
		for range 120 {
			typ := w.names[w.IntN(len(w.names))]
			key := w.key(t, typ, 0)
			address := w.catalog.Address(typ, key)
			text := string(record.AppendKey(nil, key))
			if other, ok := seen[address]; ok {
				require.Equal(t, other, text, "two keys are %s in\n%s", address, w.catalog.Source)
			}
			seen[address] = text
			back, parsed, err := w.catalog.ParseAddress(w.shapes, address)
			require.NoError(t, err, "%s of %s in\n%s", address, text, w.catalog.Source)
			require.Equal(t, typ, back)
			require.Equal(t, text, string(record.AppendKey(nil, parsed)), "%s in\n%s", address, w.catalog.Source)
			p, err := record.ParsePattern(address)
			require.NoError(t, err)
			require.True(t, p.Match(address) && p.Exact() && p.Type() == typ, "an address is a pattern of itself: %s", address)
		}
	}
}

func TestTypesComeInDependencyOrder(t *testing.T) {
	for seed := range uint64(60) {
		w := newWorld(t, seed)
		at := map[string]int{}
		for i, name := range w.catalog.Names() {
			at[name] = i
		}
		require.Len(t, at, len(w.names))
		for _, typ := range w.catalog.Types {
			for _, to := range typ.Targets() {
				require.LessOrEqual(t, at[to], at[typ.Name], "%s refers to %s", typ.Name, to)
			}
		}
	}
}
