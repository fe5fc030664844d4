package test

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// A column that the docket has and the target has no more is named, before anything is written, on
// every engine; and what is advised works.
func TestAColumnThatWasDroppedIsNamed(t *testing.T) {
	t.Parallel()
	for _, engine := range tries(t.Name(), everyEngine...) {
		t.Run(engine, func(t *testing.T) {
			t.Parallel()
			p, source, target := pair(t, engine, "types:\n  item: {at: items, key: [code]}\n", "CREATE TABLE items (code VARCHAR(20) PRIMARY KEY, name VARCHAR(20), price INTEGER)")
			run(t, source, "INSERT INTO items VALUES ('A', 'new', 2)")
			run(t, target, "INSERT INTO items VALUES ('A', 'old', 1)")
			p.must(3, "match", "source", "--against", "target")
			p.must(0, "decline", "item/A", "--field", "price")
			p.must(0, "approve", "item/A")
			run(t, target, "ALTER TABLE items DROP COLUMN price")
			p.refused("Docket 1 has field price of item, and target has no column price in items any more; nothing was written. Match again", "import")
			p.refused("target has no column price in items any more", "import", "--into-files", "load", "--form", "sql")
			p.must(3, "match", "source", "--against", "target") // as it says
			p.must(0, "approve", "item/A")
			p.must(0, "import")
			assert.Equal(t, []string{"A|new"}, lines(t, target, "SELECT code, name FROM items"))
		})
	}
}

// What a selection names is counted as what it is.
func TestPatternsOfASelectionAreNoRecords(t *testing.T) {
	t.Parallel()
	const table = "CREATE TABLE items (code TEXT PRIMARY KEY);"
	p := newPlace(t, "types:\n  item: {at: items, key: [code]}\n", table+"INSERT INTO items VALUES ('A'),('B'),('C'),('D');", table)
	assert.Contains(t, words(p.must(0, "selection", "add", "month", "item/*").out), "1 pattern added to selection month, which names 1 pattern now.")
	assert.Contains(t, words(p.must(0, "selection", "add", "month", "item/A", "item/*").out), "1 record added to selection month, which names 1 record and 1 pattern now. 1 of what was named was in it already.")
}
