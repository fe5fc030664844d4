package test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// unreadableRows are, by engine, what makes a table of items with values that have no canonical form:
// B has one, C as well in another field, and what is said of them.
var unreadableRows = map[string]struct{ table, rows, said string }{
	"sqlite": {"CREATE TABLE items (id {id}, code TEXT, name TEXT, due DATE)",
		"INSERT INTO items VALUES (1,'A','a','2026-01-01'),(2,'B','b','soon'),(3,'C',CAST(x'ff41' AS TEXT),'2026-01-01')", `field due cannot be read in source: "soon" is not a date`},
	"mysql": {"CREATE TABLE items (id {id}, code VARCHAR(20), name VARCHAR(20), due DATE)",
		"SET sql_mode = '';INSERT INTO items VALUES (1,'A','a','2026-01-01'),(2,'B','b','0000-00-00'),(3,'C','c','2026-02-00')", "field due cannot be read in source: "},
	"postgres": {"CREATE TABLE items (id {id}, code VARCHAR(20), name VARCHAR(20), due DATE)",
		"INSERT INTO items VALUES (1,'A','a','2026-01-01'),(2,'B','b','infinity'),(3,'C','c','0044-03-15 BC')", "field due cannot be read in source: "},
}

// A value that cannot be read makes a finding of its record, which nobody can approve, on either side;
// everything else goes on, through a parcel, through files and for parts of the record.
func TestWhatCannotBeReadIsAFinding(t *testing.T) {
	t.Parallel()
	for _, engine := range tries(t.Name(), everyEngine...) {
		t.Run(engine, func(t *testing.T) {
			t.Parallel()
			of := unreadableRows[engine]
			p, source, target := pair(t, engine, "types:\n  item: {at: items, key: [code], id: id, title: name}\n  part: {at: parts, key: [item, n], refers: {item: item}, part_of: item}\n",
				strings.ReplaceAll(of.table, "{id}", serverID[engine]), "CREATE TABLE parts (item INTEGER, n INTEGER, note VARCHAR(20))")
			run(t, source, strings.Split(of.rows, ";")...)
			run(t, source, "INSERT INTO parts VALUES (2, 1, 'of B'), (1, 1, 'of A')")
			run(t, target, "INSERT INTO items VALUES (7,'B','old',NULL)")
			r := p.must(0, "export", "source", "--name", "p")
			assert.Contains(t, words(r.out), "2 records have a value that cannot be read, and cannot be approved: item/B, field due: ")
			assert.Contains(t, words(p.must(0, "parcel", "show", "p", "item/B").out), "due cannot be read: ")
			p.must(3, "match", "p", "--against", "target")
			found := p.review()
			for _, address := range []string{"item/B", "item/C"} {
				assert.Equal(t, []any{"conflict", []string{"cannot-be-read"}}, []any{found[address].Status, found[address].Reasons}, address)
				assert.Contains(t, words(p.must(0, "approve", address, "--take", "source").out), "0 findings of docket 1 approved")
			}
			assert.Contains(t, messages(found["item/B"])[0], "item/B: "+of.said)
			assert.Equal(t, "new", found["item/A"].Status)
			assert.Equal(t, "new", found["part/B/1"].Status, "a part of what the target has goes on")
			p.must(0, "approve", "*")
			p.must(0, "import")
			assert.Equal(t, []string{"A|a", "B|old"}, lines(t, target, "SELECT code, name FROM items ORDER BY 1"), "what cannot be read is not written over either")
			assert.Equal(t, []string{"of A", "of B"}, lines(t, target, "SELECT note FROM parts ORDER BY 1"))

			// In the target it is the same, and nothing follows from it later.
			assert.Equal(t, map[string]int{"conflict": 2}, only(totals(p.json(3, "match", "target", "--against", "source", "--name", "back")), "conflict"))
			p.must(0, "review", "--only", "item/C", "--full")

			// A parcel that is a folder has it too.
			p.must(0, "export", "source", "--name", "again", "--as-folder")
			p.must(3, "match", "again", "--against", "target")
			assert.Equal(t, []string{"cannot-be-read"}, p.review()["item/C"].Reasons)

			// The mend that is said: corrected, exported and matched again.
			run(t, source, "UPDATE items SET due = '2026-03-01', name = 'x' WHERE id > 1")
			p.must(3, "match", "source", "--against", "target")
			p.must(0, "approve", "*", "--take", "source")
			p.must(0, "import")
			assert.Equal(t, []string{"A|a", "B|x", "C|x"}, lines(t, target, "SELECT code, name FROM items ORDER BY 1"))
		})
	}
}

