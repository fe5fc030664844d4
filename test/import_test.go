package test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// manyPlace has one type with n records in the source; every tenth differs in the
// target, and every hundredth is not there.
func manyPlace(t *testing.T, n int) *place {
	tables := "CREATE TABLE groups (id INTEGER PRIMARY KEY, code TEXT UNIQUE); CREATE TABLE items (id INTEGER PRIMARY KEY, code TEXT UNIQUE, group_id INTEGER REFERENCES groups (id), name TEXT, price DECIMAL(10,2), note TEXT);"
	fill := func(first, step int, price string, except int) string {
		return fmt.Sprintf(`%s WITH RECURSIVE n(i) AS (SELECT 0 UNION ALL SELECT i+1 FROM n WHERE i < 99) INSERT INTO groups SELECT %d + i, 'G' || i FROM n;
			WITH RECURSIVE n(i) AS (SELECT 0 UNION ALL SELECT i+1 FROM n WHERE i < %d)
			INSERT INTO items SELECT %d + %d * i, printf('ITEM-%%06d', i), %d + i %% 100, 'Item ' || i, %s, printf('%%0100d', i) FROM n WHERE i %% 100 <> %d;`,
			tables, first, n-1, first, step, first, price, except)
	}
	return newPlace(t, "types:\n  group: {at: groups, key: [code], id: id}\n  item: {at: items, key: [code], id: id, refers: {group_id: group}}\n",
		fill(1, 1, "i / 4.0 + (i % 10 = 0)", -1), fill(900_000, 3, "i / 4.0", 7))
}

const itemsQuery = "SELECT i.code, g.code, i.name, i.price, i.note FROM items i JOIN groups g ON g.id = i.group_id ORDER BY 1"

func TestTwoHundredThousandRecordsInLittleMemory(t *testing.T) {
	inLongRun(t, "volume and memory")
	n, most := full(40_000, 200_000), 200<<20
	p := manyPlace(t, n)
	check := func(r result) {
		assert.Less(t, r.peak, int64(most), "memory at most")
		t.Logf("peak %d MiB, %.1f s of processor time", r.peak>>20, r.seconds)
	}
	check(p.must(0, "export", "source", "--name", "big"))
	check(p.must(3, "match", "big", "--against", "target"))
	check(p.must(0, "approve", "--status", "changed"))
	check(p.must(0, "review", "--status", "changed", "--json"))
	check(p.must(0, "import", "--rehearse"))
	r := p.must(0, "import")
	check(r)
	assert.Contains(t, r.out, fmt.Sprintf("%d changed records were", n/10))
	assert.Equal(t, map[string]int{"new": n / 100}, totals(p.json(3, "match", "big", "--against", "target")))
}

func TestKilledAtAnyMomentTheTargetIsAsBeforeOrComplete(t *testing.T) {
	p := manyPlace(t, full(4_000, 20_000))
	p.must(0, "export", "source", "--name", "p")
	p.must(3, "match", "p", "--against", "target")
	p.must(0, "approve", "*")
	before, wanted := p.rows("target", itemsQuery), p.rows("source", itemsQuery)
	p.must(0, "import", "--rehearse")
	untouched := map[string][]byte{"target.db": p.read("target.db"), "dockets/0001.docket": p.read("dockets/0001.docket"), ".anagram/register.jsonl": p.read(".anagram/register.jsonl")}

	start := time.Now()
	p.must(0, "import")
	whole := time.Since(start)
	require.Equal(t, wanted, p.rows("target", itemsQuery))

	seen := map[string]int{}
	kills := full(5, 10)
	for i := range kills + 3 {
		for name, content := range untouched {
			for _, journal := range []string{"-journal", "-wal", "-shm"} {
				_ = os.Remove(p.path(name) + journal)
			}
			require.NoError(t, os.WriteFile(p.path(name), content, 0o600))
		}
		cmd := p.command("import")
		require.NoError(t, cmd.Start())
		if i < kills {
			time.Sleep(whole * time.Duration(i+1) / time.Duration(kills+1))
		} else {
			p.waitForCommit("target")
		}
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
		switch rows := p.rowsAfterCrash("target", itemsQuery); {
		case equal(rows, before):
			seen["as before"]++
		case equal(rows, wanted):
			seen["complete"]++
		default:
			require.Fail(t, "the target is half-written", "killed at moment %d", i)
		}
		r := p.must(0, "import", "--json")
		assert.Contains(t, r.out, `"outcome":"imported"`)
		require.Equal(t, wanted, p.rows("target", itemsQuery), "a new import completes it")
	}
	t.Logf("killed at %d moments over %v: %v", kills+3, whole, seen)
	assert.Positive(t, seen["as before"])
	assert.Positive(t, seen["complete"])
}

// waitForCommit waits until a transaction on a database was begun and has ended: while it
// lasts, its journal is there.
func (p *place) waitForCommit(name string) {
	p.t.Helper()
	begun := false
	for end := time.Now().Add(20 * time.Second); time.Now().Before(end); time.Sleep(time.Millisecond / 4) {
		_, err := os.Stat(p.path(name + ".db-journal"))
		if begun = begun || err == nil; begun && err != nil {
			return
		}
	}
	require.Fail(p.t, "no transaction was seen")
}

