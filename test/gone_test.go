package test

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// A record that both sides had and the source has no more is told from one that it never had, on
// every surface, and whether the target changed it since; an older parcel tells nothing of that.
func TestWhatTheSourceRemoved(t *testing.T) {
	t.Parallel()
	const table = "CREATE TABLE items (id INTEGER PRIMARY KEY, code TEXT UNIQUE, name TEXT);"
	const rows = "INSERT INTO items (code, name) VALUES ('A','a'),('B','b'),('C','c');"
	p := newPlace(t, "types:\n  item: {at: items, key: [code], id: id}\n", table+rows, table+rows+"INSERT INTO items (code, name) VALUES ('OWN','o')")
	p.must(0, "export", "source", "--name", "old")
	p.must(0, "match", "source", "--against", "target", "--name", "p")
	assert.Empty(t, p.review()["item/OWN"].Reasons, "the source never had it")
	nextSecond()
	p.sql("source", "DELETE FROM items WHERE code <> 'A'")
	p.sql("target", "UPDATE items SET name = 'changed' WHERE code = 'C'")
	for range 2 { // and in every match from then on
		p.must(0, "match", "source", "--against", "target", "--name", "next")
		f := p.review()
		assert.Equal(t, []string{"removed-in-source"}, f["item/B"].Reasons)
		assert.Equal(t, []string{"removed-in-source", "edited-since"}, f["item/C"].Reasons)
		assert.Empty(t, f["item/OWN"].Reasons)
		assert.Equal(t, "c", *f["item/C"].Fields[0].Agreed)
		p.must(0, "parcel", "remove", "next", "--anyway")
	}
	text := words(p.must(0, "review", "--removals").out)
	assert.Contains(t, text, "item/B removed to see")
	assert.Contains(t, text, "item/C removed, edited here since to see")
	assert.Contains(t, text, "item/OWN not there to see")
	assert.Contains(t, words(p.must(0, "review", "--full").out), "item/C target-only (removed-in-source, edited-since), to see")
	p.must(0, "review", "--out", "r.csv")
	assert.Contains(t, string(p.read("r.csv")), "\"target-only (removed-in-source, edited-since)\"")
	p.must(0, "review", "--out", "r.html")
	assert.Contains(t, string(p.read("r.html")), "removed-in-source, edited-since")

	// The old parcel still has them.
	p.must(3, "match", "old", "--against", "target")
	assert.NotContains(t, p.review(), "item/B")
}
