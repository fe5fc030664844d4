package test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var timeOf = map[string]string{"sqlite": "DATETIME", "postgres": "TIMESTAMPTZ", "mysql": "DATETIME"}

// Stamps that an application fills by itself are filled by the import: new records get
// theirs, changed ones a later one, and who it was.
func TestStampsThatNothingElseFills(t *testing.T) {
	t.Parallel()
	for _, engine := range tries(t.Name(), everyEngine...) {
		t.Run(engine, func(t *testing.T) {
			t.Parallel()
			when := timeOf[engine]
			p, source, target := pair(t, engine, "types:\n  item: {at: items, key: [code], id: {field: id, made_by: largest}, stamp: {at: changed_at, by: changed_by, created_at: created_at, created_by: created_by}}\n",
				"CREATE TABLE items (id INTEGER PRIMARY KEY, code VARCHAR(20), name VARCHAR(20), changed_at "+when+" NOT NULL, changed_by VARCHAR(20) NOT NULL, created_at "+when+" NOT NULL, created_by VARCHAR(20))")
			run(t, source, "INSERT INTO items VALUES (1,'A','new','2020-01-01 00:00:00','them','2020-01-01 00:00:00','them'),(2,'B','new','2020-01-01 00:00:00','them','2020-01-01 00:00:00','them'),(3,'C','c','2020-01-01 00:00:00','them','2020-01-01 00:00:00','them')")
			run(t, target, "INSERT INTO items VALUES (7,'A','old','2019-01-01 00:00:00','they','2019-01-01 00:00:00','they'),(8,'C','c','2019-01-01 00:00:00','they','2019-01-01 00:00:00','they')")
			p.must(3, "match", "source", "--against", "target", "--name", "p")
			assert.Empty(t, p.review()["item/B"].Checks)
			text := words(p.must(0, "review").out)
			assert.Contains(t, text, "item/B new, open name: new the import gives it changed_at: the time of the import; changed_by: who imports; created_at: the time of the import; created_by: who imports")
			assert.Contains(t, text, "The import sets changed_at and changed_by of what it changes where nothing else does.")
			assert.Contains(t, p.must(0, "review", "--only", "item/B", "--json").out, `"filled":[{"field":"changed_at","what":"time"},{"field":"changed_by","what":"person"}`)
			p.must(0, "approve", "*")
			for form, file := range map[string]string{"csv": "01-item-add.csv", "jsonl": "01-item-add.jsonl"} {
				p.must(0, "import", "--into-files", form, "--form", form)
				files, err := filepath.Glob(p.path(form + "/*" + strings.TrimPrefix(file, "01-")))
				require.NoError(t, err)
				require.Len(t, files, 1)
				content, err := os.ReadFile(files[0])
				require.NoError(t, err)
				assert.Regexp(t, `created_by(?s:.*)mara`, string(content))
			}
			p.must(0, "import", "--rehearse")
			p.must(0, "import")
			recent := "changed_at > '2021-01-01 00:00:00', created_at > '2021-01-01 00:00:00'"
			assert.Equal(t, []string{"A|new|mara|they|1|0", "B|new|mara|mara|1|1", "C|c|they|they|0|0"},
				strings.Split(strings.NewReplacer("true", "1", "false", "0").Replace(strings.Join(lines(t, target, "SELECT code, name, changed_by, created_by, "+recent+" FROM items ORDER BY code"), "\n")), "\n"))
			p.must(0, "match", "p", "--against", "target")
		})
	}
}

// A stamp that the target fills is left to it, and where the catalog says so none is written.
func TestStampsThatAreNotWritten(t *testing.T) {
	t.Parallel()
	const table = "CREATE TABLE items (id INTEGER PRIMARY KEY, code TEXT, name TEXT, changed_at DATETIME, changed_by INTEGER);"
	for name, c := range map[string]struct{ stamp, more, want string }{
		"a trigger fills it": {"{at: changed_at}", "CREATE TRIGGER s AFTER UPDATE OF name ON items BEGIN UPDATE items SET changed_at = '2030-01-01 00:00:00' WHERE id = NEW.id; END;", "A new 2030-01-01 00:00:00 5"},
		"never":              {"{at: changed_at, by: changed_by, write: never}", "", "A new 2019-01-01 00:00:00 5"},
		"an account":         {"{by: changed_by, account: {target: 42}}", "", "A new 2019-01-01 00:00:00 42"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			ignore := ", ignore: [changed_at, changed_by]"
			p := newPlace(t, "types:\n  item: {at: items, key: [code], id: id, stamp: "+c.stamp+ignore+"}\n", table+"INSERT INTO items VALUES (1,'A','new','2020-01-01 00:00:00',1);", table+"INSERT INTO items VALUES (1,'A','old','2019-01-01 00:00:00',5);"+c.more)
			p.must(3, "match", "source", "--against", "target", "--name", "p")
			p.must(0, "approve", "*")
			p.must(0, "import")
			assert.Equal(t, []string{c.want}, p.rows("target", "SELECT code, name, +changed_at, changed_by FROM items"))
		})
	}
}

