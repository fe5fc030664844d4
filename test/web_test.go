package test

import (
	"context"
	"fmt"
	"net/http/httptest"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/demo/service"
)

// standIn serves a database of a place, and gives where.
func standIn(p *place, name string, o service.Options) (*service.Service, string) {
	p.t.Helper()
	o.File = p.path(name + ".db")
	s, err := service.Open(context.Background(), o)
	require.NoError(p.t, err)
	server := httptest.NewServer(s)
	p.t.Cleanup(func() {
		server.Close()
		_ = s.Close()
	})
	return s, "odata+" + server.URL
}

// overWeb makes an environment of the demo a service.
func overWeb(p *place, role string, o service.Options) *service.Service {
	p.t.Helper()
	s, address := standIn(p, "data/"+role, o)
	text := string(p.read("anagram.yaml"))
	was := "sqlite:data/" + role + ".db"
	require.Contains(p.t, text, was)
	p.write("anagram.yaml", strings.ReplaceAll(text, was, address+"\n    web: {requests_a_second: 10000}"))
	return s
}

// anew forgets what the demo brought over, so that two places are compared alike.
func anew(p *place) {
	for _, name := range []string{".anagram", "dockets", "parcels"} {
		require.NoError(p.t, os.RemoveAll(p.path(name)))
	}
}

var demoTables = []string{"departments", "units", "specimen_types", "containers", "assays", "assay_ranges", "panels", "panel_items", "instruments", "instrument_links", "price_lists", "price_lines", "comment_codes",
	"reflex_rules", "report_templates", "roles", "role_rights", "holidays", "settings"}

// held gives what a database of the demo holds, without stamps and new numbers.
func held(p *place, role string) []string {
	var out []string
	for _, table := range demoTables {
		columns := p.rows("data/"+role, fmt.Sprintf("SELECT group_concat(name, ', ') FROM pragma_table_info('%s') WHERE name NOT LIKE 'updated%%' AND name NOT LIKE 'created%%' AND NOT (pk AND type = 'INTEGER')", table))
		out = append(out, p.rows("data/"+role, fmt.Sprintf("SELECT '%s', %s FROM %s", table, columns[0], table))...)
	}
	slices.Sort(out)
	return out
}

// The demo's job gives the same wherever its two sides are: as files, and as services.
func TestTheDemoOverTheWeb(t *testing.T) {
	inGate(t, "the whole job over the web")
	t.Parallel()
	plain := demoPlace(t)
	anew(plain)
	want := plain.json(3, "match", "sandbox", "--against", "production")
	for name, roles := range map[string][]string{"a service as source": {"sandbox"}, "a service as target": {"production"}, "both services": {"sandbox", "production"}} {
		if !longRun && len(roles) == 1 {
			continue
		}
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p := demoPlace(t)
			for _, role := range roles {
				overWeb(p, role, service.Options{Page: 100})
			}
			anew(p)
			before := held(p, "production")
			got := p.json(3, "match", "sandbox", "--against", "production", "--name", "p")
			assert.ElementsMatch(t, want["types"], got["types"])
			p.must(0, "approve", "*", "--status", "new,changed")
			p.must(0, "decline", "panel/CARDED", "reflex_rule/CRP-FCAL", "container/GELXL", "--with-parts")
			done := p.json(0, "import")
			assert.Equal(t, "imported", done["outcome"])
			assert.Empty(t, done["left_out"])
			assert.NotEqual(t, before, held(p, "production"))
			p.must(0, "prove", "1")
			again := p.json(3, "match", "p", "--against", "production")["totals"].(map[string]any)
			assert.EqualValues(t, []any{5.0, 0.0}, []any{again["new"], again["changed"]}, "what was declined is as it was")
			assert.Equal(t, []string{"%Method"}, p.rows("data/production", "SELECT substr(CAST(method_sheet AS TEXT), 1, 7) FROM assays WHERE code = 'TPOAB'"))

			p.must(3, "restore", "1")
			docket := fmt.Sprint(docketsIn(p))
			next := p.must(0, "approve", docket, "*", "--take", "source")
			if name != "a service as source" {
				assert.NotContains(t, next.err, "--rehearse", "a service cannot rehearse")
				assert.Contains(t, words(p.must(2, "import", docket, "--rehearse").err), "cannot take back what was written")
			}
			p.must(0, "import", docket)
			assert.Equal(t, before, held(p, "production"))
		})
	}
}

