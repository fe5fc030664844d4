package translate

import (
	"context"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/environment/sqldb/engine"
	"anagram/internal/environment/sqldb/query"
)

// rows is an environment that holds a few rows in memory. It counts what it is asked.
type rows struct {
	places map[string]catalog.Place
	held   map[string][]map[string]any // by place
	asked  int
}

func (r *rows) Table(_ context.Context, m *environment.Model, typ string) (query.Table, error) {
	t, _ := m.Catalog.Type(typ)
	return query.TableOf(t, m.Environment, r.places), nil
}

func (r *rows) Where(_ context.Context, t query.Table, names, by []string, tuples []query.Identity, row func([]any) error) error {
	r.asked++
	return r.each(t, names, func(held map[string]any) bool {
		return slices.ContainsFunc(tuples, func(tuple query.Identity) bool {
			for i, name := range by {
				if engine.StoredText(held[name]) != engine.StoredText(tuple[i]) || (held[name] == nil) != (tuple[i] == nil) {
					return false
				}
			}
			return true
		})
	}, row)
}

func (r *rows) All(_ context.Context, t query.Table, names []string, row func([]any) error) error {
	r.asked++
	return r.each(t, names, func(map[string]any) bool { return true }, row)
}

func (r *rows) each(t query.Table, names []string, wanted func(map[string]any) bool, row func([]any) error) error {
	for _, held := range r.held[t.At] {
		if !wanted(held) {
			continue
		}
		out := make([]any, len(names))
		for i, name := range names {
			out[i] = held[name]
		}
		if err := row(out); err != nil {
			return err
		}
	}
	return nil
}

// plain stores values as their texts, and whole numbers as numbers.
type plain struct{}

func (plain) Decode(stored any, kind record.Kind, _ catalog.Column) (record.Value, error) {
	return record.Parse(kind, engine.StoredText(stored))
}

func (plain) Encode(v record.Value, _ catalog.Column) (any, error) { return v.Text(), nil }

// laboratories is a tree of sites, with benches that are told by their site and a code, and a
// condition that leaves some sites out.
func laboratories(t *testing.T) (*rows, *environment.Model) {
	t.Helper()
	c, err := catalog.Parse("catalog.yaml", []byte(`types:
  site: {key: [up, code], id: id, refers: {up: site}, only: "open == 'yes'"}
  bench: {key: [site, code], id: id, refers: {site: site}}
`))
	require.NoError(t, err)
	whole := func(name string) catalog.Column { return catalog.Column{Name: name, Kind: record.Integer} }
	text := func(name string) catalog.Column { return catalog.Column{Name: name, Kind: record.Text} }
	r := &rows{places: map[string]catalog.Place{
		"site":  {Name: "site", Columns: []catalog.Column{whole("id"), whole("up"), text("code"), text("open")}},
		"bench": {Name: "bench", Columns: []catalog.Column{whole("id"), whole("site"), text("code")}},
	}}
	site := func(id int64, up any, code, open string) map[string]any {
		return map[string]any{"id": id, "up": up, "code": code, "open": open}
	}
	r.held = map[string][]map[string]any{
		"site": {site(1, nil, "north", "yes"), site(2, int64(1), "attic", "yes"), site(3, int64(2), "shelf", "yes"),
			site(4, nil, "shut", "no"), site(5, int64(9), "orphan", "yes"), site(6, int64(7), "a", "yes"), site(7, int64(6), "b", "yes"),
			site(8, nil, "twice", "yes"), site(10, nil, "twice", "yes")},
		"bench": {{"id": int64(20), "site": int64(3), "code": "x"}},
	}
	shapes := record.Shapes{
		"site":  {{Name: "up", Kind: record.Reference, Refers: "site"}, {Name: "code", Kind: record.Text}},
		"bench": {{Name: "site", Kind: record.Reference, Refers: "site"}, {Name: "code", Kind: record.Text}},
	}
	return r, &environment.Model{Environment: "sandbox", Catalog: c, Shapes: shapes}
}

