//go:build unix

package test

import (
	"bytes"
	"database/sql"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// looseText is, by engine, a column whose collation takes texts for the same that differ in case,
// accent or trailing blanks, as far as the engine has one.
var looseText = map[string]string{"sqlite": "VARCHAR(40) COLLATE NOCASE", "mysql": "VARCHAR(40) CHARACTER SET latin1 COLLATE latin1_swedish_ci", "postgres": `VARCHAR(40) COLLATE "loose"`}

// scripted matches two databases of an engine, approves what fits, writes the script and gives it.
func scripted(t *testing.T, engine, catalog string, approve []string, tables []string, source, target string) (*place, *sql.DB, string) {
	t.Helper()
	p, from, to := pair(t, engine, catalog, "CREATE TABLE spare (n INTEGER)")
	for _, db := range []*sql.DB{from, to} {
		if engine == "postgres" {
			run(t, db, `CREATE COLLATION loose (provider = icu, locale = 'und-u-ks-level1', deterministic = false)`)
		}
		run(t, db, tables...)
	}
	run(t, from, strings.Split(source, ";")...)
	run(t, to, strings.Split(target, ";")...)
	p.must(3, "match", "source", "--against", "target")
	p.must(0, append([]string{"approve"}, approve...)...)
	p.must(0, "import", "--into-files", "load", "--form", "sql")
	return p, to, string(p.read("load/load.sql"))
}

// ran runs a script in the engine's own client; careless is one that goes on after errors.
func ran(t *testing.T, p *place, engine string, db *sql.DB, script string, careless bool) (said string, err error) {
	t.Helper()
	cmd := client(t, p, engine, db)
	if careless {
		switch engine {
		case "postgres":
			cmd.Args = append([]string{cmd.Args[0], "-X", "-q", "-v", "ON_ERROR_ROLLBACK=on"}, cmd.Args[len(cmd.Args)-1])
		case "mysql":
			cmd.Args = append([]string{cmd.Args[0], cmd.Args[1], "--force"}, cmd.Args[2:]...)
		default:
			cmd.Args = []string{cmd.Args[0], cmd.Args[len(cmd.Args)-1]}
		}
	}
	cmd.Stdin, cmd.Dir = strings.NewReader(script), p.dir
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	err = cmd.Run()
	return out.String(), err
}

// What a collation takes for the same is told apart: in keys, in what a record was, and in what
// it refers to.
func TestAScriptComparesExactly(t *testing.T) {
	t.Parallel()
	for _, engine := range tries(t.Name(), everyEngine...) {
		t.Run(engine, func(t *testing.T) {
			t.Parallel()
			text := looseText[engine]
			tables := []string{"CREATE TABLE units (id INTEGER PRIMARY KEY, code " + text + ")", "CREATE TABLE items (code " + text + ", name " + text + ", unit INTEGER)"}
			const catalog = "types:\n  unit: {at: units, key: [code], id: id}\n  item: {at: items, key: [code], refers: {unit: unit}}\n"
			const units = "INSERT INTO units VALUES (1,'m'),(2,'M')"
			p, db, script := scripted(t, engine, catalog, []string{"item/X"}, tables, units+";INSERT INTO items VALUES ('X','new',2),('x','same',1)",
				units+";INSERT INTO items VALUES ('x','same',1),('X','old',1)")
			rows := func() []string { return lines(t, db, "SELECT code, name, unit FROM items ORDER BY 3, 2") }
			before := rows()
			for _, edit := range []string{"OLD", "old ", "öld"} {
				if engine == "postgres" && edit == "old " { // the collation tells trailing blanks apart by itself
					continue
				}
				run(t, db, "UPDATE items SET name = '"+edit+"' WHERE name = 'old'")
				edited := rows()
				said, err := ran(t, p, engine, db, script, false)
				require.Error(t, err, said)
				assert.Contains(t, said, "record_is_not_as_it_was", edit)
				said, _ = ran(t, p, engine, db, script, true)
				assert.Equal(t, edited, rows(), "%s: %s", edit, said)
				run(t, db, "UPDATE items SET name = 'old' WHERE name = '"+edit+"'")
			}
			require.Equal(t, before, rows())
			said, err := ran(t, p, engine, db, script, false)
			require.NoError(t, err, said)
			assert.Equal(t, []string{"x|same|1", "X|new|2"}, rows())
		})
	}
}

// A client that goes on after errors leaves nothing half-written, and a script that was run says so.
func TestAScriptIsDoneOnceAndWhole(t *testing.T) {
	t.Parallel()
	for _, engine := range tries(t.Name(), everyEngine...) {
		t.Run(engine, func(t *testing.T) {
			t.Parallel()
			body := map[string]string{"sqlite": "BLOB", "postgres": "bytea", "mysql": "blob"}[engine]
			bytesOf := func(hex string) string {
				if engine == "postgres" {
					return `'\x` + hex + `'`
				}
				return "x'" + hex + "'"
			}
			tables := []string{"CREATE TABLE items (code VARCHAR(40) PRIMARY KEY, name VARCHAR(40) UNIQUE, body " + body + ")"}
			p, db, script := scripted(t, engine, "types:\n  item: {at: items, key: [code]}\n", []string{"*"}, tables,
				"INSERT INTO items VALUES ('A','a2',"+bytesOf("00ff")+"),('B','b2',NULL),('C','c2',NULL),('D','d2',NULL)",
				"INSERT INTO items VALUES ('A','a1',"+bytesOf("0011")+"),('B','b1',NULL),('C','c1',NULL),('Z','z',NULL)")
			all := func() []string { return lines(t, db, "SELECT code, name FROM items ORDER BY 1") }
			for what, edit := range map[string][2]string{
				"moved in the middle":     {"UPDATE items SET name = 'moved' WHERE code = 'B'", "UPDATE items SET name = 'b1' WHERE code = 'B'"},
				"moved at the end":        {"INSERT INTO items (code, name) VALUES ('D', 'theirs')", "DELETE FROM items WHERE code = 'D'"},
				"an attachment moved":     {"UPDATE items SET body = " + bytesOf("0012") + " WHERE code = 'A'", "UPDATE items SET body = " + bytesOf("0011") + " WHERE code = 'A'"},
				"a write that is refused": {"UPDATE items SET name = 'c2' WHERE code = 'Z'", "UPDATE items SET name = 'z' WHERE code = 'Z'"},
			} {
				run(t, db, edit[0])
				before := all()
				said, _ := ran(t, p, engine, db, script, true)
				assert.Equal(t, before, all(), "%s: %s", what, said)
				said, err := ran(t, p, engine, db, script, false)
				require.Error(t, err, "%s: %s", what, said)
				assert.Equal(t, before, all(), what)
				run(t, db, edit[1])
			}
			said, err := ran(t, p, engine, db, script, true)
			require.NoError(t, err, said)
			assert.Equal(t, []string{"A|a2", "B|b2", "C|c2", "D|d2", "Z|z"}, all())
			said, err = ran(t, p, engine, db, script, false)
			require.Error(t, err)
			assert.Contains(t, said, "this_script_was_run_before")
			assert.Equal(t, map[string]int{"target_only": 1}, totals(p.json(0, "match", "source", "--against", "target")), "attachments too")
		})
	}
}

// Into tables without transactions it says that it is not one, and looks at all records before it
// writes the first.
func TestAScriptIntoTablesWithoutTransactions(t *testing.T) {
	t.Parallel()
	p, db, script := scripted(t, "mysql", "types:\n  item: {at: items, key: [code]}\n", []string{"*"},
		[]string{"CREATE TABLE items (code VARCHAR(40) PRIMARY KEY, name VARCHAR(40)) ENGINE=MyISAM"},
		"INSERT INTO items VALUES ('A','a2'),('B','b2'),('C','c2')", "INSERT INTO items VALUES ('A','a1'),('B','b1')")
	assert.Contains(t, script, "It is NOT one transaction: what was written to\n-- items before an error stays")
	assert.Less(t, strings.LastIndex(script, "record_is_not_as_it_was ="), strings.Index(script, "UPDATE `items`"))
	all := func() []string { return lines(t, db, "SELECT code, name FROM items ORDER BY 1") }
	for _, edit := range [][2]string{{"UPDATE items SET name = 'moved' WHERE code = 'B'", "UPDATE items SET name = 'b1' WHERE code = 'B'"},
		{"INSERT INTO items VALUES ('C', 'theirs')", "DELETE FROM items WHERE code = 'C'"}} {
		run(t, db, edit[0])
		before := all()
		for _, careless := range []bool{false, true} {
			said, _ := ran(t, p, "mysql", db, script, careless)
			assert.Contains(t, said, "record_is_not_as_it_was")
			assert.Equal(t, before, all(), "nothing was written yet")
		}
		run(t, db, edit[1])
	}
	said, err := ran(t, p, "mysql", db, script, false)
	require.NoError(t, err, said)
	assert.Equal(t, []string{"A|a2", "B|b2", "C|c2"}, all())
	said, err = ran(t, p, "mysql", db, script, false)
	require.Error(t, err)
	assert.Contains(t, said, "this_script_was_run_before")
}