// rowsAfterCrash opens the database for writing first, as that is what brings it back
// to the last commit.
func (p *place) rowsAfterCrash(name, query string) []string {
	p.sql(name, "SELECT 1; BEGIN IMMEDIATE; COMMIT;")
	return p.rows(name, query)
}

func equal(a, b []string) bool { return strings.Join(a, "\n") == strings.Join(b, "\n") }

func TestCtrlCLeavesNothingHalfDone(t *testing.T) {
	p := manyPlace(t, full(12_000, 30_000))
	p.must(0, "export", "source", "--name", "p")
	p.must(3, "match", "p", "--against", "target")
	p.must(0, "approve", "*")
	p.must(0, "export", "source", "--name", "folder", "--as-folder")
	before := p.rows("target", itemsQuery)
	for _, args := range [][]string{{"parcel", "reseal", "folder", "--note", "again"}, {"parcel", "again", "p", "--name", "other"}, {"export", "source", "--name", "other"}, {"match", "p", "--against", "target"}, {"import", "--into-files", "out"}, {"import"}} {
		interrupted := 0
		// As fast as the machine may be at the moment, one of them has to be at work.
		for try := 0; try < full(3, 5) || interrupted == 0 && try < 60; try++ {
			cmd := p.command(args...)
			require.NoError(t, cmd.Start())
			time.Sleep(time.Duration(20+rand.IntN(120)) * time.Millisecond)
			require.NoError(t, cmd.Process.Signal(os.Interrupt))
			_ = cmd.Wait()
			if cmd.ProcessState.ExitCode() == 6 {
				interrupted++
				left, err := filepath.Glob(p.path(".anagram/scratch/*"))
				require.NoError(t, err)
				assert.Empty(t, left, "no temporary files stay behind")
				_, err = os.Stat(p.path("parcels/other.parcel"))
				assert.ErrorIs(t, err, os.ErrNotExist)
				_, err = os.Stat(p.path("out"))
				assert.ErrorIs(t, err, os.ErrNotExist)
				if args[0] == "parcel" {
					p.must(0, "parcel", "verify", "folder")
				}
				if args[0] == "import" {
					assert.Equal(t, before, p.rows("target", itemsQuery))
				}
			}
			_ = os.Remove(p.path("parcels/other.parcel"))
			_ = os.RemoveAll(p.path("out"))
		}
		assert.Positive(t, interrupted, "%v was never interrupted", args)
	}
}

func TestCtrlCWhereSomethingIsLookedAtAgainOrTakenBack(t *testing.T) {
	inGate(t, "interruptions")
	p := manyPlace(t, 12_000)
	p.must(0, "export", "source", "--name", "p")
	p.must(3, "match", "p", "--against", "target")
	p.must(0, "approve", "*")
	p.must(0, "import")
	p.must(3, "restore", "1")
	after := p.rows("target", itemsQuery)
	folder := func() []string {
		var names []string
		for _, pattern := range []string{"*", "dockets/*", "parcels/*", "selections/*", ".anagram/scratch/*"} {
			found, err := filepath.Glob(p.path(pattern))
			require.NoError(t, err)
			for _, name := range found {
				if !strings.HasSuffix(name, ".lock") { // what a lock is held on stays
					names = append(names, name)
				}
			}
		}
		return names
	}
	for _, args := range [][]string{
		{"restore", "1"}, {"restore", "1", "--record", "item/ITEM-000010"}, {"prove", "1"}, {"history", "item/ITEM-000010"}, {"history", "1", "--out", "h.html"},
		{"review", "2", "--out", "r.html"}, {"review", "2", "--out", "r.xlsx"}, {"review", "2", "--out", "r.csv"}, {"selection", "add", "gathered", "--docket", "1"},
		{"approve", "2", "--status", "changed"}, {"reopen", "2", "--status", "changed"},
	} {
		interrupted, was := 0, folder()
		open := p.must(0, "history", "2", "--json").out
		for try := 0; try < full(2, 3) || interrupted == 0 && try < 60; try++ {
			cmd := p.command(args...)
			require.NoError(t, cmd.Start())
			time.Sleep(time.Duration(10+rand.IntN(100)) * time.Millisecond)
			require.NoError(t, cmd.Process.Signal(os.Interrupt))
			_ = cmd.Wait()
			switch cmd.ProcessState.ExitCode() {
			case 6:
				interrupted++
				assert.Equal(t, was, folder(), "%v leaves no file, and no part of one", args)
				assert.Equal(t, open, p.must(0, "history", "2", "--json").out, "%v decides nothing", args)
			case 0, 3: // it was faster: the next try begins from there
				for _, name := range folder() {
					if !slices.Contains(was, name) && !strings.Contains(name, "dockets") {
						require.NoError(t, os.RemoveAll(name))
					}
				}
				was, open = folder(), p.must(0, "history", "2", "--json").out
			}
		}
		assert.Positive(t, interrupted, "%v was never interrupted", args)
	}
	assert.Equal(t, after, p.rows("target", itemsQuery))
}