func TestIDsBecomeKeys(t *testing.T) {
	for name, of := range map[string]struct {
		id         any
		want, fail string
	}{
		"at the top of the tree":           {id: int64(1), want: "site/north"},
		"below two others":                 {id: int64(3), want: "site/north/attic/shelf"},
		"as text, where ids are numbers":   {id: "2", want: "site/north/attic"},
		"left out by its condition":        {id: int64(4), fail: "only: in the catalog leaves out"},
		"not there":                        {id: int64(99), fail: "internal id 99, which is not in site"},
		"no number, where ids are numbers": {id: "ninety", fail: "internal id ninety, which is not in site"},
		"below one that is not there":      {id: int64(5), fail: "refers to internal id 9, which is not in site"},
		"in a loop":                        {id: int64(6), fail: "refer to each other in a loop (internal ids 6, 7)"},
		"null":                             {id: nil, want: "null"},
	} {
		t.Run(name, func(t *testing.T) {
			r, m := laboratories(t)
			s := New("sandbox", r, plain{}, false)
			f, err := s.Form(t.Context(), m, "bench", nil, nil, false)
			require.NoError(t, err)
			row := []any{int64(20), of.id, "x"}
			err = s.LearnCell(t.Context(), m, f.KeyCells[0], [][]any{row})
			var v record.Value
			if err == nil {
				v, err = s.Value(m, f.Type, row, f.KeyCells[0])
			}
			if of.fail != "" {
				require.ErrorContains(t, err, of.fail)
				return
			}
			require.NoError(t, err)
			if v.IsNull() {
				assert.Equal(t, of.want, "null")
				return
			}
			assert.Equal(t, of.want, m.Catalog.Address("site", v.Key()))
			// What was learned once is not asked for again.
			asked := r.asked
			require.NoError(t, s.LearnCell(t.Context(), m, f.KeyCells[0], [][]any{row}))
			assert.Equal(t, asked, r.asked)
			s.Forget()
			require.NoError(t, s.LearnCell(t.Context(), m, f.KeyCells[0], [][]any{row}))
			assert.Greater(t, r.asked, asked)
		})
	}
}

func TestKeysBecomeRows(t *testing.T) {
	r, m := laboratories(t)
	s := New("sandbox", r, plain{}, false)
	text := func(of string) record.Value {
		v, err := record.TextValue(of)
		require.NoError(t, err)
		return v
	}
	site := func(up record.Value, code string) record.Key {
		return m.Shapes.Key("site", []record.Value{up, text(code)})
	}
	top := func(code string) record.Key { return site(record.NullValue(), code) }
	attic := site(record.ReferenceValue("site", top("north")), "attic")
	shelf := site(record.ReferenceValue("site", attic), "shelf")
	for name, of := range map[string]struct {
		typ  string
		key  record.Key
		want int
	}{
		"at the top":                  {"site", top("north"), 1},
		"below two others":            {"site", shelf, 1},
		"through another type":        {"bench", m.Shapes.Key("bench", []record.Value{record.ReferenceValue("site", shelf), text("x")}), 1},
		"with a key that two have":    {"site", top("twice"), 2},
		"left out by its condition":   {"site", top("shut"), 0},
		"not there":                   {"site", top("south"), 0},
		"below one that is not there": {"site", site(record.ReferenceValue("site", top("south")), "shelf"), 0},
	} {
		t.Run(name, func(t *testing.T) {
			found, err := s.Locate(t.Context(), m, of.typ, []record.Key{of.key})
			require.NoError(t, err)
			assert.Equal(t, []int{of.want}, found)
		})
	}
	_, err := s.Stored(t.Context(), m, query.TableOf(m.Catalog.Types[1], "sandbox", r.places), record.ReferenceValue("site", top("twice")),
		record.Field{Name: "site"})
	require.ErrorContains(t, err, "occurs 2 times")
	got, err := s.Stored(t.Context(), m, query.TableOf(m.Catalog.Types[1], "sandbox", r.places), record.ReferenceValue("site", shelf),
		record.Field{Name: "site"})
	require.NoError(t, err)
	assert.Equal(t, query.Identity{int64(3)}, got)
}
