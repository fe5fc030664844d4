package test

import (
	"encoding/csv"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var allEngines = []string{"sqlite", "postgres", "mysql"}

// restoreTables have parts, a tree in which records may refer to each other, and a table that
// the catalog does not know, whose rows would go with those that they refer to.
func restoreTables(engine string) []string {
	id := map[string]string{"sqlite": "INTEGER PRIMARY KEY", "postgres": "serial PRIMARY KEY", "mysql": "INTEGER AUTO_INCREMENT PRIMARY KEY"}[engine]
	return []string{
		"CREATE TABLE items (id " + id + ", code VARCHAR(20) NOT NULL UNIQUE, name VARCHAR(40), f2 VARCHAR(20), next INTEGER, FOREIGN KEY (next) REFERENCES items (id))",
		"CREATE TABLE parts (id " + id + ", item INTEGER NOT NULL, n INTEGER NOT NULL, note VARCHAR(20), UNIQUE (item, n), FOREIGN KEY (item) REFERENCES items (id) ON DELETE CASCADE)",
		"CREATE TABLE others (id " + id + ", item INTEGER, FOREIGN KEY (item) REFERENCES items (id) ON DELETE SET NULL)",
	}
}

const restoreCatalog = "types:\n  item: {at: items, key: [code], id: id, title: name, refers: {next: item}}\n  part: {at: parts, key: [item, n], id: id, refers: {item: item}, part_of: item}\n"

const itemRows = "SELECT i.code, i.name, i.f2, n.code FROM items i LEFT JOIN items n ON n.id = i.next ORDER BY 1"

func TestAnImportIsTakenBack(t *testing.T) {
	t.Parallel()
	for _, engine := range tries(t.Name(), allEngines...) {
		t.Run(engine, func(t *testing.T) {
			t.Parallel()
			p, source, target := pair(t, engine, restoreCatalog, restoreTables(engine)...)
			run(t, source, "INSERT INTO items (id, code, name, f2) VALUES (1,'A','new name','n'),(2,'B','b2','n'),(3,'X','x',NULL),(4,'Y','y',NULL)", "UPDATE items SET next = 4 WHERE id = 3", "UPDATE items SET next = 3 WHERE id IN (2, 4)",
				"INSERT INTO parts (item, n, note) VALUES (3,1,'p'),(1,1,'pa')")
			run(t, target, "INSERT INTO items (id, code, name, f2) VALUES (101,'A','old name','o'),(102,'B','b1','o'),(103,'C','c','o')")
			before := lines(t, target, itemRows)
			p.must(3, "match", "source", "--against", "target", "--name", "p")
			p.must(0, "approve", "*")
			p.must(0, "import")
			imported := lines(t, target, itemRows)
			parts := lines(t, target, "SELECT n, note FROM parts ORDER BY 2")

			// All of it is taken back: circles are taken apart, parts go first.
			r := p.must(3, "restore", "1")
			assert.Contains(t, words(r.out), "target as it was before the import of docket 1")
			assert.Contains(t, words(r.err), "Docket 2 takes back what the import of docket 1 wrote: 6 records.")
			assert.Equal(t, "target-only [created-here]", p.review()["item/X"].Status+" "+fmt.Sprint(p.review()["item/X"].Reasons))
			assert.Contains(t, words(p.must(0, "review", "2", "--only", "item/X", "--full").out), "the import of docket 1 made it; approved, it is removed")
			r = p.must(0, "approve", "2", "*")
			assert.Contains(t, words(r.out), "4 created-here findings passed over: to have records removed that the import of docket 1 made, name them in full, or say --take source.")
			p.must(0, "approve", "2", "item/X") // named, it is meant
			assert.Equal(t, "approved", p.review()["item/X"].Decision)
			r = p.must(0, "approve", "2", "*", "--take", "source")
			assert.Contains(t, words(r.out), "0 open, 6 approved")
			p.must(0, "import", "2", "--rehearse")
			assert.Equal(t, imported, lines(t, target, itemRows))
			r = p.must(0, "import", "2")
			assert.Contains(t, words(r.out), "2 changed and 4 removed records were written, read back and found as approved.")
			assert.Equal(t, before, lines(t, target, itemRows))
			assert.Empty(t, lines(t, target, "SELECT n FROM parts"))
			p.must(0, "import", "2") // nothing is left to do

			// Both sides agree on what they agreed on before: the same match finds the same.
			p.must(3, "match", "p", "--against", "target")
			f := p.review()
			assert.Equal(t, "changed new new", f["item/A"].Status+" "+f["item/X"].Status+" "+f["part/A/1"].Status)

			// The restore is taken back as well.
			p.must(3, "restore", "2")
			p.must(0, "approve", "*")
			r = p.must(0, "import")
			assert.Contains(t, words(r.out), "4 new and 2 changed records were written")
			assert.Equal(t, imported, lines(t, target, itemRows))
			assert.Equal(t, parts, lines(t, target, "SELECT n, note FROM parts ORDER BY 2"))
			p.must(0, "match", "p", "--against", "target")
			p.must(3, "restore", "4") // and that again
			p.must(0, "approve", "*", "--take", "source")
			p.must(0, "import")
			assert.Equal(t, before, lines(t, target, itemRows))
			assert.Contains(t, words(p.must(0, "history").out), "2 changed, 4 removed")
		})
	}
}

// What was changed since is a conflict, what else was edited stays, and what somebody needs is
// not removed, whatever the database would do about it.
func TestARestoreRespectsWhatCameSince(t *testing.T) {
	t.Parallel()
	for _, engine := range tries(t.Name(), allEngines...) {
		t.Run(engine, func(t *testing.T) {
			t.Parallel()
			p, source, target := pair(t, engine, restoreCatalog, restoreTables(engine)...)
			run(t, source, "INSERT INTO items (id, code, name, f2) VALUES (1,'A','a2','o'),(2,'B','b2','o'),(3,'D','d2','o'),(4,'V','v',NULL),(5,'W','w',NULL),(6,'X','x',NULL),(7,'Y','y',NULL),(8,'Z','z',NULL),(9,'U','u',NULL)")
			run(t, target, "INSERT INTO items (id, code, name, f2) VALUES (101,'A','a1','o'),(102,'B','b1','o'),(103,'C','c','o'),(104,'D','d1','o')")
			p.must(3, "match", "source", "--against", "target", "--name", "p")
			p.must(0, "approve", "*")
			p.must(0, "import")
			id := func(code string) string { return lines(t, target, "SELECT id FROM items WHERE code = '"+code+"'")[0] }
			run(t, target, "UPDATE items SET name = 'edited since' WHERE code = 'A'", "UPDATE items SET f2 = 'mine' WHERE code = 'B'", "DELETE FROM items WHERE code = 'D'",
				"UPDATE items SET name = 'edited since' WHERE code = 'W'", "INSERT INTO others (item) VALUES ("+id("X")+")", "UPDATE items SET next = "+id("Y")+" WHERE code = 'C'",
				"INSERT INTO parts (item, n) VALUES ("+id("Z")+", 1)")
			was := id("V")
			run(t, target, "DELETE FROM items WHERE code = 'V'", "INSERT INTO items (id, code, name) VALUES ("+was+" + 500, 'V', 'v')") // another record of that key
			p.must(3, "restore", "1")
			f := p.review()
			assert.Equal(t, []string{"conflict", "changed", "conflict"}, []string{f["item/A"].Status, f["item/B"].Status, f["item/D"].Status})
			checks := func(address string) string {
				return words(p.must(0, "review", "--only", address, "--full").out)
			}
			assert.Contains(t, checks("item/A"), "both-moved: Field name of item/A was changed since the import of docket 1")
			assert.Contains(t, checks("item/D"), "removed-in-target")
			assert.Contains(t, checks("item/W"), "not-as-written: item/W cannot be removed: it is not what the import of docket 1 wrote into target.")
			assert.Contains(t, checks("item/V"), "not-as-written")
			assert.Contains(t, checks("item/Y"), "still-referred: item/Y cannot be removed: item/C refers to it (field next) in target")
			assert.Contains(t, checks("item/Z"), "still-referred: item/Z cannot be removed: part/Z/1 refers to it (field item) in target")
			assert.Contains(t, checks("item/X"), "still-referred: item/X cannot be removed: a record of others refers to it in target by a foreign key, and that is not in the catalog.")
			p.must(0, "approve", "*")
			p.must(0, "approve", "item/X", "item/U")
			run(t, target, "INSERT INTO others (item) VALUES ("+id("U")+")") // after that was looked at
			state := lines(t, target, itemRows)
			r := p.must(1, "import") // nothing in the catalog refers to it, but the database knows
			assert.Contains(t, words(r.out), "item/U in target: a record of others refers to it by a foreign key, so it is not removed")
			assert.NotContains(t, r.out, "item/X in target")
			assert.Contains(t, words(r.out), "Decline or hold the records above; or mend them in target and take the import back again: anagram restore 1")
			assert.Equal(t, state, lines(t, target, itemRows))
			assert.Equal(t, []string{id("X"), id("U")}, lines(t, target, "SELECT item FROM others ORDER BY id"))
			p.must(0, "decline", "item/X", "item/U")
			p.must(0, "approve", "item/A", "--take", "target")
			p.must(0, "approve", "item/D", "--take", "source")
			p.must(0, "import")
			assert.Equal(t, []string{"A|edited since|o|", "B|b1|mine|", "C|c|o|Y", "D|d1|o|"}, lines(t, target, strings.Replace(itemRows, "ORDER", "WHERE i.code <= 'D' ORDER", 1)))

			// What refers to it is taken away, as it says.
			run(t, target, "DELETE FROM others", "UPDATE items SET next = NULL WHERE code = 'C'")
			p.must(3, "restore", "1", "--record", "item/X", "--record", "item/Y", "--record", "item/U")
			p.must(0, "approve", "item/X", "item/Y", "item/U")
			p.must(0, "import")
			assert.Empty(t, lines(t, target, "SELECT code FROM items WHERE code IN ('X', 'Y', 'U')"))
			assert.Contains(t, words(p.must(2, "restore", "1", "--record", "item/C").err), "The import of docket 1 wrote no record that fits item/C")
		})
	}
}

// What refers to a record since its restore was matched keeps it, by a reference without a foreign key,
// by one inside a text, and by one in a key; what goes as well does not.
func TestARestoreAsksAgainWhatRefers(t *testing.T) {
	t.Parallel()
	for _, engine := range tries(t.Name(), everyEngine...) {
		t.Run(engine, func(t *testing.T) {
			t.Parallel()
			const catalog = "types:\n  item: {at: items, key: [code], id: id, refers: {next: item}}\n  part: {at: parts, key: [item, n], refers: {item: item}, part_of: item}\n  rule: {at: rules, key: [code], refers: {list: {to: item, list: \",\"}, other: {by: kind, to: {i: item, r: rule}}}}\n"
			p, source, target := pair(t, engine, catalog, "CREATE TABLE items (id "+serverID[engine]+", code VARCHAR(9), next INTEGER)", "CREATE TABLE parts (item INTEGER, n INTEGER)", "CREATE TABLE rules (code VARCHAR(9) PRIMARY KEY, list VARCHAR(40), kind VARCHAR(1), other INTEGER)")
			run(t, source, "INSERT INTO items (id, code, next) VALUES (1,'A',NULL),(2,'B',NULL),(3,'C',NULL),(4,'D',NULL),(5,'E',6),(6,'F',NULL)", "INSERT INTO parts VALUES (5, 1)")
			run(t, target, "INSERT INTO items (id, code) VALUES (100,'OLD')", "INSERT INTO rules (code, list) VALUES ('R', '100'), ('S', '')")
			p.must(3, "match", "source", "--against", "target", "--type", "item,part")
			p.must(0, "approve", "*")
			p.must(0, "import")
			p.must(3, "restore", "1")
			p.must(0, "approve", "*", "--take", "source")
			id := func(code string) string { return lines(t, target, "SELECT id FROM items WHERE code = '"+code+"'")[0] }
			run(t, target, "UPDATE items SET next = "+id("A")+" WHERE code = 'OLD'", "UPDATE rules SET list = '100,"+id("B")+"' WHERE code = 'R'",
				"INSERT INTO parts VALUES ("+id("C")+", 7)", "UPDATE rules SET kind = 'i', other = "+id("D")+" WHERE code = 'S'")
			why := map[string]string{}
			for _, one := range p.json(5, "import")["left_out"].([]any) {
				one := one.(map[string]any)
				why[one["address"].(string)] = one["why"].(string) + ": " + one["message"].(string)
			}
			for address, want := range map[string]string{"item/A": "item/OLD refers to it (field next)", "item/B": "rule/R refers to it (field list)", "item/C": "part/C/7 refers to it (field item)", "item/D": "rule/S refers to it (field other)"} {
				assert.Contains(t, why[address], "still-referred: ")
				assert.Contains(t, why[address], want)
			}
			assert.Len(t, why, 4)
			assert.Equal(t, []string{"A", "B", "C", "D", "OLD"}, lines(t, target, "SELECT code FROM items ORDER BY 1"), "what refers to each other goes together")
			run(t, target, "UPDATE items SET next = NULL", "UPDATE rules SET list = '', kind = NULL, other = NULL", "DELETE FROM parts") // the mend
			p.must(3, "restore", "1")
			p.must(0, "approve", "*", "--take", "source")
			p.must(0, "import")
			assert.Equal(t, []string{"OLD"}, lines(t, target, "SELECT code FROM items ORDER BY 1"))
		})
	}
}

func TestWhatCannotBeRestored(t *testing.T) {
	t.Parallel()
	p := newPlace(t, "types:\n  item: {at: items, key: [code]}\n", "CREATE TABLE items (code TEXT PRIMARY KEY, name TEXT); INSERT INTO items VALUES ('A','new')", "CREATE TABLE items (code TEXT PRIMARY KEY, name TEXT); INSERT INTO items VALUES ('A','old')")
	p.must(3, "match", "source", "--against", "target", "--name", "p")
	assert.Contains(t, words(p.must(2, "restore", "1").err), "Docket 1 was not imported, so there is nothing to take back")
	p.must(0, "approve", "*")
	p.must(0, "import", "--rehearse")
	assert.Contains(t, words(p.must(2, "restore").err), "was not imported")
	assert.Contains(t, words(p.must(2, "restore", "9").err), "no docket 9")
	p.must(0, "import")
	p.must(3, "restore", "1")
	assert.Contains(t, words(p.must(2, "restore", "2").err), "Docket 2 was not imported")
	p.must(0, "approve", "*")
	p.sql("target", "UPDATE items SET name = 'moved' WHERE code = 'A'")
	r := p.must(5, "import")
	assert.Contains(t, words(r.out), "moved-since-match: item/A was not imported: it changed in target since it was matched (name was new and is moved). Run anagram restore 1 again to see it as it is now.")
	p.must(3, "restore", "1") // as it says
	p.must(0, "approve", "item/A", "--take", "source")
	r = p.must(0, "import")
	assert.Contains(t, r.err, "Next: anagram prove 3\n")
	assert.Contains(t, words(p.must(0, "prove", "3").out), "target holds everything that docket 3 brought as it was approved") // as it says
	p.must(3, "restore", "3")
	p.refused("--beside", "approve", "item/A", "--beside", "B")

	// Another database that has the name by now may be the same one, moved.
	p.sql("elsewhere", "CREATE TABLE items (code TEXT PRIMARY KEY, name TEXT); INSERT INTO items VALUES ('A','new')")
	p.write("anagram.yaml", strings.Replace(string(p.read("anagram.yaml")), "sqlite:target.db", "sqlite:elsewhere.db", 1))
	out := words(p.must(3, "restore", "1").out)
	assert.Regexp(t, `caution other-target: target is \S*elsewhere\.db now; when docket 1 was imported it was \S*target\.db\. Go on only if it is the same database, moved; else correct connect: of this environment in anagram\.yaml\.`, out)
}

// A catalog that says something else by now would take back the wrong records.
func TestARestoreNeedsTheCatalogOfItsDocket(t *testing.T) {
	t.Parallel()
	const table = "CREATE TABLE items (id INTEGER PRIMARY KEY, code TEXT UNIQUE, name TEXT UNIQUE);"
	p := newPlace(t, "types:\n  item: {at: items, key: [code], id: id} # as it was\n", table+"INSERT INTO items VALUES (1,'A','new')", table+"INSERT INTO items VALUES (7,'A','old')")
	p.must(3, "match", "source", "--against", "target", "--name", "p")
	p.must(0, "approve", "*")
	p.must(0, "import")
	was := p.read("catalog.yaml")
	for changed, want := range map[string]string{
		"types:\n  item: {at: items, key: [name], id: id}\n":                        "catalog.yaml says the key of item is [name]; in docket 1 it was [code].",
		"types:\n  thing: {at: items, key: [code], id: id}\n":                       "Docket 1 brought records of item, which catalog.yaml does not describe.",
		"types:\n  item: {at: items, key: [code], id: id, only: \"name != 'x'\"}\n": "only: of item is",
	} {
		p.write("catalog.yaml", changed)
		r := p.must(2, "restore", "1")
		assert.Contains(t, words(r.err), want)
		assert.Contains(t, words(r.err), "The docket has its catalog: write it with anagram catalog show --docket 1 --out FILE, name that file with catalog: in anagram.yaml, then restore again")
	}
	p.must(0, "catalog", "show", "--docket", "1", "--out", "was.yaml") // as it says
	assert.Equal(t, was, p.read("was.yaml"))
	assert.Contains(t, words(p.must(0, "catalog", "show", "--docket", "1").out), "item code")
	p.refused("was.yaml is there already", "catalog", "show", "--docket", "1", "--out", "was.yaml")
	p.refused("--out goes with --docket", "catalog", "show", "--out", "other.yaml")
	config := string(p.read("anagram.yaml"))
	require.Contains(t, config, "environments:")
	p.write("anagram.yaml", "catalog: was.yaml\n"+strings.Replace(config, "catalog: catalog.yaml\n", "", 1))
	p.must(3, "restore", "1")
	p.must(0, "approve", "*")
	p.must(0, "import")
	assert.Equal(t, []string{"7 A old"}, p.rows("target", "SELECT * FROM items"))
}

// What removes a record is decided, handed round, guarded and signed like any other finding.
func TestARestoreIsDecidedLikeAnyOther(t *testing.T) {
	t.Parallel()
	const table = "CREATE TABLE items (id INTEGER PRIMARY KEY, code TEXT UNIQUE, name TEXT);"
	p := newPlace(t, "types:\n  item: {at: items, key: [code], id: id, title: name}\n", table+"INSERT INTO items VALUES (1,'A','new'),(2,'B','b'),(3,'C','c'),(4,'D','d'),(5,'E','e'),(6,'F','f')", table+"INSERT INTO items VALUES (7,'A','old')")
	p.must(3, "match", "source", "--against", "target", "--name", "p")
	p.must(0, "approve", "*")
	p.must(0, "import")
	jonas, ida := p.keyOf("jonas"), p.keyOf("ida")
	p.write("signers", "jonas "+jonas+"ida "+ida)
	p.write("anagram.yaml", guardedBy("guard: {approvals: 2, signed: true, signers: signers, approver_differs_from_exporter: true}"))
	p.as("mara", 3, "restore", "1")
	says := func(want string) {
		t.Helper()
		assert.Contains(t, words(p.must(4, "import", "--rehearse").out), want)
	}

	// By name, and as a row of a table.
	p.as("mara", 0, "approve", "item/B")
	says("item/B is approved by nobody who counts; target demands the approvals of 2 people. mara approved it without a signature.")
	p.as("jonas", 0, "approve", "item/B")
	says("jonas approved it without a signature.")
	p.as("jonas", 0, "sign", "--key", "jonas")
	says("item/B is approved by jonas; target demands the approvals of 2 people.")
	p.must(0, "review", "2", "--out", "round.csv")
	rows, err := csv.NewReader(strings.NewReader(string(p.read("round.csv")))).ReadAll()
	require.NoError(t, err)
	for _, row := range rows {
		if row[0] == "item/B" && row[3] == "" {
			row[10] = "approve"
		}
	}
	var round strings.Builder
	assert.Contains(t, string(p.read("round.csv")), "the import of docket 1 made it; approved, it is removed")
	p.must(0, "review", "2", "--out", "round.html")
	assert.Contains(t, string(p.read("round.html")), "<p>the import of docket 1 made it; approved, it is removed</p>")
	require.NoError(t, csv.NewWriter(&round).WriteAll(rows))
	p.write("round.csv", round.String())
	assert.Contains(t, words(p.as("ida", 2, "decide", "2", "--from", "round.csv").err), "item/B would be removed: say take source to have that, or take target to keep it")
	p.write("round.csv", strings.Replace(round.String(), ",approve,,", ",approve,source,", 1)) // as it says
	p.as("ida", 0, "decide", "2", "--from", "round.csv")
	p.as("ida", 0, "sign", "--key", "ida")
	p.must(0, "import", "--rehearse")

	// Who says of one that it stays takes it back.
	p.as("ida", 0, "hold", "item/B")
	assert.Contains(t, words(p.must(3, "import", "--rehearse").out), "Nothing is approved in docket 2")
	p.as("ida", 0, "approve", "item/B", "--note", "after all")
	p.as("ida", 0, "sign", "--key", "ida")
	assert.Contains(t, words(p.must(0, "import").out), "1 removed record")
	assert.Equal(t, []string{"A new", "C c", "D d", "E e", "F f"}, p.rows("target", "SELECT code, name FROM items ORDER BY 1"))

	// By a workbook, by answers, kept.
	p.write("anagram.yaml", guardedBy("guard: {approver_differs_from_exporter: true}"))
	p.as("mara", 3, "restore", "1")
	p.as("mara", 0, "approve", "item/D", "item/C")
	p.as("jonas", 0, "approve", "item/E", "--take", "target")
	p.must(0, "review", "3", "--out", "round.xlsx")
	p.answered("round.xlsx", "jonas", map[[2]string][3]string{{"item/C", ""}: {"approve", "source"}})
	r := p.as("jonas", 0, "decide", "3", "--from", "round.xlsx")
	assert.Contains(t, words(r.out), "1 decision by jonas read into docket 3")
	now := time.Now().UTC().Format(time.RFC3339)
	p.write("answers.json", `{"anagram":"answers","version":1,"docket":3,"digest":"`+p.digest()+`","person":"jonas","answers":[{"address":"item/D","decision":"approve","take":"source","at":"`+now+`"}]}`)
	p.as("jonas", 0, "decide", "3", "--from", "answers.json")
	assert.Contains(t, words(p.must(0, "import").out), "2 removed records")
	assert.Equal(t, []string{"A new", "E e", "F f"}, p.rows("target", "SELECT code, name FROM items ORDER BY 1"))
}

// Load files remove nothing, and say so; what is removed by hand is found at the next match.
func TestLoadFilesOfARestore(t *testing.T) {
	t.Parallel()
	for _, engine := range tries(t.Name(), everyEngine...) {
		t.Run(engine, func(t *testing.T) {
			t.Parallel()
			p, source, target := pair(t, engine, restoreCatalog, restoreTables(engine)...)
			run(t, source, "INSERT INTO items (id, code, name) VALUES (1,'A','new'),(2,'GONE','b')", "INSERT INTO parts (id, item, n) VALUES (1, 2, 1)")
			run(t, target, "INSERT INTO items (id, code, name) VALUES (7,'A','old')")
			p.must(3, "match", "source", "--against", "target", "--name", "p")
			p.must(0, "approve", "*")
			p.must(0, "import")
			p.must(3, "restore", "1")
			p.must(0, "approve", "*", "--take", "source")
			for _, form := range []string{"csv", "jsonl", "sql"} {
				r := p.must(5, "import", "--into-files", form, "--form", form)
				assert.Contains(t, words(r.out), "Wrote load files for 1 changed record of docket 2")
				assert.Contains(t, words(r.out), "not-in-files: item/GONE is not in the load files: they remove nothing. Import it, or remove it in target by hand.")
				assert.Contains(t, words(r.out), "not-in-files: part/GONE/1 is not")
				files, err := os.ReadDir(p.path(form))
				require.NoError(t, err)
				for _, file := range files {
					assert.NotContains(t, string(p.read(form+"/"+file.Name())), "GONE", "nothing of it, not even its key")
				}
			}
			run(t, target, "DELETE FROM parts", "DELETE FROM items WHERE code = 'GONE'", "UPDATE items SET name = 'old' WHERE code = 'A'") // as it says
			assert.Contains(t, words(p.must(3, "match", "p", "--against", "target").out), "The load files of docket 2 were loaded: 3 records as approved.")

			// Where nothing else is left, there is nothing to write.
			p.must(0, "approve", "item/GONE", "part/GONE/1", "--take", "source")
			p.must(0, "import")
			p.must(3, "restore", "3")
			p.must(0, "approve", "*", "--take", "source")
			r := p.must(4, "import", "--into-files", "none")
			assert.Contains(t, words(r.out), "not-in-files: item/GONE")
			assert.NoDirExists(t, p.path("none"))
		})
	}
}

// Values come back in the very form in which they were stored.
func TestRestoredRowsAreTheSameToTheByte(t *testing.T) {
	t.Parallel()
	for engine, c := range map[string]struct{ table, before, after, shown string }{
		"sqlite": {"CREATE TABLE items (code TEXT PRIMARY KEY, a DATETIME, b DECIMAL(10,2), c TEXT, d BOOLEAN, e, f JSON, g INTEGER, h DATE, i BLOB)",
			`('A','2025-03-01 10:00:00.5','07.50','Ü  ',1,'12','{ "b" : 1,  "a":2 }','5','2025-01-01',x'00ff'), ('B','2025-03-01T10:00',7.5,'x','true','1 2','[1, 2]',5,NULL,NULL), ('C','2025-03-01 10:00',3,'y',0,'z','{"a":1.0}',7,'2025-01-01',x'')`,
			`('A','2026-01-01','1','q',0,'9','[]',6,'2026-01-01',x'01'), ('B','2026-01-01',1,'q',0,'9','[]',6,'2026-01-01',x'01'), ('C','2026-01-01',1,'q',1,'9','[]',6,'2026-01-01',x'01')`,
			"SELECT code, quote(a), quote(b), quote(c), quote(d), quote(e), quote(f), quote(g), quote(h), quote(i), typeof(a)||typeof(b)||typeof(d)||typeof(e)||typeof(g) FROM items ORDER BY 1"},
		"postgres": {"CREATE TABLE items (code text PRIMARY KEY, a timestamptz, b numeric, c char(8), d boolean, e float8, f json, g jsonb, h bytea, i text[], j uuid, k interval)",
			`('A','2025-03-01 10:00:00.5+03','07.500','Ü',true,0.1,'{ "b" : 1,  "a":2 }','{ "b" : 1,  "a":2 }','\x00ff','{a,"b c",NULL}','A0EEBC99-9C0B-4EF8-BB6D-6BB9BD380A11','1 mon 2 days'), ('B',NULL,'7.5','x',false,1e300,'[1, 2.50]','[1.50]',NULL,'{}',NULL,NULL)`,
			`('A','2026-01-01',1,'q',false,9,'[]','[]','\x01','{}',NULL,'1 day'), ('B','2026-01-01',1,'q',true,9,'[]','[]','\x01','{q}','00000000-0000-0000-0000-000000000001','1 day')`,
			"SELECT code, a::text, b::text, c::text, d::text, e::text, f::text, g::text, h::text, i::text, j::text, k::text FROM items ORDER BY 1"},
		"mysql": {"CREATE TABLE items (code varchar(20) PRIMARY KEY, a datetime(6), b decimal(10,3), c char(8), d boolean, e double, f json, g set('x','y','z'), h blob, i enum('on','off'), j time, k varchar(40))",
			`('A','2025-03-01 10:00:00.5','07.500','Ü',true,0.1,'{ "b" : 1,  "a":2 }','z,x',x'00ff','on','10:00:01','Ü  '), ('B',NULL,'7.5','x',1,1e300,'[1, 2.50]','',NULL,'off','20:00',NULL)`,
			`('A','2026-01-01',1,'q',false,9,'[]','y',x'01','off','1:00','q'), ('B','2026-01-01',1,'q',0,9,'[]','y',x'01','on','1:00','q')`,
			"SELECT code, a, b, hex(c), d+0, e, hex(f), g, hex(h), i, j, hex(k) FROM items ORDER BY 1"},
	} {
		t.Run(engine, func(t *testing.T) {
			t.Parallel()
			p, source, target := pair(t, engine, "types:\n  item: {at: items, key: [code]}\n", c.table)
			run(t, source, "INSERT INTO items VALUES "+c.after)
			run(t, target, "INSERT INTO items VALUES "+c.before)
			before := lines(t, target, c.shown)
			p.must(3, "match", "source", "--against", "target", "--name", "p")
			p.must(0, "approve", "*", "--take", "source")
			p.must(0, "import")
			require.NotEqual(t, before, lines(t, target, c.shown))
			p.must(3, "restore", "1")
			p.must(0, "approve", "*")
			p.must(0, "import")
			assert.Equal(t, before, lines(t, target, c.shown))
		})
	}
}

// Imports are taken back one by one, the last one first, to the first state.
func TestTwentyImportsAreTakenBackOneByOne(t *testing.T) {
	inGate(t, "a long history")
	t.Parallel()
	for _, engine := range tries(t.Name(), allEngines...) {
		t.Run(engine, func(t *testing.T) {
			t.Parallel()
			if full(0, 1) == 0 && engine != "sqlite" {
				t.Skip("only in full runs: many programs are started")
			}
			p, source, target := pair(t, engine, restoreCatalog, restoreTables(engine)...)
			run(t, source, "INSERT INTO items (id, code, name, f2) VALUES (1,'A','a0','o'),(2,'B','b0','o')")
			run(t, target, "INSERT INTO items (id, code, name, f2) VALUES (101,'A','start','o'),(102,'Z','z','o')")
			var states [][]string
			var dockets []int
			for i := range full(4, 20) {
				states = append(states, lines(t, target, itemRows+", 2"))
				run(t, source, fmt.Sprintf("INSERT INTO items (id, code, name, next) VALUES (%d, 'N%02d', 'n', 1)", 10+i, i), fmt.Sprintf("UPDATE items SET name = 'a%d' WHERE id = 1", i), fmt.Sprintf("UPDATE items SET f2 = 'f%d', next = %d WHERE id = 2", i%3, 1+i%2))
				docket := p.json(3, "match", "source", "--against", "target", "--name", fmt.Sprintf("p%d", i))["docket"]
				dockets = append(dockets, int(docket.(float64)))
				p.must(0, "approve", "*")
				p.must(0, "import")
			}
			for i := len(states) - 1; i >= 0; i-- {
				p.must(3, "restore", fmt.Sprint(dockets[i]))
				p.must(0, "approve", "*", "--take", "source")
				p.must(0, "import")
				require.Equal(t, states[i], lines(t, target, itemRows+", 2"), "before import %d", i+1)
			}
			p.must(3, "match", "p0", "--against", "target")
			assert.Equal(t, "changed", p.review()["item/A"].Status)
		})
	}
}

// A folder of files gets back the rows that it had.
func TestAFolderIsTakenBack(t *testing.T) {
	t.Parallel()
	p := &place{t: t, dir: t.TempDir(), user: "mara"}
	p.write("anagram.yaml", "environments:\n  source: {connect: \"folder:source\"}\n  target: {connect: \"folder:target\"}\n")
	p.write("catalog.yaml", "types:\n  item: {at: items, key: [code]}\n  word: {at: words, key: [code]}\n")
	for _, dir := range []string{"source", "target"} {
		require.NoError(t, os.MkdirAll(p.path(dir), 0o700))
	}
	files := map[string]string{"items.csv": "code;name\r\nA;'old'\r\n\"B\";b\r\nC;c\r\n", "words.jsonl": "{\"code\": \"A\", \"n\": 1}\n{\"code\":\"B\",  \"n\":2}\n"}
	for name, text := range files {
		p.write("target/"+name, text)
	}
	p.write("source/items.csv", "code,name\nA,new\nB,b\nN,n\nM,m\n")
	p.write("source/words.jsonl", "{\"code\":\"A\",\"n\":5}\n{\"code\":\"Q\",\"n\":6}\n")
	p.must(3, "match", "source", "--against", "target", "--name", "p")
	p.must(0, "approve", "*")
	p.must(0, "import")
	assert.Contains(t, string(p.read("target/items.csv")), "M;m")
	p.must(3, "restore", "1")
	p.must(0, "approve", "*", "--take", "source")
	p.must(0, "import")
	for name, text := range files {
		assert.Equal(t, text, string(p.read("target/"+name)), name)
	}
}
