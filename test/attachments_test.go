package test

import (
	"bytes"
	"database/sql"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What both sides attached is looked at before it is decided: a docket holds both, up to 16 MiB, and
// writes them as files that can do nothing when they are opened.
func TestBothSidesAttachmentsAreLookedAt(t *testing.T) {
	t.Parallel()
	for _, engine := range tries(t.Name(), everyEngine...) {
		t.Run(engine, func(t *testing.T) {
			t.Parallel()
			body := map[string]string{"sqlite": "BLOB", "postgres": "bytea", "mysql": "longblob"}[engine]
			p, source, target := pair(t, engine, "types:\n  sheet: {at: sheets, key: [code]}\n", "CREATE TABLE sheets (code VARCHAR(40) PRIMARY KEY, body "+body+", help TEXT)")
			mark := map[string]string{"postgres": "$1, $2, $3"}[engine]
			if mark == "" {
				mark = "?, ?, ?"
			}
			add := func(db *sql.DB, code string, content []byte, help string) {
				_, err := db.Exec("INSERT INTO sheets VALUES ("+mark+")", code, content, help)
				require.NoError(t, err)
			}
			picture := append([]byte("\x89PNG\r\n\x1a\n"), bytes.Repeat([]byte{1, 2, 3}, 400)...)
			page, large := []byte("<html><script>alert(1)</script>"), bytes.Repeat([]byte("x"), 17<<20)
			long := strings.Repeat("one line\n", 9)
			add(source, "A", picture, long)
			add(target, "A", page, "short")
			add(source, "../b c", []byte("new\n"), "x")
			add(target, "../b c", []byte("old\n"), strings.Repeat("y", 401))
			if engine == "mysql" { // which takes no larger packets here
				large = []byte("large")
			}
			add(source, "L", large, "")
			add(target, "L", []byte("small"), "")
			add(source, "N", nil, "")
			add(target, "N", []byte("only there"), "")
			p.must(3, "match", "source", "--against", "target")
			r := p.must(0, "review", "--files", "look")
			var names []string
			require.NoError(t, filepath.WalkDir(p.path("look"), func(path string, entry os.DirEntry, err error) error {
				if err == nil && !entry.IsDir() {
					name, _ := filepath.Rel(p.path("look"), path)
					names = append(names, filepath.ToSlash(name))
				}
				return err
			}))
			assert.ElementsMatch(t, []string{"sheet/A/body.source.png", "sheet/A/body.target.txt", "sheet/A/help.source.txt", "sheet/%2E.%252Fb%20c/body.source.txt",
				"sheet/%2E.%252Fb%20c/body.target.txt", "sheet/%2E.%252Fb%20c/help.target.txt", "sheet/L/body.source.txt", "sheet/L/body.target.txt", "sheet/N/body.target.txt"}, names)
			assert.Equal(t, picture, p.read("look/sheet/A/body.source.png"))
			assert.Equal(t, page, p.read("look/sheet/A/body.target.txt"))
			assert.Equal(t, long, string(p.read("look/sheet/A/help.source.txt")))
			assert.Contains(t, words(r.out), "9 files of 4 findings of docket 1 written into look")
			p.refused("look is there already and is not empty", "review", "--files", "look")

			// The other way round the large one is the target's, which is named.
			p.must(3, "match", "target", "--against", "source", "--name", "back")
			held := "not held by the docket: sheet/L"
			assert.Equal(t, engine != "mysql", strings.Contains(words(p.must(0, "review", "--files", "back").out), held))
			doc := p.json(0, "review", "--files", "only-a", "--only", "sheet/A")
			assert.InDelta(t, 3, doc["files"], 0)
			assert.InDelta(t, 1, doc["findings"], 0)
		})
	}
}
