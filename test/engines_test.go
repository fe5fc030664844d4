package test

import (
	"context"
	"database/sql"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/demo"
	"anagram/internal/environment/suite"
)

// server makes an empty database of an engine and gives its address and a connection.
func server(t *testing.T, p *place, engine, role string) (string, *sql.DB) {
	t.Helper()
	switch engine {
	case "postgres":
		return suite.Postgres(t)
	case "mysql":
		return suite.MySQL(t)
	}
	db, err := sql.Open("sqlite", "file:"+p.path(role+".db"))
	require.NoError(t, err)
	t.Cleanup(func() { _ = db.Close() })
	return "sqlite:" + role + ".db", db
}

var kinds = map[string]func() demo.Engine{"sqlite": demo.SQLite, "postgres": demo.Postgres, "mysql": demo.MySQL}

// fernhollow makes the demo's workspace on two engines and gives the connections.
func fernhollow(t *testing.T, engineOf map[string]string) (*place, map[string]*sql.DB) {
	t.Helper()
	p := &place{t: t, dir: t.TempDir(), user: "mara"}
	config := "environments:\n"
	dbs := map[string]*sql.DB{}
	for _, role := range demo.Roles() {
		address, db := server(t, p, engineOf[role], role)
		require.NoError(t, demo.Fill(context.Background(), db, kinds[engineOf[role]](), role))
		config += fmt.Sprintf("  %s: {connect: %q}\n", role, address)
		dbs[role] = db
	}
	p.write("anagram.yaml", config)
	p.write("catalog.yaml", string(demo.Catalog()))
	return p, dbs
}

// Every pair of engines: the whole demo's records arrive, and matching again finds
// nothing of what was approved.
func TestEveryPairOfEngines(t *testing.T) {
	records := map[string]string{}
	for _, source := range []string{"sqlite", "postgres", "mysql"} {
		for _, target := range []string{"sqlite", "postgres", "mysql"} {
			t.Run(source+" to "+target, func(t *testing.T) {
				p, _ := fernhollow(t, map[string]string{"sandbox": source, "production": target})
				p.must(0, "env", "test")
				p.must(0, "catalog", "check")
				p.must(0, "export", "sandbox", "--name", "p", "--as-folder")
				var all strings.Builder
				for _, name := range []string{"assay", "assay_range", "department", "price_line", "comment_code", "reflex_rule", "report_template"} {
					all.Write(p.read("parcels/p/records/" + name + ".jsonl"))
				}
				records[source] = all.String()
				doc := p.json(3, "match", "p", "--against", "production")
				assert.Equal(t, map[string]int{"new": 54, "changed": 19, "conflict": 1, "target_only": 10}, totals(doc))
				p.must(0, "approve", "*")
				p.must(0, "import", "--rehearse")
				imported := p.json(0, "import")
				assert.Equal(t, map[string]any{"new": 54.0, "changed": 19.0}, imported["written"])
				doc = p.json(3, "match", "p", "--against", "production")
				assert.Equal(t, map[string]int{"conflict": 1, "target_only": 10}, totals(doc))
			})
		}
	}
	for engine, text := range records {
		assert.Equal(t, records["sqlite"], text, "the records exported from %s are those exported from sqlite, byte for byte", engine)
	}
}