// Values that mean nothing are no references: they are found, left and written in the form
// that the database has for them.
func TestValuesThatMeanNothing(t *testing.T) {
	t.Parallel()
	for _, engine := range tries(t.Name(), everyEngine...) {
		t.Run(engine, func(t *testing.T) {
			t.Parallel()
			p, source, target := pair(t, engine, "types:\n  unit: {at: units, key: [code], id: {field: id, made_by: largest}}\n  item: {at: items, key: [unit_id, code], id: {field: id, made_by: largest}, refers: {unit_id: {to: unit, none: [0, -1]}, other_id: {to: unit, none: [0]}}}\n",
				"CREATE TABLE units (id INTEGER PRIMARY KEY, code VARCHAR(9))", "CREATE TABLE items (id INTEGER PRIMARY KEY, unit_id INTEGER NOT NULL, code VARCHAR(9), other_id INTEGER NOT NULL, name VARCHAR(9))")
			run(t, source, "INSERT INTO units VALUES (1,'u')", "INSERT INTO items VALUES (1,0,'A',0,'new'),(2,1,'B',0,'new'),(3,0,'C',0,'same'),(4,0,'N',0,'n')")
			run(t, target, "INSERT INTO units VALUES (5,'u')", "INSERT INTO items VALUES (6,-1,'A',0,'old'),(7,5,'B',5,'old'),(8,0,'C',0,'same')")
			p.must(3, "match", "source", "--against", "target", "--name", "p")
			f := p.review()
			assert.Equal(t, []string{"changed", "changed", "new"}, []string{f["item/~/A"].Status, f["item/u/B"].Status, f["item/~/N"].Status})
			p.must(0, "approve", "*")
			p.must(0, "import")
			assert.Equal(t, []string{"A|-1|0|new", "B|5|0|new", "C|0|0|same", "N|0|0|n"}, lines(t, target, "SELECT code, unit_id, other_id, name FROM items ORDER BY code"))
			p.must(0, "match", "p", "--against", "target")
		})
	}
}

// What the application makes from other fields is neither compared nor written.
func TestDerivedFields(t *testing.T) {
	t.Parallel()
	table := func(more string) string {
		return "CREATE TABLE items (id INTEGER PRIMARY KEY, code TEXT, name TEXT, search TEXT" + more + ");"
	}
	const catalog = "types:\n  item: {at: items, key: [code], id: id, derived: [search]}\n"
	p := newPlace(t, catalog, table("")+"INSERT INTO items VALUES (1,'A','New','new s'),(2,'B','B','b');",
		table("")+"INSERT INTO items VALUES (1,'A','Old','old t'); CREATE TRIGGER s AFTER UPDATE OF name ON items BEGIN UPDATE items SET search = lower(NEW.name) || ' t' WHERE id = NEW.id; END;")
	p.must(3, "match", "source", "--against", "target", "--name", "p")
	assert.Len(t, p.review()["item/A"].Fields, 1)
	p.must(0, "approve", "*")
	p.must(0, "import")
	assert.Equal(t, []string{"A New new t", "B B null"}, p.rows("target", "SELECT code, name, search FROM items ORDER BY 1"))

	p = newPlace(t, catalog, table("")+"INSERT INTO items VALUES (2,'B','B','b');", table(" NOT NULL"))
	p.must(3, "match", "source", "--against", "target", "--name", "p")
	assert.Contains(t, words(p.must(0, "review").out), "item/B is new, and target requires a value in field search, which its application makes from others.")
	p.write("catalog.yaml", strings.Replace(catalog, "derived: [search]", "local: {search: {target: made}}", 1)) // the mend
	p.must(3, "match", "source", "--against", "target", "--name", "q")
	p.must(0, "approve", "*")
	p.must(0, "import")
	assert.Equal(t, []string{"B B made"}, p.rows("target", "SELECT code, name, search FROM items"))
}

