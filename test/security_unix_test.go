//go:build unix

package test

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Every attack that the page on security speaks of names the test that tries it.
func TestTheAttacksOfTheSecurityPage(t *testing.T) {
	tests := testNames(t)
	page, err := os.ReadFile("../docs/security.md")
	require.NoError(t, err)
	_, table, ok := strings.Cut(string(page), "| attack | what becomes of it | tried by |\n| --- | --- | --- |\n")
	require.True(t, ok)
	table, _, _ = strings.Cut(table, "\n\n")
	named := 0
	for line := range strings.Lines(table) {
		named++
		cells := strings.Split(strings.Trim(line, "|\n "), "|")
		if assert.Len(t, cells, 3, line) {
			name := strings.Trim(cells[2], " `")
			assert.True(t, strings.HasPrefix(name, "Test") && tests[name], "%s is tried by %q, which is no test", cells[0], name)
		}
	}
	assert.Greater(t, named, 20)
}

func TestStatementsInASchemaAreNotRun(t *testing.T) {
	t.Parallel()
	for name, table := range map[string]string{
		"type":          `CREATE TABLE items (code TEXT PRIMARY KEY, name "TEXT) AS x); COMMIT; ATTACH 'owned.db' AS o; CREATE TABLE o.t (a); --", CHECK (length(name) < 5))`,
		"rule":          `CREATE TABLE items (code TEXT PRIMARY KEY, name TEXT CHECK (name <> '/*/' OR 1) /*/); COMMIT; ATTACH 'owned.db' AS o; CREATE TABLE o.t (a); */)`,
		"rule and text": `CREATE TABLE items (code TEXT PRIMARY KEY, name TEXT, CHECK (name <> '*/) ; ATTACH ''owned.db'' AS o; --' /*/ ) */))`,
		"collation":     `CREATE TABLE items (code TEXT PRIMARY KEY COLLATE NOCASE, name "x'); ATTACH 'owned.db' AS o; --" CHECK (name < 'zzzz'))`,
		"name":          `CREATE TABLE items (code TEXT PRIMARY KEY, name TEXT, "a"") ; ATTACH 'owned.db' AS o; --" TEXT, CHECK ("a"") ; ATTACH 'owned.db' AS o; --" IS NULL))`,
	} {
		p := newPlace(t, "types:\n  item: {at: items, key: [code]}\n", "CREATE TABLE items (code TEXT PRIMARY KEY, name TEXT); INSERT INTO items VALUES ('A','new'),('B','b')", table+"; INSERT INTO items (code, name) VALUES ('A','old')")
		for _, args := range [][]string{{"env", "test"}, {"catalog", "check"}, {"catalog", "draft", "target"}, {"match", "source", "--against", "target", "--name", "p"}, {"review"}, {"approve", "*"}, {"import", "--rehearse"}, {"import"}} {
			p.run(args...)
			assert.NoFileExists(t, p.path("owned.db"), "%s: %v", name, args)
		}
		assert.Equal(t, []string{"A new", "B b"}, p.rows("target", "SELECT code, name FROM items ORDER BY 1"), name)
	}
}

// sealed writes the manifest of a folder parcel anew, as somebody who can compute sums would.
func (p *place) sealed(parcel string, change func(map[string]any)) {
	p.t.Helper()
	var m map[string]any
	require.NoError(p.t, json.Unmarshal(p.read("parcels/"+parcel+"/parcel.json"), &m))
	change(m)
	text, err := json.Marshal(m)
	require.NoError(p.t, err)
	p.write("parcels/"+parcel+"/parcel.json", string(text))
}

