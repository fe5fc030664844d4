package test

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// A record comes in next to the target's own under another key, with its parts and with what
// refers to it; the target's own stays as it is, and the next match knows both.
func TestARecordComesInBesideTheTargetsOwn(t *testing.T) {
	t.Parallel()
	const tables = `CREATE TABLE items (id INTEGER PRIMARY KEY, code TEXT NOT NULL UNIQUE, name TEXT, next INTEGER REFERENCES items);
CREATE TABLE parts (id INTEGER PRIMARY KEY, item INTEGER NOT NULL REFERENCES items, n INTEGER, note TEXT, UNIQUE (item, n));
CREATE TABLE users (id INTEGER PRIMARY KEY, code TEXT NOT NULL UNIQUE, item TEXT);
`
	p := newPlace(t, "types:\n  item: {at: items, key: [code], id: id, title: name, refers: {next: item}}\n  part: {at: parts, key: [item, n], id: id, refers: {item: item}, part_of: item}\n  user: {at: users, key: [code], id: id, refers: {item: {to: item, by: key}}}\n",
		tables+"INSERT INTO items VALUES (1,'B','ours',NULL),(2,'A','first',1),(3,'C','last',1); INSERT INTO parts VALUES (1,1,1,'p1'),(2,1,2,'p2'),(3,2,1,'q'); INSERT INTO users VALUES (1,'U','B');",
		tables+"INSERT INTO items VALUES (7,'B','another thing',NULL); INSERT INTO parts VALUES (9,7,1,'theirs'); INSERT INTO users VALUES (4,'V','B');")
	p.must(3, "match", "source", "--against", "target", "--name", "p")
	assert.Equal(t, "changed", p.review()["item/B"].Status, "as if they were one")
	for why, args := range map[string][]string{
		"one record and --note":                     {"item/*", "item/B", "--beside", "B2"},
		"and nothing else":                          {"item/B", "--beside", "B2", "--with-parts"},
		"has no finding of item/X":                  {"item/X", "--beside", "B2"},
		"item/A is a record already (new in docket": {"item/B", "--beside", "A"},
		"is a pattern":                              {"item/*", "--beside", "B2"},
		"is no address of a part":                   {"part/B/1", "--beside", "B2"},
	} {
		p.refused(why, append([]string{"approve"}, args...)...)
	}
	p.sql("target", "INSERT INTO items VALUES (30,'TAKEN','same',NULL)")
	p.refused("item/TAKEN is in target already", "approve", "item/B", "--beside", "TAKEN")
	p.sql("target", "DELETE FROM items WHERE id = 30")
	r := p.must(0, "approve", "item/B", "--beside", "ZB", "--note", "theirs is another thing")
	assert.Contains(t, words(r.out), "item/B of source comes into target as item/ZB from now on, beside the item/B that is there")
	assert.Contains(t, r.err, "Next: anagram match p --against target")
	assert.Contains(t, words(p.must(0, "pair", "--list").out), "comes from source into target beside its own. theirs is another thing")

	p.must(3, "match", "p", "--against", "target") // as it says
	f := p.review()
	assert.Equal(t, "target-only", f["item/B"].Status)
	assert.Equal(t, "new", f["item/ZB"].Status)
	assert.Equal(t, "new", f["part/ZB/2"].Status)
	assert.Equal(t, "target-only", f["part/B/1"].Status)
	assert.Equal(t, "item/ZB", *fieldOf(f["item/A"], "next").Source)
	assert.Equal(t, "item/ZB", *fieldOf(f["user/U"], "item").Source)
	assert.Contains(t, words(p.must(0, "review", "--only", "item/ZB").out), "caution beside: item/ZB is item/B of source, which comes in beside target's own item/B.")
	p.must(0, "approve", "*")
	p.must(0, "import")
	assert.Equal(t, []string{"A first ZB", "B another thing null", "C last ZB", "ZB ours null"}, p.rows("target", "SELECT i.code, i.name, n.code FROM items i LEFT JOIN items n ON n.id = i.next ORDER BY 1"))
	assert.Equal(t, []string{"A 1 q", "B 1 theirs", "ZB 1 p1", "ZB 2 p2"}, p.rows("target", "SELECT i.code, n, note FROM parts JOIN items i ON i.id = item ORDER BY 1, 2"))
	assert.Equal(t, []string{"U ZB", "V B"}, p.rows("target", "SELECT code, item FROM users ORDER BY 1"))

	// It is remembered: what changes on either side is told of the right one of them.
	p.sql("source", "UPDATE items SET name = 'ours, changed' WHERE code = 'B'")
	p.sql("target", "UPDATE items SET name = 'another thing, changed' WHERE code = 'B'")
	p.must(3, "match", "source", "--against", "target", "--name", "later")
	f = p.review()
	assert.Equal(t, "changed source", f["item/ZB"].Status+" "+fieldOf(f["item/ZB"], "name").Moved)
	assert.Equal(t, "target-only", f["item/B"].Status)
	assert.NotContains(t, f, "item/A")

	// Forgotten, they are one record again.
	p.must(0, "pair", "--forget", "item/B", "item/ZB")
	p.must(3, "match", "later", "--against", "target")
	assert.Contains(t, []string{"conflict", "changed"}, p.review()["item/B"].Status)
}

// The new key is looked at again at the import: it may have been taken meanwhile.
func TestTheOtherKeyIsTakenMeanwhile(t *testing.T) {
	t.Parallel()
	const table = "CREATE TABLE items (code TEXT PRIMARY KEY, name TEXT);"
	p := newPlace(t, "types:\n  item: {at: items, key: [code]}\n", table+"INSERT INTO items VALUES ('B','ours')", table+"INSERT INTO items VALUES ('B','theirs')")
	p.must(3, "match", "source", "--against", "target", "--name", "p")
	p.must(0, "approve", "item/B", "--beside", "item/B2")
	p.must(3, "match", "p", "--against", "target")
	p.must(0, "approve", "item/B2")
	p.sql("target", "INSERT INTO items VALUES ('B2','somebody else')")
	assert.Contains(t, words(p.must(5, "import").out), "moved-since-match: item/B2")
	assert.Equal(t, []string{"B theirs", "B2 somebody else"}, p.rows("target", "SELECT code, name FROM items ORDER BY 1"))
}

// fieldOf gives a field of a finding.
func fieldOf(f finding, name string) shownField {
	for _, one := range f.Fields {
		if one.Field == name {
			return one
		}
	}
	return shownField{}
}