// A draft says the same of a database and of a service over it.
func TestADraftOverTheWeb(t *testing.T) {
	inGate(t, "drafts over the web")
	t.Parallel()
	p := demoPlace(t)
	_, sandbox := standIn(p, "data/sandbox", service.Options{})
	_, production := standIn(p, "data/production", service.Options{Page: 50})
	draft := func(dir, source, target string) string {
		p.must(0, "init", p.path(dir), "--source", "sandbox="+source, "--target", "production="+target)
		_, types, found := strings.Cut(string(p.read(dir+"/catalog.yaml")), "\ntypes:\n")
		require.True(t, found)
		return types
	}
	want := draft("plain", "sqlite:data/sandbox.db", "sqlite:data/production.db")
	if thorough {
		assert.Equal(t, want, draft("mixed", "sqlite:data/sandbox.db", production))
	}
	assert.Equal(t, want, draft("web", sandbox, production))
}

const (
	manyCatalog = "types:\n  item: {at: items, key: [code], id: id, refers: {next: item}}\n  part: {at: parts, key: [item, n], id: id, refers: {item: item}, part_of: item}\n"
	manyTables  = "CREATE TABLE items (id INTEGER PRIMARY KEY, code VARCHAR(12) NOT NULL UNIQUE, name VARCHAR(40), amount DECIMAL(10,2), next INTEGER REFERENCES items (id));\nCREATE TABLE parts (id INTEGER PRIMARY KEY, item INTEGER NOT NULL REFERENCES items (id), n INTEGER NOT NULL, note VARCHAR(40), UNIQUE (item, n));\n"
)

// manyItems gives rows of items, each with a name that says which side they are of.
func manyItems(from, to, first int, name string) string {
	return fmt.Sprintf("WITH RECURSIVE n(i) AS (SELECT %d UNION ALL SELECT i + 1 FROM n WHERE i < %d) INSERT INTO items SELECT i + %d, printf('I%%07d', i), '%s ' || i, i / 4.0, NULL FROM n;\n", from, to, first, name)
}

// toService makes the target of a place a service.
func toService(p *place, o service.Options) *service.Service {
	p.t.Helper()
	s, address := standIn(p, "target", o)
	p.write("anagram.yaml", fmt.Sprintf("environments:\n  source: {connect: \"sqlite:source.db\"}\n  target: {connect: \"%s\", web: {requests_a_second: 10000}}\n", address))
	return s
}

// A thousand changes take few requests where the service takes several at a time.
func TestRequestsAreCounted(t *testing.T) {
	t.Parallel()
	inGate(t, "services on the web in many variants")
	n := full(240, 1000) // records that are written, of three times as many
	for name, tables := range map[string][2]string{
		"changed without a word": {manyItems(1, 3*n, 0, "new"), manyItems(1, 3*n, 10_000, "old") + fmt.Sprintf("UPDATE items SET name = 'new ' || (id - 10000) WHERE id > %d;", 10_000+n)},
		"changed":                {manyItems(1, 3*n, 0, "new"), manyItems(1, 3*n, 10_000, "old") + fmt.Sprintf("UPDATE items SET name = 'new ' || (id - 10000) WHERE id > %d;", 10_000+n)},
		"new":                    {manyItems(1, 3*n, 0, "new"), manyItems(n+1, 3*n, 10_000, "new")},
		"new with a parent":      {manyItems(1, n/2, 0, "new") + "INSERT INTO parts SELECT id, id, 1, 'p' FROM items;", ""},
	} {
		if !thorough && (name == "new" || name == "changed") {
			continue
		}
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p := newPlace(t, manyCatalog, manyTables+tables[0], manyTables+tables[1])
			o, most := service.Options{Page: n}, 20
			if name == "changed without a word" { // each change is asked for once more
				o.Ignores, most = []string{"representation"}, 20+n/50
			}
			s := toService(p, o)
			p.must(3, "match", "source", "--against", "target")
			p.must(0, "approve", "*")
			s.Requests()
			done := p.json(0, "import")
			log := s.Log()
			assert.Equal(t, "imported", done["outcome"])
			written := done["written"].(map[string]any)
			assert.EqualValues(t, n, written["new"].(float64)+written["changed"].(float64))
			assert.LessOrEqual(t, len(log), most, strings.Join(log, "\n"))
			t.Logf("%d requests", len(log))
			p.must(0, "match", "source", "--against", "target")
		})
	}
}