func TestKeysThatNameASecretAreRefused(t *testing.T) {
	t.Parallel()
	const table = "CREATE TABLE items (code TEXT PRIMARY KEY, name TEXT, token TEXT);"
	p := newPlace(t, "types:\n  item: {at: items, key: [code], secret: [token]}\n", table+"INSERT INTO items VALUES ('A','new','"+marker+"')", table+"INSERT INTO items VALUES ('A','old','"+marker+"')")
	for name, change := range map[string]func(map[string]any){
		"key": func(m map[string]any) {
			m["keys"].(map[string]any)["item"].([]any)[0].(map[string]any)["name"] = "token"
		},
		"field": func(m map[string]any) { field(m)["name"] = "token" },
		"refers": func(m map[string]any) {
			field(m)["kind"], field(m)["refers"] = "reference", "item"
		},
		"twice": func(m map[string]any) { field(m)["name"] = "code" },
	} {
		p.must(0, "export", "source", "--name", name, "--as-folder")
		p.sealed(name, change)
		p.write("parcels/"+name+"/records/item.jsonl", strings.Replace(string(p.read("parcels/"+name+"/records/item.jsonl")), `"name"`, `"token"`, 1))
		p.run("parcel", "reseal", name, "--note", "x")
		for _, args := range [][]string{{"match", name, "--against", "target"}, {"match", name, "--against", "source"}, {"review"}, {"review", "--json"}, {"parcel", "show", name, "*"}} {
			r := p.run(args...)
			assert.NotContains(t, r.out+r.err, marker, "%s: %v", name, args)
		}
	}
	require.NoError(t, filepath.WalkDir(p.dir, func(path string, entry os.DirEntry, err error) error {
		if err == nil && !entry.IsDir() && !strings.HasSuffix(path, ".db") {
			content, readErr := os.ReadFile(path)
			require.NoError(t, readErr)
			assert.NotContains(t, string(content), marker, path)
		}
		return err
	}))
}

func field(m map[string]any) map[string]any {
	return m["types"].([]any)[0].(map[string]any)["fields"].([]any)[0].(map[string]any)
}

func TestNotesThatNameOtherFilesAreRefused(t *testing.T) {
	t.Parallel()
	for i, note := range []string{`{"files":["../victim"]}`, `{"files":["/tmp/victim"]}`, `{"files":["items.csv"],"keep":"/../../victim"}`, `{"remove":["../victim"]}`, `{"files":[".ssh/x"]}`, `{"files":["sub/items.csv"]}`, `{"remove":["notes.txt"]}`, strings.Repeat("[", 1<<20)} {
		if skips(i) {
			continue
		}
		p := &place{t: t, dir: t.TempDir(), user: "mara"}
		p.write("anagram.yaml", "environments:\n  source: {connect: \"folder:source\"}\n  target: {connect: \"folder:target\"}\n")
		p.write("catalog.yaml", "types:\n  item: {at: items, key: [code]}\n")
		p.write("source/items.csv", "code,name\nA,new\n")
		p.write("target/items.csv", "code,name\nA,old\n")
		p.write("victim", "kept")
		p.write("target/notes.txt", "kept")
		p.write("target/.anagram-replacing", note)
		p.write("target/.anagram-new/victim", "owned")
		p.write("target/.anagram-new/items.csv", "owned")
		before := p.files()
		for _, args := range [][]string{{"env", "test"}, {"catalog", "check"}, {"match", "source", "--against", "target", "--name", "p"}} {
			p.run(args...)
		}
		for name, was := range before {
			if !strings.HasPrefix(name, "parcels") && !strings.HasPrefix(name, ".anagram") {
				assert.Equal(t, was, p.files()[name], "%s after reading, with %.60s", name, note)
			}
		}
		p.run("approve", "*")
		p.run("import")
		assert.Equal(t, "kept", string(p.read("victim")))
		assert.Equal(t, "kept", string(p.read("target/notes.txt")))
		assert.NotContains(t, string(p.read("target/items.csv")), "owned")
	}
}

func TestCatalogsThatUnfoldAreRefused(t *testing.T) {
	t.Parallel()
	laugh := "a: &a [lol]\n"
	for i := 'b'; i < 'l'; i++ {
		laugh += string(i) + ": &" + string(i) + " [" + strings.Repeat("*"+string(i-1)+",", 9) + "x]\n"
	}
	for _, text := range []string{laugh, "types: " + strings.Repeat("{a: ", 100_000), "types: " + strings.Repeat("[", 1<<20), strings.Repeat("- ", 1<<19), strings.Repeat("x", 2<<20)} {
		for _, name := range []string{"catalog.yaml", "anagram.yaml"} {
			p := plainPlace(t)
			p.write(name, text)
			r := p.run("catalog", "check")
			assert.Equal(t, 2, r.code, "%.40s", text)
			assert.Less(t, r.seconds, 5.0)
			assert.Less(t, r.peak, int64(400<<20))
		}
	}
}

func TestPipesInAWorkspace(t *testing.T) {
	t.Parallel()
	for i, name := range []string{"anagram.yaml", "catalog.yaml", "pairs.jsonl", ".anagram/register.jsonl", ".anagram/pairs.jsonl", "source.db", "parcels/p.parcel", "dockets/0001.docket"} {
		if skips(i) {
			continue
		}
		p := plainPlace(t)
		p.must(0, "export", "source", "--name", "p")
		require.NoError(t, os.RemoveAll(p.path(name)))
		require.NoError(t, os.MkdirAll(filepath.Dir(p.path(name)), 0o700))
		require.NoError(t, os.Symlink("/dev/zero", p.path(name)))
		for _, args := range [][]string{{"status"}, {"env", "test"}, {"parcel", "list"}, {"match", "p", "--against", "target"}, {"history"}, {"review", "1"}} {
			assert.Less(t, p.run(args...).seconds, 5.0, "%s: %v", name, args)
		}
	}
}

