package agreed

import (
	"context"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/catalog"
	"anagram/internal/core/pairing"
	"anagram/internal/core/record"
	"anagram/internal/flow/session"
	"anagram/internal/store/workspace"
)

const ownedCatalog = "types:\n  u: {key: [code]}\n  v: {key: [u, n], refers: {u: u}, part_of: u}\n"

var ownedShapes = record.Shapes{
	"u": {{Name: "code", Kind: record.Text}},
	"v": {{Name: "u", Kind: record.Reference, Refers: "u"}, {Name: "n", Kind: record.Text}},
}

func partKey(owner, n string) record.Key {
	return ownedShapes.Key("v", []record.Value{record.ReferenceValue("u", textKey(owner)), textOr(n)})
}

// quiet is a Progress that nobody looks at.
type quiet struct{}

func (quiet) Start(string, int) {}
func (quiet) Add(int)           {}
func (quiet) Done()             {}

func testSession(t *testing.T) *session.Session {
	t.Helper()
	return &session.Session{Workspace: &workspace.Workspace{Dir: t.TempDir()}, Who: "mara",
		Now: func() time.Time { return time.Unix(0, 0) }, Progress: quiet{}}
}

// agreedNow reads the agreed values of a pair by the keys that they are kept by.
// Of what follows its owner it does not matter by which of the owner's names it is kept.
func agreedNow(t *testing.T, s *session.Session, typ string, names *pairing.Names) map[string]string {
	t.Helper()
	out := map[string]string{}
	p, err := Open(s, "a", "b")
	require.NoError(t, err)
	if p == nil {
		return out
	}
	defer p.Close()
	c, err := catalog.Parse("test", []byte(ownedCatalog))
	require.NoError(t, err)
	pt, _ := p.Manifest.Type(typ)
	last := ""
	for rec, err := range p.Records(context.Background(), typ) {
		require.NoError(t, err)
		address := c.Address(typ, rec.Key)
		if typ == "v" {
			address = c.Address(typ, names.Source(typ, rec.Key))
		}
		require.NotContains(t, out, address, "a key is kept once")
		assert.Greater(t, rec.Key.Order(), last, "in key order")
		last = rec.Key.Order()
		var values []string
		for i, v := range rec.Values {
			if !v.IsAbsent() {
				values = append(values, pt.Fields[i].Name+"="+v.Text())
			}
		}
		out[address] = strings.Join(values, " ")
	}
	return out
}

// TestWhatWasImportedOverWhatWasAgreed compares the overlay with a map, on generated
// records of which some have another key in the target, and so have their parts.
func TestWhatWasImportedOverWhatWasAgreed(t *testing.T) {
	ctx := context.Background()
	c, err := catalog.Parse("test", []byte(ownedCatalog))
	require.NoError(t, err)
	random := rand.New(rand.NewPCG(7, 11))
	for round := range 60 {
		s := testSession(t)
		names := pairing.New(c, ownedShapes)
		type one struct {
			typ            string
			source, target record.Key // under which either side knows it
			before, fresh  map[string]string
			kept, stands   record.Key
		}
		var all []*one
		for i := range 1 + random.IntN(8) {
			source, target := fmt.Sprintf("R%d", i), fmt.Sprintf("R%d", i)
			if random.IntN(2) == 0 { // sorts elsewhere
				target = fmt.Sprintf("%c-old", 'A'+byte(random.IntN(26))) + fmt.Sprint(i)
				names.Add("u", textKey(target), textKey(source))
			}
			all = append(all, &one{typ: "u", source: textKey(source), target: textKey(target)})
			for n := range random.IntN(3) {
				all = append(all, &one{typ: "v", source: partKey(source, fmt.Sprint(n)), target: partKey(target, fmt.Sprint(n))})
			}
		}
		some := func() map[string]string {
			if random.IntN(3) == 0 {
				return nil
			}
			out := map[string]string{}
			for _, f := range []string{"x", "y"} {
				if random.IntN(3) > 0 {
					out[f] = fmt.Sprint(random.IntN(100))
				}
			}
			return out
		}
		either := func(o *one) record.Key {
			if random.IntN(2) == 0 {
				return o.source
			}
			return o.target
		}
		want := map[string]map[string]string{"u": {}, "v": {}}
		keptBy, standsBy := map[*one]record.Key{}, map[*one]record.Key{}
		for _, o := range all {
			o.before, o.fresh = some(), some()
			o.kept, o.stands = either(o), either(o)
			keptBy[o], standsBy[o] = o.kept, o.stands
			values := map[string]string{}
			for _, side := range []map[string]string{o.before, o.fresh} {
				for f, v := range side {
					values[f] = v
				}
			}
			var words []string
			for _, f := range []string{"x", "y"} {
				if v, ok := values[f]; ok {
					words = append(words, f+"="+v)
				}
			}
			if o.typ == "v" {
				o.kept, o.stands = o.source, o.source
			}
			switch {
			case o.fresh != nil:
				want[o.typ][c.Address(o.typ, o.stands)] = strings.Join(words, " ")
			case o.before != nil:
				want[o.typ][c.Address(o.typ, o.kept)] = strings.Join(words, " ")
			}
		}
		rec := func(key record.Key, values map[string]string) record.Record {
			r := record.Record{Key: key}
			for _, f := range twoFields {
				v := "-"
				if text, ok := values[f.Name]; ok {
					v = text
				}
				r.Values = append(r.Values, textOr(v))
			}
			return r
		}
		between := Between{Source: "a", Target: "b", ExportedAt: "2026-01-01T00:00:00Z", Catalog: c, Shapes: ownedShapes, Names: names,
			Fields: map[string][]record.Field{"u": twoFields, "v": twoFields}}
		first := between
		first.Names = nil // what was agreed before anybody paired them
		require.NoError(t, Keep(ctx, s, first, func(yield func(Written, error) bool) {
			for _, o := range all {
				if o.before != nil && !yield(Written{Type: o.typ, Record: rec(keptBy[o], o.before), Stands: keptBy[o]}, nil) {
					return
				}
			}
		}))
		random.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
		require.NoError(t, Keep(ctx, s, between, func(yield func(Written, error) bool) {
			for _, o := range all {
				if o.fresh != nil && !yield(Written{Type: o.typ, Record: rec(o.source, o.fresh), Stands: standsBy[o]}, nil) {
					return
				}
			}
		}))
		for _, typ := range []string{"u", "v"} {
			assert.Equal(t, want[typ], agreedNow(t, s, typ, names), "round %d, %s", round, typ)
		}
	}
}
