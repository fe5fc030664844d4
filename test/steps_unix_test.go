//go:build unix

package test

import (
	"database/sql"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Tables of a MariaDB server without transactions: each write is lasting by itself.

func stepTables(engine string) []string {
	return []string{
		"CREATE TABLE items (id INTEGER AUTO_INCREMENT PRIMARY KEY, code VARCHAR(20) NOT NULL UNIQUE, name VARCHAR(40), f2 VARCHAR(20), next INTEGER) ENGINE=" + engine,
		"CREATE TABLE parts (id INTEGER AUTO_INCREMENT PRIMARY KEY, item INTEGER NOT NULL, n INTEGER NOT NULL, note VARCHAR(20), UNIQUE (item, n)) ENGINE=" + engine,
		"CREATE TABLE writes (at INTEGER AUTO_INCREMENT PRIMARY KEY, code VARCHAR(20)) ENGINE=MyISAM",
	}
}

// stepPlace has a source and a target in tables without transactions, which count how often
// each record is written.
func stepPlace(t *testing.T, records int) (*place, *sql.DB) {
	t.Helper()
	p := &place{t: t, dir: t.TempDir(), user: "mara"}
	address, target := server(t, p, "mysql", "target")
	for _, statement := range stepTables("MyISAM") {
		run(t, target, statement)
	}
	var rows, there []string
	for i := range records {
		next := "NULL"
		if i%7 == 3 { // circles, so that records are written in two passes
			next = fmt.Sprint(i + 2)
		}
		if i%7 == 4 {
			next = fmt.Sprint(i)
		}
		rows = append(rows, fmt.Sprintf("(%d,'I%03d','new %d','x',%s)", i+1, i, i, next))
		if i%3 == 0 && next == "NULL" {
			there = append(there, fmt.Sprintf("('I%03d','old','x')", i))
		}
	}
	p.sql("source", "CREATE TABLE items (id INTEGER PRIMARY KEY, code TEXT NOT NULL UNIQUE, name TEXT, f2 TEXT, next INTEGER); CREATE TABLE parts (id INTEGER PRIMARY KEY, item INTEGER NOT NULL, n INTEGER NOT NULL, note TEXT); INSERT INTO items VALUES "+strings.Join(rows, ",")+"; INSERT INTO parts VALUES (1,1,1,'p'),(2,2,1,'q');")
	run(t, target, "INSERT INTO items (code, name, f2) VALUES "+strings.Join(there, ","), "INSERT INTO items (code, name) VALUES ('OWN', 'own')")
	run(t, target, "CREATE TRIGGER added AFTER INSERT ON items FOR EACH ROW INSERT INTO writes (code) VALUES (NEW.code)",
		"CREATE TRIGGER changed AFTER UPDATE ON items FOR EACH ROW INSERT INTO writes (code) VALUES (concat(NEW.code, '*'))")
	p.write("catalog.yaml", restoreCatalog)
	p.target(address, "")
	trustElsewhere(p)
	return p, target
}

func TestAnImportWithoutTransactions(t *testing.T) {
	t.Parallel()
	p, target := stepPlace(t, 20)
	before := lines(t, target, itemRows)
	p.must(3, "match", "source", "--against", "target", "--name", "p")
	p.must(0, "approve", "*")
	assert.Contains(t, words(p.must(2, "import", "--rehearse").err), "target cannot take back what was written (its tables items, parts have no transactions), so nothing can be rehearsed there.")
	assert.Contains(t, words(p.must(2, "import", "--resume").err), "No import of docket 1 was broken off, so there is nothing to resume")
	assert.Equal(t, before, lines(t, target, itemRows))
	r := p.must(0, "import")
	assert.Contains(t, words(r.out), "target has no transactions for all that was written, so each record was written by itself, checked and read back at once.")
	p.must(0, "match", "p", "--against", "target")
	p.must(3, "restore", "1")
	p.must(0, "approve", "*", "--take", "source")
	p.must(0, "import")
	assert.Equal(t, before, lines(t, target, itemRows))

	// What is refused is left out with what needs it, the others go on.
	run(t, target, "CREATE TRIGGER refuses BEFORE INSERT ON items FOR EACH ROW BEGIN IF NEW.code = 'I001' THEN SIGNAL SQLSTATE '45000'; END IF; END")
	p.must(3, "match", "p", "--against", "target")
	p.must(0, "approve", "*")
	r = p.must(5, "import")
	assert.Contains(t, words(r.out), "refused: item/I001 in target")
	assert.Contains(t, words(r.out), "depends-on-left-out: part/I001/1")
	assert.Len(t, lines(t, target, "SELECT code FROM items"), 20)

	// What reads back otherwise stops it, and is taken back by the restore that it names.
	run(t, target, "DROP TRIGGER refuses", "CREATE TRIGGER alters BEFORE UPDATE ON items FOR EACH ROW SET NEW.f2 = 'altered'", "UPDATE items SET name = 'again', f2 = 'y' WHERE code IN ('I000', 'I006')", "DELETE FROM writes")
	run(t, target, "DROP TRIGGER alters", "UPDATE items SET f2 = 'x' WHERE code IN ('I000', 'I006')", "CREATE TRIGGER alters BEFORE UPDATE ON items FOR EACH ROW SET NEW.f2 = IF(NEW.name LIKE 'new%', 'altered', NEW.f2)")
	p.must(3, "match", "p", "--against", "target")
	p.must(0, "approve", "item/I000", "item/I006", "--take", "source")
	before = lines(t, target, itemRows)
	r = p.must(5, "import")
	assert.Contains(t, words(r.out), "stopped: what was written last reads back otherwise.")
	assert.Contains(t, words(r.out), "item/I000: field f2 was not to be written; it was x and is altered afterwards.")
	assert.Equal(t, "written-otherwise", p.json(0, "history", fmt.Sprint(docketsIn(p)))["runs"].([]any)[0].(map[string]any)["outcome"])
	restore, _, _ := strings.Cut(r.err[strings.Index(r.err, "anagram restore"):], "\n")
	run(t, target, "DROP TRIGGER alters")
	p.must(3, strings.Fields(restore)[1:]...)
	p.must(0, "approve", "*", "--take", "source")
	p.must(0, "import")
	assert.Equal(t, before, lines(t, target, itemRows))
}

// docketsIn gives the number of the newest docket.
func docketsIn(p *place) int {
	return int(p.json(0, "status")["newest_docket"].(map[string]any)["docket"].(float64))
}

// A record that changes between being read again and being written is not overwritten.
func TestAWriteWithoutTransactionIsChecked(t *testing.T) {
	t.Parallel()
	p, target := stepPlace(t, 12)
	p.must(3, "match", "source", "--against", "target", "--name", "p")
	p.must(0, "approve", "*")
	// The first record that is written changes another one behind the import's back.
	run(t, target, "DROP TRIGGER changed", "DROP TRIGGER added", "CREATE TABLE later (code VARCHAR(20)) ENGINE=MyISAM")
	lockWhile := "CREATE TRIGGER sly AFTER INSERT ON parts FOR EACH ROW UPDATE items SET name = 'theirs' WHERE code = 'I009'"
	_ = lockWhile
	cmd := p.command("import")
	require.NoError(t, cmd.Start())
	for range 400 {
		if n := lines(t, target, "SELECT count(*) FROM items WHERE name LIKE 'new%'"); n[0] != "0" {
			break
		}
		time.Sleep(2 * time.Millisecond)
	}
	run(t, target, "UPDATE items SET name = 'theirs' WHERE code = 'I009' AND name = 'old'")
	err := cmd.Wait()
	name := lines(t, target, "SELECT name FROM items WHERE code = 'I009'")[0]
	if name == "theirs" {
		require.Error(t, err)
		assert.Equal(t, 5, cmd.ProcessState.ExitCode())
		assert.Contains(t, words(p.must(0, "history", "1").out), "moved-since-match: item/I009 was not imported: it was changed since it was read.")
	} else {
		assert.Equal(t, "new 9", name)
	}
}

// However it is killed: what is in the target is what the docket says, it can be gone on with
// or taken back, and nothing is written twice.
func TestAnImportWithoutTransactionsIsKilled(t *testing.T) {
	inGate(t, "kills")
	t.Parallel()
	r := rand.New(rand.NewPCG(14, 2))
	total := 0
	defer func() { t.Logf("killed %d times", total) }()
	for i := range kills(1, 20) {
		t.Run(fmt.Sprint(i), func(t *testing.T) {
			p, target := stepPlace(t, 16)
			before := lines(t, target, itemRows)
			p.must(3, "match", "source", "--against", "target", "--name", "p")
			p.must(0, "approve", "*")
			kills := 0
			for {
				args := []string{"import"}
				if kills > 0 {
					args = append(args, "--resume")
				}
				cmd := p.command(args...)
				require.NoError(t, cmd.Start())
				time.Sleep(time.Duration(20+r.IntN(500)) * time.Millisecond)
				_ = cmd.Process.Signal(syscall.SIGKILL)
				err := cmd.Wait()
				kills++
				total++
				if err == nil {
					break
				}
				if cmd.ProcessState.ExitCode() > 0 && kills > 1 { // it was killed before it began, or after its end
					p.run("import", "--resume")
					break
				}
				if kills == 3 {
					break
				}
			}
			half := p.run("import")
			if half.code == 4 {
				assert.Contains(t, words(half.err), "Finish it with anagram import 1 --resume, or take it back with anagram restore 1.")
				assert.Contains(t, words(p.run("approve", "*").err), "was broken off half way, so nothing is decided on top of it")
				if i%2 == 0 {
					p.must(0, "import", "1", "--resume")
				} else {
					p.must(3, "restore", "1")
					for address, f := range p.review() {
						if f.Status == "target-only" {
							assert.NotContains(t, f.Checks, "x", address)
						}
					}
				}
			}
			if half.code != 4 || i%2 == 0 {
				assert.Equal(t, []string{}, lines(t, target, "SELECT code FROM writes GROUP BY code HAVING count(*) > 1"), "nothing is written twice")
				p.must(0, "match", "p", "--against", "target")
				p.must(3, "restore", "1")
			}
			p.must(0, "approve", "*", "--take", "source")
			last := p.run("import")
			now := lines(t, target, itemRows)
			if last.code == 0 {
				assert.Equal(t, before, now)
				return
			}
			// A record that came while it was killed, and was never read back, stays for a person to look at.
			assert.Equal(t, 5, last.code, last.out+last.err)
			assert.Contains(t, words(last.out), "not-as-written")
			for _, row := range before {
				assert.True(t, slices.Contains(now, row), row)
			}
		})
	}
}

// Ctrl-C in the middle says how far it came and how to go on.
func TestCtrlCInAnImportWithoutTransactions(t *testing.T) {
	inGate(t, "interruptions")
	t.Parallel()
	p, target := stepPlace(t, 62)
	p.must(3, "match", "source", "--against", "target", "--name", "p")
	p.must(0, "approve", "*")
	cmd := p.command("import")
	var said strings.Builder
	cmd.Stdout, cmd.Stderr = &said, &said
	require.NoError(t, cmd.Start())
	for range 2000 {
		if lines(t, target, "SELECT count(*) FROM items WHERE name LIKE 'new%'")[0] != "0" {
			break
		}
		time.Sleep(time.Millisecond)
	}
	require.NoError(t, cmd.Process.Signal(syscall.SIGINT))
	require.Error(t, cmd.Wait())
	assert.Equal(t, 6, cmd.ProcessState.ExitCode(), said.String())
	assert.Regexp(t, `The import of docket 1 into target was broken off: of 64 records \d+ were written. Finish it with anagram import 1 --resume, or take it back with anagram restore 1.`, words(said.String()))
	status := p.must(0, "status")
	assert.Contains(t, words(status.out), "its import to be finished: anagram import 1 --resume")
	assert.Contains(t, words(status.err), "Next: anagram import 1 --resume")
	assert.NotContains(t, p.must(0, "review", "1", "--print").err, "--rehearse")
	assert.Contains(t, words(p.run("match", "p", "--against", "target").out), "unfinished-import: An import of docket 1 into target was broken off half way.")
	p.must(0, "import", "1", "--resume")
	assert.Empty(t, lines(t, target, "SELECT code FROM writes GROUP BY code HAVING count(*) > 1"))
	p.must(0, "match", "p", "--against", "target")
}