func TestDocketsThatRunSomething(t *testing.T) {
	t.Parallel()
	inGate(t, "files that run something")
	for _, statement := range []string{
		"CREATE VIEW v AS SELECT 1", "CREATE TRIGGER x AFTER INSERT ON decisions BEGIN DELETE FROM findings; END", "CREATE TABLE more (a)", "CREATE INDEX more ON findings (title)", "ALTER TABLE findings ADD COLUMN other",
		"UPDATE findings SET title = 'x'", "UPDATE findings SET source = source || ' '", "DELETE FROM findings", "UPDATE header SET value = replace(value, 'target', 'other')",
		"CREATE TABLE gone AS SELECT * FROM findings; DROP TABLE findings; CREATE VIEW findings AS WITH RECURSIVE r(n) AS (SELECT 1 UNION ALL SELECT n FROM r) SELECT g.* FROM gone g, r",
	} {
		p := plainPlace(t)
		p.must(3, "match", "source", "--against", "target", "--name", "p")
		before := p.rows("target", "SELECT * FROM assays ORDER BY 1")
		p.docketFile("dockets/0001.docket", statement)
		for _, args := range [][]string{{"review"}, {"approve", "*"}, {"import"}} {
			r := p.run(args...)
			assert.NotEqual(t, 0, r.code, "%s: %v", statement, args)
			assert.Less(t, r.seconds, 5.0, statement)
		}
		assert.Equal(t, before, p.rows("target", "SELECT * FROM assays ORDER BY 1"), statement)
	}
}

func TestTextsThatCalculate(t *testing.T) {
	t.Parallel()
	const table = "CREATE TABLE items (code TEXT PRIMARY KEY, name TEXT, \"=cmd\" TEXT);"
	p := newPlace(t, "types:\n  item: {at: items, key: [code]}\n", table, table)
	texts := []string{"=1+1", "+1", "-1", "@SUM(A1)", "\t=1", "\r=1", "=cmd|' /C calc'!A0", " =1", "\n=1", "a;=1+1", "a,=1+1", "a\t=1+1", "\ufeff=1", "＝1+1"}
	for _, text := range texts {
		quoted := strings.ReplaceAll(text, "'", "''")
		p.sql("source", "INSERT INTO items VALUES ('"+quoted+"','"+quoted+"','"+quoted+"')")
	}
	p.must(0, "export", "source", "--name", "p")
	p.must(0, "parcel", "table", "p", "item", "--out", "out.csv")
	noFormula(t, p.read("out.csv"))
	p.must(3, "match", "p", "--against", "target")
	p.must(0, "approve", "*")
	p.must(0, "import", "--into-files", "load")
	files, err := filepath.Glob(p.path("load/*.csv"))
	require.NoError(t, err)
	for _, name := range files {
		text, err := os.ReadFile(name)
		require.NoError(t, err)
		noFormula(t, text)
	}
	require.NoError(t, os.MkdirAll(p.path("back/records"), 0o700))
	p.must(0, "parcel", "table", "p", "item", "--out", "back/records/item.csv")
	p.must(0, "parcel", "make", "back", "--like", "source", "--name", "made")
	p.must(0, "match", "made", "--against", "p") // what was written is read again
}

// noFormula cuts a file into cells as any program may, at commas, semicolons or tabs, and
// sees that none begins as a formula does.
func noFormula(t *testing.T, text []byte) {
	t.Helper()
	for _, comma := range ",;\t" {
		r := csv.NewReader(bytes.NewReader(text))
		r.Comma, r.LazyQuotes, r.FieldsPerRecord = comma, true, -1
		rows, err := r.ReadAll()
		require.NoError(t, err)
		for _, row := range rows {
			for _, cell := range row {
				assert.False(t, strings.ContainsAny(strings.TrimLeft(cell+" ", " \t\r\n\ufeff")+" ", "=+@＝") && strings.IndexAny(strings.TrimLeft(cell, " \t\r\n\ufeff"), "=+@＝-") == 0, "%q, cut at %q", cell, comma)
			}
		}
	}
}