func TestWhatTheTargetChangesOrRefusesTakesEverythingBack(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct{ rule, why string }{
		"a trigger that cuts":   {"CREATE TRIGGER cut AFTER UPDATE ON items BEGIN UPDATE items SET name = substr(name, 1, 5) WHERE id = new.id AND length(name) > 5; END;", "reads back as"},
		"a trigger that raises": {"CREATE TRIGGER stop BEFORE UPDATE ON items WHEN new.code = 'B' BEGIN SELECT raise(ABORT, 'prices are frozen'); END;", "a trigger refuses it"},
		"a rule it cannot tell": {"CREATE UNIQUE INDEX one_name ON items (lower(name));", "another record has the same values"},
	} {
		t.Run(name, func(t *testing.T) {
			table := "CREATE TABLE items (id INTEGER PRIMARY KEY, code TEXT UNIQUE, name TEXT);"
			p := newPlace(t, "types:\n  item: {at: items, key: [code], id: id}\n",
				table+"INSERT INTO items VALUES (1,'A','long name'),(2,'B','long name'),(3,'C','c');",
				table+"INSERT INTO items VALUES (7,'A','a'),(8,'B','b');"+c.rule)
			p.must(0, "export", "source", "--name", "p")
			p.must(3, "match", "p", "--against", "target")
			p.must(0, "approve", "*")
			for _, args := range [][]string{{"import", "--rehearse"}, {"import"}} {
				r := p.must(1, args...)
				text := words(r.out)
				assert.Contains(t, text, c.why)
				assert.Contains(t, text, "Nothing was written to target")
				assert.Contains(t, text, "item/B")
				assert.Equal(t, []string{"7 A a", "8 B b"}, p.rows("target", "SELECT * FROM items"))
			}
			p.must(0, "decline", "item/B", "item/A")
			p.must(0, "import")
			assert.Equal(t, []string{"A a", "B b", "C c"}, p.rows("target", "SELECT code, name FROM items ORDER BY 1"))
		})
	}
}

func TestBeforeImagesAreKept(t *testing.T) {
	t.Parallel()
	p := newPlace(t, knotCatalog, knotSource, knotTarget)
	p.must(0, "export", "source", "--name", "all")
	p.must(3, "match", "all", "--against", "target")
	p.must(0, "approve", "firm/CEDAR", "skill/SEW", "skill/WELD")
	p.must(0, "import")
	require.NoError(t, os.Rename(p.path("dockets/0001.docket"), p.path("docket.db")))
	assert.Equal(t, []string{
		`firm/CEDAR {"key":["CEDAR"],"values":{"contact_id":null,"name":"Cedar","rating":"9.75","zone_id":[null,"south"]}}`,
		`skill/SEW {"key":["SEW"],"values":{"sheet":{"file":"sha256:bceef655b5a034911f1c3718ce056531b45ef03b4c7b1f15629e867294011a7d"}}}`,
		"skill/WELD null",
	}, p.rows("docket", "SELECT f.address, b.image FROM backup b JOIN findings f ON f.id = b.finding ORDER BY 1"))
	assert.Equal(t, []string{"X'AA'"}, p.rows("docket", "SELECT quote(data) FROM contents WHERE sha256 LIKE 'bceef655%'"), "with the attachment that was overwritten")
}

func TestLocalAndSecretValuesStay(t *testing.T) {
	t.Parallel()
	table := "CREATE TABLE devices (id INTEGER PRIMARY KEY, code TEXT UNIQUE, name TEXT, url TEXT NOT NULL, token TEXT);"
	catalog := "types:\n  device: {at: devices, key: [code], id: id, local: {url: {target: 'https://new.example'}}, secret: [token]}\n"
	p := newPlace(t, catalog, table+"INSERT INTO devices VALUES (1,'A','new name','http://test.example','SECRET-1'),(2,'B','b','http://test.example','SECRET-2');",
		table+"INSERT INTO devices VALUES (9,'A','a','https://live.example','SECRET-3');")
	p.must(0, "export", "source", "--name", "p", "--as-folder")
	p.must(3, "match", "p", "--against", "target", "--verbose")
	p.must(0, "approve", "*")
	p.must(0, "import")
	assert.Equal(t, []string{"A new name https://live.example SECRET-3", "B b https://new.example null"}, p.rows("target", "SELECT code, name, url, token FROM devices ORDER BY 1"))
	for name, text := range p.files() {
		if !strings.HasSuffix(name, ".db") {
			assert.NotContains(t, text, "SECRET", name)
			assert.NotContains(t, text, "test.example", name)
		}
	}
	// Without a configured value a new record is blocked, with the mend in words.
	p.write("catalog.yaml", strings.Replace(catalog, "{url: {target: 'https://new.example'}}", "{url: {}}", 1))
	p.sql("source", "INSERT INTO devices VALUES (3,'C','c','http://test.example','SECRET-4');")
	doc := p.json(3, "match", "source", "--against", "target", "--name", "q")
	assert.Equal(t, 1.0, doc["blockers"])
	assert.Contains(t, p.review()["device/C"].Checks[0].Mend, "local: {url: {target: …}}")
}
