package test

import (
	"context"
	"database/sql"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const loadCatalog = `
types:
  node: {at: nodes, key: [parent_id, code], id: node_id, refers: {parent_id: node}}
  unit: {at: units, key: [code], id: unit_id}
  assay: {at: assays, key: [code], id: assay_id, refers: {unit_id: unit, spare_id: assay, node_id: node}, local: {address: {target: "https://lab.example.org"}}}
  span: {at: spans, key: [assay_id, low], refers: {assay_id: assay}, part_of: assay}
`

const loadTables = `CREATE TABLE nodes (node_id {id}, parent_id integer, code varchar(20));
CREATE TABLE units (unit_id {id}, code varchar(20) NOT NULL UNIQUE, name varchar(60));
CREATE TABLE assays (assay_id {id}, code varchar(20) NOT NULL UNIQUE, unit_id integer, spare_id integer, node_id integer, price decimal(8,2), body {bytes}, address varchar(60));
CREATE TABLE spans (assay_id integer NOT NULL, low decimal(8,2), high decimal(8,2))`

// loadPlace has an SQLite source and a target of an engine.
func loadPlace(t *testing.T, engine string) (*place, *sql.DB) {
	p := &place{t: t, dir: t.TempDir(), user: "mara"}
	address, db := server(t, p, engine, "target")
	tables := func(engine string) []string {
		bytes := map[string]string{"sqlite": "BLOB", "postgres": "bytea", "mysql": "blob"}[engine]
		return strings.Split(strings.ReplaceAll(strings.ReplaceAll(loadTables, "{id}", serverID[engine]), "{bytes}", bytes), ";\n")
	}
	run(t, db, tables(engine)...)
	run(t, db, "INSERT INTO units VALUES (70, 'm', 'old')", "INSERT INTO nodes VALUES (80, NULL, 'root')", "INSERT INTO assays (assay_id, code, unit_id, price, address) VALUES (90, 'OLD', 70, 1, 'https://kept')")
	p.sql("source", strings.Join(tables("sqlite"), ";")+`; INSERT INTO units VALUES (1,'m','it''s \ "new"'||char(10)||'line'),(2,'s','second');
		INSERT INTO nodes VALUES (1,NULL,'root'),(2,1,'leaf');
		INSERT INTO assays (assay_id, code, unit_id, spare_id, node_id, price, body) VALUES (1,'A',2,2,2,1.5,x'00ff'),(2,'B',1,1,1,NULL,NULL),(3,'OLD',2,NULL,NULL,2,NULL); INSERT INTO spans VALUES (1,0,1.5),(3,0,NULL)`)
	p.write("catalog.yaml", loadCatalog)
	p.target(address, "")
	p.must(3, "match", "source", "--against", "target", "--name", "p")
	p.must(0, "approve", "*")
	p.must(0, "decline", "span/OLD/*", "--again")
	return p, db
}

var loaded = []string{"A|s|B|leaf|1.50|https://lab.example.org", "B|m|A|root||https://lab.example.org", "OLD|s|||2.00|https://kept"}

const loadedQuery = `SELECT a.code, u.code, s.code, n.code, a.price, a.address FROM assays a JOIN units u ON u.unit_id = a.unit_id LEFT JOIN assays s ON s.assay_id = a.spare_id LEFT JOIN nodes n ON n.node_id = a.node_id ORDER BY 1`

// runLoadScript runs a script over one connection and stops at the first error.
func runLoadScript(t *testing.T, db *sql.DB, script string) error {
	t.Helper()
	ctx := context.Background()
	conn, err := db.Conn(ctx)
	require.NoError(t, err)
	defer conn.Close()
	for statement := range strings.SplitSeq(script, ";\n") {
		if strings.TrimSpace(statement) == "" {
			continue
		}
		if _, err := conn.ExecContext(ctx, statement); err != nil {
			_, _ = conn.ExecContext(ctx, "ROLLBACK")
			_, _ = conn.ExecContext(ctx, "DROP TABLE IF EXISTS anagram_script")
			return err
		}
	}
	return nil
}

func TestLoadFilesAsSQL(t *testing.T) {
	t.Parallel()
	for _, engine := range tries(t.Name(), allEngines...) {
		t.Run(engine, func(t *testing.T) {
			p, db := loadPlace(t, engine)
			before := lines(t, db, loadedQuery)
			r := p.must(0, "import", "--into-files", "load", "--form", "sql")
			assert.Contains(t, words(r.out), "Wrote load files for 5 new and 2 changed records of docket 1")
			assert.Equal(t, before, lines(t, db, loadedQuery), "nothing is written to the target")
			assert.Contains(t, p.must(0, "history").out, "load files wait")
			assert.Contains(t, words(p.must(3, "match", "p", "--against", "target").out), "The load files of docket 1 wait: 7 of 7 records not in target as approved.")
			script := string(p.read("load/load.sql"))
			// Somebody changed a record since: nothing of it is loaded.
			run(t, db, "UPDATE units SET name = 'changed since' WHERE code = 'm'")
			require.Error(t, runLoadScript(t, db, script))
			run(t, db, "UPDATE units SET name = 'old' WHERE code = 'm'")
			assert.Equal(t, before, lines(t, db, loadedQuery), "all or nothing")
			require.NoError(t, runLoadScript(t, db, script))
			after := lines(t, db, loadedQuery)
			for i := range after { // SQLite keeps decimals as they come
				after[i] = strings.ReplaceAll(strings.ReplaceAll(after[i], "|1.5|", "|1.50|"), "|2|", "|2.00|")
			}
			assert.Equal(t, loaded, after)
			r = p.must(0, "match", "p", "--against", "target") // what was declined is declined
			assert.Contains(t, words(r.out), "The load files of docket 1 were loaded: 7 records as approved.")
			reached := words(p.must(0, "history", "--since", "2026-01-01").out)
			assert.Contains(t, reached, "assay/A: came")
			assert.NotContains(t, reached, "span/OLD", "which was declined")
			assert.Equal(t, map[string]int{"new": 1}, totals(p.json(0, "match", "p", "--against", "target")), "nothing but what was declined")
			assert.Contains(t, p.must(0, "history").out, "5 new, 2 changed")
			assert.NotContains(t, words(p.must(0, "match", "p", "--against", "target").out), "docket 1 ")
		})
	}
}

func TestLoadFilesAsTables(t *testing.T) {
	t.Parallel()
	p, _ := loadPlace(t, "sqlite")
	p.must(0, "import", "--into-files", "load")
	about := string(p.read("load/about.txt"))
	assert.Contains(t, about, "Load files of docket 1: source to target")
	assert.Contains(t, about, "Load them in this order:\n  01-node-add.csv  1 record\n  02-unit-change.csv  1 record\n")
	all := map[string]string{}
	entries, err := os.ReadDir(p.path("load"))
	require.NoError(t, err)
	order := []string{}
	for _, e := range entries {
		if !e.IsDir() {
			all[e.Name()] = string(p.read("load/" + e.Name()))
			order = append(order, e.Name())
		}
	}
	joined := strings.Join(order, " ")
	assert.Contains(t, joined, "unit-add.csv")
	assert.Contains(t, all["02-unit-change.csv"], "code,name\nm,\"it's \\ \"\"new\"\"\nline\"\n")
	assert.Less(t, strings.Index(joined, "assay-add.csv"), strings.Index(joined, "span-add.csv"), "what is referred to comes first")
	assert.Contains(t, joined, "assay-change.csv", "a circle is closed in a second pass")
	for _, text := range all {
		assert.NotContains(t, text, "OLD,0,", "what was declined is in no file")
	}
	_, err = os.Stat(p.path("load/files"))
	assert.NoError(t, err, "attachments lie beside them")
	p.refused("is no empty folder", "import", "--into-files", "load")
	p.write("afile", "of somebody")
	p.refused("is no empty folder", "import", "--into-files", "afile")
	p.refused("--form is csv, jsonl or sql", "import", "--into-files", "other", "--form", "xml")
	p.refused("--form goes with --into-files", "import", "--form", "csv")
	doc := p.json(0, "import", "--into-files", "lines", "--form", "jsonl")
	assert.Equal(t, "load-files", doc["outcome"])
	assert.Contains(t, string(p.read("lines/02-unit-change.jsonl")), `{"key":["m"],"values":{"name":"it's \\ \"new\"\nline"}}`)
	p.must(0, "import")
	assert.Contains(t, words(p.must(0, "history").out), "5 new, 2 changed")
}
