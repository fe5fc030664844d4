package test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A parcel against its own environment tells what changed since, and brings it back.
func TestThenAndNow(t *testing.T) {
	t.Parallel()
	rows := "INSERT INTO items (code, name, price, changed, who) VALUES ('A','a','1','2026-01-01 10:00:00','ida'),('B','b','1','2026-01-01 10:00:00','ida'),('C','c','1','2026-01-01 10:00:00','ida'),('D','d','1','2026-01-01 10:00:00','ida')"
	p := newPlace(t, stampedItems, itemTable+rows, itemTable)
	p.write("anagram.yaml", strings.Replace(string(p.read("anagram.yaml")), `"sqlite:source.db"`, `"sqlite:source.db", zone: Europe/Berlin`, 1))
	p.refused("source is the same on both sides. Name another environment", "match", "source", "--against", "source", "--name", "now")
	p.must(0, "export", "source", "--name", "friday")
	p.must(0, "match", "friday", "--against", "source")
	kept := p.files()
	p.sql("source", "UPDATE items SET name = 'edited', price = '2', changed = '2026-06-01 09:00:00', who = 'ruth' WHERE code = 'A'; DELETE FROM items WHERE code = 'B'; UPDATE items SET status = 'R', changed = '2026-06-02 09:00:00' WHERE code = 'D'; INSERT INTO items (code, name) VALUES ('LATER','l')")
	doc := p.json(3, "match", "friday", "--against", "source")
	assert.Regexp(t, `^source@20\d\d-\d\d-\d\dT\d\d:\d\d:\d\dZ$`, doc["source"])
	assert.Equal(t, "source", doc["target"])
	f := p.review()
	for address, want := range map[string]string{"item/A": "changed", "item/B": "new", "item/D": "changed", "item/LATER": "target-only"} {
		assert.Equal(t, want, f[address].Status, address)
		assert.Empty(t, f[address].Reasons, address)
	}
	assert.NotContains(t, f, "item/C")
	text := words(p.must(0, "review", "--full").out)
	assert.Contains(t, text, "source 2026-06-01 09:00 CEST by ruth")
	assert.Contains(t, text, "from source@20")
	for name := range p.files() {
		if strings.Contains(name, "agreed") {
			assert.Contains(t, kept, name, "it teaches nothing")
		}
	}

	// Some of it is brought back: one field, and the record that is gone.
	p.must(0, "approve", "item/A", "--field", "price", "--take", "source")
	p.must(0, "approve", "item/B")
	r := p.must(4, "import")
	assert.Contains(t, words(r.err+r.out), "brings records of source back to what they were there then")
	assert.Contains(t, words(r.err+r.out), "with --to source")
	p.must(0, "import", "--to", "source")
	assert.Equal(t, []string{"A edited 1", "B b 1", "C c 1", "D d 1", "LATER l "}, p.rows("source", "SELECT code || ' ' || name || ' ' || coalesce(price, '') FROM items ORDER BY code"))
	p.must(3, "restore", "2")
	p.must(0, "approve", "item/A")
	p.must(0, "import")
	assert.Equal(t, []string{"edited 2"}, p.rows("source", "SELECT name || ' ' || price FROM items WHERE code = 'A'"))

	// The other pair goes on as if nothing had been.
	require.Equal(t, map[string]int{"new": 5}, totals(p.json(3, "match", "source", "--against", "target", "--name", "monday")))
}
