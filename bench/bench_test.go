package main

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/tests"
)

// answers skips a test where a database cannot be reached by its own client.
func answers(t *testing.T, command string) {
	t.Helper()
	if out, err := exec.Command("bash", "-c", command).CombinedOutput(); err != nil {
		if os.Getenv("ANAGRAM_TEST_REQUIRE_SERVERS") != "" {
			t.Fatalf("%s: %v %s", command, err, out)
		}
		t.Skipf("the bench needs a server and its client: %s: %v", command, err)
	}
}

// The smallest bench runs on every engine, and what is done by hand is the same work: it finds
// the same differences, and brings the same changes.
func TestBothWaysDoTheSame(t *testing.T) {
	if !tests.Long() {
		t.Skip("left to the long run (make long): it builds databases and works on them for minutes")
	}
	for on, ask := range map[string]string{"postgres": "psql -X postgres://postgres@127.0.0.1:5432/postgres -c 'SELECT 1'", "mysql": "mariadb -h 127.0.0.1 -u root -e 'SELECT 1'", "sqlite": "sqlite3 :memory: 'SELECT 1'"} {
		t.Run(on, func(t *testing.T) {
			answers(t, ask)
			dir := t.TempDir()
			b := &bench{e: engines(dir, "postgres://postgres@127.0.0.1:5432")[on], size: 3000, dir: dir}
			for i, name := range []*string{&b.source, &b.target, &b.many} {
				*name = fmt.Sprintf("bench_test%d_%d", i, os.Getpid())
			}
			defer func() {
				for _, database := range []string{b.source, b.target, b.many, b.many + "_first"} {
					assert.NoError(t, b.shell(b.e.drop(database)))
				}
			}()
			require.NoError(t, b.build(1))
			tasks := b.tasks()
			brings := len(tasks) - 1 // the last one begins without the dockets before
			for _, one := range tasks[:brings] {
				require.NoError(t, b.do(one, 1), one.name)
			}
			// As many differences as findings.
			byHand := 0
			for _, j := range joined {
				text, err := os.ReadFile(b.path("differs-" + j.table))
				require.NoError(t, err)
				byHand += strings.Count(string(text), "\n")
			}
			_, text, err := run(filepath.Join(dir, "workspace"), []int{0}, b.program, "review", "1", "--json", "--quiet")
			require.NoError(t, err)
			found := 0
			for line := range strings.Lines(text) {
				if json.Valid([]byte(line)) {
					found++
				}
			}
			assert.Positive(t, byHand)
			assert.Equal(t, byHand, found)
			require.NoError(t, b.do(tasks[brings], 2), tasks[brings].name)
			if b.e.name == "MariaDB" {
				return
			}
			// What was brought by hand last is what Anagram would bring.
			left, err := exec.Command("bash", "-c", b.e.query(b.many, "SELECT count(*) FROM assays WHERE name LIKE 'another%'")).Output()
			require.NoError(t, err)
			assert.Equal(t, "2", strings.TrimSpace(string(left)), "but for the two records of the target alone, all names are those of the source")
		})
	}
}