// However a service fails: what was approved is there in the end, once, and nothing else.
func TestAServiceThatFails(t *testing.T) {
	t.Parallel()
	share := []float64{0.15, 0.1}[full(0, 1)] // of fewer requests more fail
	kinds := map[string]service.Fail{
		"before": {Before: share}, "after": {After: share}, "busy": {Busy: share}, "error": {Error: share}, "late": {Late: share}, "slow": {Slow: share},
		"all": {Before: 0.02, After: 0.02, Busy: 0.02, Error: 0.02, Late: 0.02, Slow: 0.02},
	}
	for name, fail := range kinds {
		if !thorough && name != "all" && name != "after" {
			continue
		}
		for _, batch := range tries(t.Name()+name, true, false) {
			t.Run(fmt.Sprintf("%s, batch %t", name, batch), func(t *testing.T) {
				t.Parallel()
				failed := 0
				// Nothing but Anagram itself keeps a record from being added twice.
				tables := strings.NewReplacer(", UNIQUE (item, n)", "", " UNIQUE", "").Replace(manyTables)
				for round := range 1 {
					n := full(16, 60)
					p := newPlace(t, manyCatalog, tables+manyItems(1, n, 0, "new")+"UPDATE items SET next = id + 1 WHERE id % 3 = 1 AND id < (SELECT max(id) FROM items); INSERT INTO parts SELECT id, id, 1, 'p' FROM items WHERE id % 2 = 0;",
						tables+manyItems(n/2, n, 1000, "old")+"INSERT INTO items VALUES (1, 'OWN', 'own', 1, NULL);")
					s := toService(p, service.Options{Page: 20, NoBatch: !batch})
					p.must(3, "match", "source", "--against", "target")
					p.must(0, "approve", "*")
					fail.Seed = uint64(round + 7)
					s.SetFail(fail)
					importUnder(p, "1")
					failed += s.Failed()
					s.SetFail(service.Fail{})
					assert.Equal(t, p.rows("source", manyRows), p.rows("target", manyRows), "round %d", round)
				}
				assert.Positive(t, failed)
			})
		}
	}
}

const manyRows = "SELECT i.code, i.name, i.amount, coalesce(n.code, '-'), (SELECT group_concat(p.n || p.note) FROM parts p WHERE p.item = i.id) FROM items i LEFT JOIN items n ON n.id = i.next WHERE i.code <> 'OWN' ORDER BY 1"

// importUnder imports as often as it takes.
func importUnder(p *place, docket string) {
	p.t.Helper()
	args := []string{"import", docket}
	for range 40 {
		r := p.run(args...)
		if r.code == 0 {
			return
		}
		if r.code == 2 && strings.Contains(r.err, "imported") {
			return
		}
		require.Contains(p.t, []int{1, 4, 6}, r.code, r.out+r.err)
		if r.code == 6 || strings.Contains(r.err, "--resume") {
			args = []string{"import", docket, "--resume"}
		}
	}
	require.Fail(p.t, "it does not come to an end")
}
