package test

import (
	"crypto/rand"
	"database/sql"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Long texts, large and empty attachments, and names in any script go through whole.
func TestLargeAndEmptyValues(t *testing.T) {
	inGate(t, "large values")
	t.Parallel()
	for _, engine := range tries(t.Name(), allEngines...) {
		t.Run(engine, func(t *testing.T) {
			p := &place{t: t, dir: t.TempDir(), user: "mara"}
			address, target := server(t, p, engine, "target")
			body := map[string]string{"sqlite": "BLOB", "postgres": "bytea", "mysql": "longblob"}[engine]
			text := map[string]string{"sqlite": "TEXT", "postgres": "text", "mysql": "mediumtext"}[engine]
			table := "CREATE TABLE docs (code varchar(60) PRIMARY KEY, body " + body + ", note " + text + ")"
			run(t, target, table)
			p.sql("source", "CREATE TABLE docs (code varchar(60) PRIMARY KEY, body BLOB, note TEXT);")
			db, err := sql.Open("sqlite", "file:"+p.path("source.db"))
			require.NoError(t, err)
			defer db.Close()
			large := make([]byte, full(3<<20, 50<<20))
			if engine == "mysql" && len(large) > 10<<20 {
				large = large[:10<<20] // the server takes no larger packet as it is set up
			}
			_, _ = rand.Read(large)
			long := strings.Repeat("Æ長ب🙂", 64<<10/13)
			for code, values := range map[string][]any{"large": {large, nil}, "empty": {[]byte{}, ""}, "none": {nil, long}, "検査-Ωμέγα-مختبر-🧪": {[]byte("x"), "here"}} {
				_, err := db.Exec("INSERT INTO docs VALUES (?, ?, ?)", code, values[0], values[1])
				require.NoError(t, err)
			}
			for i := range 12 { // together longer than a statement may be
				_, err := db.Exec("INSERT INTO docs VALUES (?, ?, NULL)", fmt.Sprintf("m%d", i), large[i:2<<20+i])
				require.NoError(t, err)
			}
			p.write("catalog.yaml", "types:\n  doc: {at: docs, key: [code], files: [body]}\n")
			p.target(address, "")
			r := p.must(0, "export", "source", "--name", "p")
			t.Logf("export: %d MiB", r.peak>>20)
			p.must(0, "parcel", "verify", "p")
			p.must(3, "match", "p", "--against", "target")
			p.must(0, "approve", "*")
			r = p.must(0, "import")
			t.Logf("import: %d MiB", r.peak>>20)
			assert.Equal(t, map[string]int{}, totals(p.json(0, "match", "p", "--against", "target")))
			var n int
			require.NoError(t, target.QueryRow("SELECT length(body) FROM docs WHERE code = 'large'").Scan(&n))
			assert.Equal(t, len(large), n)
		})
	}
}