// only keeps one count.
func only(counts map[string]int, status string) map[string]int {
	return map[string]int{status: counts[status]}
}

// A record whose key cannot be read is named by its internal id, and a type with one is not taken for
// compared as a whole.
func TestAKeyThatCannotBeReadIsNamedByItsID(t *testing.T) {
	t.Parallel()
	const table = "CREATE TABLE items (id INTEGER PRIMARY KEY, code TEXT, name TEXT); CREATE TABLE uses (id INTEGER PRIMARY KEY, code TEXT, item INTEGER);"
	p := newPlace(t, "types:\n  item: {at: items, key: [code], id: id}\n  use: {at: uses, key: [code], id: id, refers: {item: item}}\n",
		table+"INSERT INTO items VALUES (1,'A','a'),(2,CAST(x'ff' AS TEXT),'b'); INSERT INTO uses VALUES (1,'U',2),(2,'V',1),(3,'W',77);", table+"INSERT INTO items VALUES (5,'A','old'),(6,'only here','x');")
	r := p.must(0, "export", "source", "--name", "p")
	assert.Contains(t, words(r.out), "of item 1 record has a key that cannot be read; nothing in the parcel but this note tells of it: internal id 2: ")
	assert.Contains(t, words(r.out), "2 records have a value that cannot be read, and cannot be approved: use/U, field item: what it refers to has a key that cannot be read: ")
	assert.Contains(t, words(r.out), "use/W, field item: it refers to item with internal id 77, which is not in items")
	doc := p.json(3, "match", "p", "--against", "target")
	checks := ""
	for _, c := range doc["checks"].([]any) {
		checks += c.(map[string]any)["message"].(string) + "\n"
	}
	assert.Contains(t, checks, "item: the keys of records in source cannot be read, so these are not compared, and what only the other side has may be one of them: internal id 2")
	p.must(0, "approve", "*")
	p.must(0, "import")
	assert.Equal(t, []string{"V 5"}, p.rows("target", "SELECT code, item FROM uses"))
	assert.Equal(t, []string{"A a", "only here x"}, p.rows("target", "SELECT code, name FROM items ORDER BY 1"))

	// In the target.
	p.sql("target", "INSERT INTO items VALUES (9, CAST(x'fe' AS TEXT), 'odd')")
	doc = p.json(3, "match", "p", "--against", "target")
	checks = ""
	for _, c := range doc["checks"].([]any) {
		checks += c.(map[string]any)["message"].(string) + "\n"
	}
	assert.Contains(t, checks, "item: the keys of records in target cannot be read")
	assert.Contains(t, checks, "internal id 9")
}

// A setting that cannot be read is equal to nothing, not even to one that cannot be read either.
func TestASettingThatCannotBeReadIsEqualToNothing(t *testing.T) {
	t.Parallel()
	const table = "CREATE TABLE settings (name TEXT PRIMARY KEY, n INTEGER); INSERT INTO settings VALUES ('digits', 'two'), ('other', 1);"
	p := newPlace(t, "types:\n  setting: {at: settings, key: [name]}\n", table+"INSERT INTO settings VALUES ('new', 2)", table)
	p.write("anagram.yaml", string(p.read("anagram.yaml"))+"must_agree: [setting/digits]\n")
	for _, args := range [][]string{{"export", "source"}, {"match", "source", "--against", "target"}} {
		assert.Contains(t, words(p.must(2, args...).err), `anagram.yaml names the setting setting/digits, whose n cannot be read in source: "two" is not an integer`)
	}
	p.sql("source", "UPDATE settings SET n = 2 WHERE name = 'digits'")
	p.must(0, "export", "source", "--name", "p")
	assert.Contains(t, words(p.must(2, "match", "p", "--against", "target").err), "cannot be read in target")
}