// A record can be out of use by whether something is there.
func TestRetiredByWhetherItIsThere(t *testing.T) {
	t.Parallel()
	const table = "CREATE TABLE items (id INTEGER PRIMARY KEY, code TEXT, gone DATETIME);"
	p := newPlace(t, "types:\n  item: {at: items, key: [code], id: id, retired: {field: gone, when: not null}}\n", table+"INSERT INTO items VALUES (1,'A',NULL);", table+"INSERT INTO items VALUES (1,'A','2026-01-01 00:00:00');")
	p.must(3, "match", "source", "--against", "target", "--name", "p")
	assert.Equal(t, []string{"retired-in-target"}, p.review()["item/A"].Reasons)
}

// The form in which nothing is stored stays as it is, is kept before anything is written, and
// a trigger that changes it is seen.
func TestTheFormOfNothingStays(t *testing.T) {
	t.Parallel()
	alter := map[string][]string{
		"sqlite":   {"CREATE TRIGGER form AFTER UPDATE OF name ON items BEGIN UPDATE items SET other_id = 0 WHERE code = NEW.code; END"},
		"postgres": {"CREATE FUNCTION form() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN NEW.other_id := 0; RETURN NEW; END $$", "CREATE TRIGGER form BEFORE UPDATE ON items FOR EACH ROW EXECUTE FUNCTION form()"},
		"mysql":    {"CREATE TRIGGER form BEFORE UPDATE ON items FOR EACH ROW SET NEW.other_id = 0"},
	}
	for _, engine := range tries(t.Name(), everyEngine...) {
		t.Run(engine, func(t *testing.T) {
			t.Parallel()
			p, source, target := pair(t, engine, "types:\n  unit: {at: units, key: [code], id: id}\n  item: {at: items, key: [code], refers: {other_id: {to: unit, none: [0, -1]}}}\n",
				"CREATE TABLE units (id INTEGER PRIMARY KEY, code VARCHAR(9))", "CREATE TABLE items (code VARCHAR(9) PRIMARY KEY, other_id INTEGER, name VARCHAR(9))")
			run(t, source, "INSERT INTO items VALUES ('A',0,'new'),('N',NULL,'new')")
			run(t, target, "INSERT INTO items VALUES ('A',-1,'old'),('N',NULL,'old')")
			p.must(3, "match", "source", "--against", "target", "--name", "p")
			p.must(0, "approve", "*")
			run(t, target, alter[engine]...)
			assert.Contains(t, words(p.must(1, "import").out), "item/A: field other_id was not to be written; it was stored in another form before.")
			run(t, target, map[string][]string{"sqlite": {"DROP TRIGGER form"}, "postgres": {"DROP TRIGGER form ON items"}, "mysql": {"DROP TRIGGER form"}}[engine]...)
			p.must(0, "import")
			assert.Equal(t, []string{"A|-1|new", "N||new"}, lines(t, target, "SELECT code, other_id, name FROM items ORDER BY 1"))
			assert.Equal(t, []string{"-1", ""}, p.rowsOf("file:"+p.path("dockets/0001.docket"), "SELECT json_extract(beside, '$.stored.other_id.text') FROM backup WHERE run = 2 ORDER BY finding"))
			run(t, source, "INSERT INTO units VALUES (5, 'U')", "UPDATE items SET other_id = 5")
			run(t, target, "INSERT INTO units VALUES (1, 'U')")
			p.must(3, "match", "source", "--against", "target", "--name", "q")
			p.must(0, "approve", "*")
			p.must(0, "import")
			assert.Equal(t, []string{"A|1|new", "N|1|new"}, lines(t, target, "SELECT code, other_id, name FROM items ORDER BY 1"))
			p.must(3, "restore", "2") // the same form of nothing comes back
			p.must(0, "approve", "*", "--take", "source")
			p.must(0, "import")
			assert.Equal(t, []string{"A|-1|new", "N||new"}, lines(t, target, "SELECT code, other_id, name FROM items ORDER BY 1"))
		})
	}
}
