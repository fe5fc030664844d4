package test

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// What an import would refuse follows from what is approved, not from what was found.
func TestChecksFollowWhatIsApproved(t *testing.T) {
	t.Parallel()
	const table = "CREATE TABLE items (id INTEGER PRIMARY KEY, code TEXT NOT NULL UNIQUE, name TEXT NOT NULL, low INTEGER, high INTEGER, place INTEGER, CHECK (low <= high), UNIQUE (low, place));"
	p := newPlace(t, "types:\n  item: {at: items, key: [code], id: id}\n",
		table+"INSERT INTO items (code, name, low, high, place) VALUES ('A','a',5,9,1),('B','b',3,4,2),('N','n',0,0,9);",
		table+"INSERT INTO items (code, name, low, high, place) VALUES ('A','a',1,2,1),('B','b',1,4,3),('X','x',3,4,3);")
	p.must(3, "match", "source", "--against", "target", "--name", "p")
	f := p.review()
	assert.Empty(t, f["item/A"].Checks, "both limits together fit")
	assert.Empty(t, f["item/B"].Checks, "both values together are free")

	// One limit alone does not fit the other one as it is.
	r := p.must(0, "approve", "item/A", "--field", "low")
	assert.Contains(t, words(r.out), "value-does-not-fit: item/A: fields low, high have values that a rule of target refuses: low <= high.")
	assert.Contains(t, words(p.must(4, "import").out), "value-does-not-fit")
	p.must(0, "approve", "item/A", "--field", "high")
	p.must(0, "import")

	// One value alone makes a pair that another record has.
	p.must(3, "match", "p", "--against", "target")
	r = p.must(0, "approve", "item/B", "--field", "low")
	assert.Contains(t, words(r.out), "value-taken: item/B: the values of fields low, place together are held by item/X in target, and no two records may have the same.")
	p.must(4, "import")
	p.must(0, "approve", "item/B", "--field", "place")
	p.must(0, "import")

	// A new record cannot do without what the target requires.
	p.must(3, "match", "p", "--against", "target")
	p.must(0, "approve", "item/N")
	r = p.must(0, "decline", "item/N", "--field", "name")
	assert.Contains(t, words(r.out), "value-does-not-fit: item/N is new, and target requires a value in field name, which is not approved. Approve field name as well, or decline the record.")
	p.must(4, "import")
	p.must(0, "approve", "item/N", "--field", "name")
	p.must(0, "decline", "item/N", "--field", "high")
	p.must(0, "import")
	assert.Equal(t, []string{"A a 5 9 1", "B b 3 4 2", "N n 0 null 9", "X x 3 4 3"}, p.rows("target", "SELECT code, name, low, high, place FROM items ORDER BY 1"))
}

// Values that records hand on to each other are written in the order in which they get free.
func TestValuesAreHandedOn(t *testing.T) {
	t.Parallel()
	const table = "CREATE TABLE items (id INTEGER PRIMARY KEY, code TEXT NOT NULL UNIQUE, place INTEGER UNIQUE);"
	p := newPlace(t, "types:\n  item: {at: items, key: [code], id: id}\n",
		table+"INSERT INTO items (code, place) VALUES ('A',2),('B',3),('C',4),('N',1);",
		table+"INSERT INTO items (code, place) VALUES ('A',1),('B',2),('C',3);")
	p.must(3, "match", "source", "--against", "target", "--name", "p")
	r := p.must(0, "approve", "item/A", "item/N")
	assert.Contains(t, words(r.out), "item/A: the value of field place is held by item/B in target, and no two records may have the same; it would give them up in docket 1 but is not approved. Approve item/B as well, or decline item/A.")
	assert.Contains(t, words(r.out), "item/N gets a value that item/A has to give up first, which cannot be imported itself. Mend item/A first.")
	p.must(0, "approve", "*")
	p.must(0, "import")
	assert.Equal(t, []string{"A 2", "B 3", "C 4", "N 1"}, p.rows("target", "SELECT code, place FROM items ORDER BY 1"))

	// Where one of the chain moved since, what waits for it is left out as well.
	p.sql("source", "UPDATE items SET place = place + 10")
	p.sql("source", "UPDATE items SET place = 4 WHERE code = 'B'")
	p.must(3, "match", "source", "--against", "target", "--name", "q")
	p.must(0, "approve", "*")
	p.sql("target", "UPDATE items SET place = 40 WHERE code = 'C'")
	r = p.must(5, "import")
	assert.Contains(t, words(r.out), "item/C was not imported: it changed in target since it was matched")
	assert.Contains(t, words(r.out), "item/B was not imported: it needs item/C, which was left out itself.")
}

func TestAReviewSaysWhatWasNotCompared(t *testing.T) {
	t.Parallel()
	const table = "CREATE TABLE items (id INTEGER PRIMARY KEY, code TEXT, name TEXT, seen TEXT, port TEXT, token TEXT);"
	p := newPlace(t, "types:\n  item: {at: items, key: [code], id: id, ignore: [seen], local: {port: {}}, secret: [token]}\n  other: {at: others, key: [code]}\n",
		table+"CREATE TABLE others (code TEXT, note TEXT); INSERT INTO items (code, name) VALUES ('A','a'),('B','b'); INSERT INTO others VALUES ('x', 'y');",
		table+"CREATE TABLE others (code TEXT); INSERT INTO items (code, name) VALUES ('A','a'),('B','c'),('C','c'); INSERT INTO others VALUES ('x');")
	p.must(0, "export", "source", "--record", "item/A", "--record", "other/x", "--name", "p")
	p.must(0, "match", "p", "--against", "target")
	text := words(p.must(0, "review", "--all").out)
	assert.Contains(t, text, "Not compared, on one side only: other.note")
	assert.Contains(t, text, "Not compared, ignored: item.seen")
	assert.Contains(t, text, "Not compared, local: item.port")
	assert.Contains(t, text, "Not compared, secret: item.token")
	assert.Contains(t, text, "Records out of scope, not compared: item (2)")
	assert.Contains(t, text, "Without differences: other (1)")
	assert.NotContains(t, p.must(0, "review").out, "Not compared, ignored")
}

func TestADocketOfAnotherVersionIsRefused(t *testing.T) {
	t.Parallel()
	p := plainPlace(t)
	p.must(3, "match", "source", "--against", "target", "--name", "p")
	p.docket(1, "PRAGMA user_version = 99")
	p.refused("the docket has version 99; this program knows version", "review")
	p.docket(1, "PRAGMA user_version = 1")
	p.refused("Match again, or use the anagram that made it", "import")
}

func TestPairsCountBetweenParcelsToo(t *testing.T) {
	t.Parallel()
	p := pairedPlace(t)
	p.must(0, "pair", "item/OLD", "item/NEW")
	p.must(0, "export", "source", "--name", "s")
	p.must(0, "export", "target", "--name", "t")
	assert.Equal(t, map[string]int{"changed": 4, "new": 1}, totals(p.json(3, "match", "s", "--against", "t")))
	p.must(0, "export", "source", "--record", "item/NEW", "--where", "mark: code == 'm'", "--related", "parts", "--name", "some")
	doc := p.json(3, "match", "some", "--against", "t")
	assert.Equal(t, "item/OLD", p.review("2")["item/NEW"].Was)
	assert.Equal(t, 3, totals(doc)["changed"], "the item, a part, and the mark that holds its key")
}
