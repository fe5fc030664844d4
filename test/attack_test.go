package test

import (
	"database/sql"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Every value of every table of a docket is altered, one at a time, and the docket is
// imported: it is refused, or the target ends as with the docket as it was.
func TestAnAlteredDocketWritesNothingElse(t *testing.T) {
	t.Parallel()
	p := fieldsPlace(t)
	p.must(0, "approve", "item/A", "--field", "f1", "--note", "one")
	p.must(0, "approve", "item/N")
	p.must(0, "import", "--rehearse")
	untouched := map[string]string{}
	for _, name := range []string{"dockets/0001.docket", ".anagram/register.jsonl", "target.db"} {
		untouched[name] = string(p.read(name))
	}
	const query = "SELECT code, f1, f2 FROM items ORDER BY 1"
	before := p.rows("target", query)
	p.must(0, "import")
	wanted := p.rows("target", query)
	require.NotEqual(t, before, wanted)

	for _, statement := range alterations(t, p, full(3, 1)) {
		for name, content := range untouched {
			p.write(name, content)
		}
		db, err := sql.Open("sqlite", "file:"+p.path("dockets/0001.docket"))
		require.NoError(t, err)
		_, err = db.Exec(statement)
		require.NoError(t, db.Close())
		if err != nil {
			continue // the table does not take it
		}
		r := p.run("import")
		rows := p.rows("target", query)
		if r.code == 0 || r.code == 5 {
			assert.Equal(t, wanted, rows, statement)
			continue
		}
		assert.Equal(t, before, rows, statement)
		assert.NotEmpty(t, strings.TrimSpace(r.err+r.out), statement)
	}
}

// alterations gives a statement for every column of every table, of each nth one.
func alterations(t *testing.T, p *place, nth int) []string {
	t.Helper()
	db, err := sql.Open("sqlite", "file:"+p.path("dockets/0001.docket"))
	require.NoError(t, err)
	defer db.Close()
	rows, err := db.Query("SELECT m.name, c.name FROM sqlite_schema m, pragma_table_info(m.name) c WHERE m.type = 'table' AND m.name NOT LIKE 'sqlite%' ORDER BY 1, 2")
	require.NoError(t, err)
	defer rows.Close()
	var out []string
	for n := 0; rows.Next(); n++ {
		var table, column string
		require.NoError(t, rows.Scan(&table, &column))
		if n%nth == 0 {
			out = append(out, fmt.Sprintf(`UPDATE %[1]s SET %[2]s = CASE WHEN typeof(%[2]s) = 'integer' THEN %[2]s + 1 WHEN %[2]s LIKE '%%"s"%%' THEN replace(%[2]s, '"s"', '"X"') ELSE ifnull(%[2]s, '') || 'x' END`, table, column))
		}
	}
	require.NoError(t, rows.Err())
	return append(out,
		`UPDATE decisions SET decision = 'approved', field = 'f2'`,
		`INSERT INTO decisions (at, who, finding, field, decision, note) SELECT at, who, id, '', 'approved', '' FROM findings, decisions`,
		`INSERT OR REPLACE INTO decisions SELECT seq, at, who, 2, '', 'approved', note, carried FROM decisions WHERE seq = 1`,
		`DELETE FROM links; DELETE FROM decisions`,
		`UPDATE links SET content = replace(content, '"field":"f1",', '')`,
		`CREATE TRIGGER more AFTER INSERT ON runs BEGIN UPDATE findings SET source = replace(source, '"s"', '"X"'); END`,
		`UPDATE findings SET source = replace(source, '"s"', '"X"')`,
		`UPDATE findings SET status = 'new', target = NULL`,
		`UPDATE header SET value = replace(value, '"target":"target"', '"target":"source"')`,
		`PRAGMA user_version = 3`,
	)
}
