package test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const itemTable = "CREATE TABLE items (id INTEGER PRIMARY KEY, code TEXT, name TEXT, price TEXT, status TEXT DEFAULT 'A', changed TEXT, who TEXT);"

// reasonOf gives status and reasons of a finding after a match of everything.
func (p *place) reasonOf(address string) []string {
	p.t.Helper()
	name := fmt.Sprintf("m%d", len(p.files()))
	r := p.run("match", "source", "--against", "target", "--name", name)
	require.Contains(p.t, []int{0, 3}, r.code, r.err)
	f, there := p.review()[address]
	if !there {
		return nil
	}
	return append([]string{f.Status}, f.Reasons...)
}

// A record that came about on both sides on its own is never taken for an old value.
func TestARecordThatBothSidesMade(t *testing.T) {
	t.Parallel()
	both := []string{"conflict", "created-on-both"}
	p := newPlace(t, "types:\n  item: {at: items, key: [code], id: id, stamp: {at: changed, by: who}, retired: {field: status, values: [R]}}\n",
		itemTable+"INSERT INTO items (code, name, price) VALUES ('A','a','1'),('DIFFERS','here','1')",
		itemTable+"INSERT INTO items (code, name, price) VALUES ('A','a','1'),('DIFFERS','there','2')")
	assert.Equal(t, []string{"changed"}, p.reasonOf("item/DIFFERS"), "the first match knows nothing")
	p.sql("source", "INSERT INTO items (code, name, price, changed, who) VALUES ('N','ours','1','2026-03-01 10:00:00','ida'), ('LATE','ours','1','2026-03-01 10:00:00','ida')")
	assert.Equal(t, []string{"new"}, p.reasonOf("item/N"))
	p.sql("target", "INSERT INTO items (code, name, price, changed, who) VALUES ('N','theirs','1','2026-02-01 10:00:00','ruth')")
	for range 2 { // in every match, not only in the first
		assert.Equal(t, both, p.reasonOf("item/N"))
	}
	assert.Equal(t, []string{"changed"}, p.reasonOf("item/DIFFERS"), "which was on both sides all the time")
	text := words(p.must(0, "review", "--full").out)
	assert.Contains(t, text, "item/N was made in source and in target, each on its own, after docket 1 ")
	assert.Contains(t, text, "compared all of item on ")
	assert.Contains(t, text, "in source on 2026-03-01 10:00:00 by ida, in target on 2026-02-01 10:00:00 by ruth.")
	p.must(0, "approve", "--status", "changed")
	p.must(3, "import", "--rehearse", "--complete")
	p.must(0, "import")
	assert.Equal(t, []string{"theirs"}, p.rows("target", "SELECT name FROM items WHERE code = 'N'"))

	// A selection is told the same.
	p.must(0, "export", "source", "--record", "item/N", "--name", "one")
	p.must(3, "match", "one", "--against", "target")
	assert.Equal(t, []string{"created-on-both"}, p.review()["item/N"].Reasons)

	// Keeping one field of the target's leaves it open; what became of it is restored as it was.
	p.sql("source", "UPDATE items SET price = '7' WHERE code = 'N'")
	assert.Equal(t, both, p.reasonOf("item/N"))
	p.must(0, "approve", "item/N", "--take", "source")
	p.must(0, "approve", "item/N", "--field", "name", "--take", "target")
	p.must(0, "import")
	assert.Equal(t, []string{"theirs 7"}, p.rows("target", "SELECT name || ' ' || price FROM items WHERE code = 'N'"))
	assert.Equal(t, both, p.reasonOf("item/N"))
	p.must(0, "approve", "item/N", "--field", "name", "--take", "source")
	p.must(0, "import")
	assert.Nil(t, p.reasonOf("item/N"), "both have the same by now")
	p.sql("source", "UPDATE items SET price = '8' WHERE code = 'N'")
	assert.Equal(t, []string{"changed"}, p.reasonOf("item/N"), "and agree")
}

// After a restore the next match finds what the one before the import found.
func TestARestoreForgetsThatBothAgreed(t *testing.T) {
	t.Parallel()
	p := newPlace(t, "types:\n  item: {at: items, key: [code], id: id}\n", itemTable, itemTable)
	p.reasonOf("item/N")
	p.sql("source", "INSERT INTO items (code, name, price) VALUES ('N','ours','1')")
	p.sql("target", "INSERT INTO items (code, name, price) VALUES ('N','theirs','1')")
	assert.Equal(t, []string{"conflict", "created-on-both"}, p.reasonOf("item/N"))
	p.must(0, "approve", "item/N", "--take", "source")
	p.must(0, "import")
	p.must(3, "restore")
	p.must(0, "approve", "*")
	p.must(0, "import")
	assert.Equal(t, []string{"conflict", "created-on-both"}, p.reasonOf("item/N"))
}

// What could not be told does not look made when it can be.
func TestWhatCouldNotBeToldWasNotMade(t *testing.T) {
	t.Parallel()
	rows := "INSERT INTO items (code, name) VALUES ('TWICE','%'),('OUT','%'),('HELD','%');"
	at := func(name string) string { return itemTable + strings.ReplaceAll(rows, "%", name) }
	p := newPlace(t, "types:\n  item: {at: items, key: [code], id: id, only: \"status == \\\"A\\\"\"}\n",
		at("ours")+"INSERT INTO items (code, name) VALUES ('TWICE','again'); UPDATE items SET status = 'R' WHERE code = 'OUT'",
		at("theirs")+"UPDATE items SET status = 'R' WHERE code = 'HELD'")
	assert.Equal(t, []string{"conflict", "ambiguous"}, p.reasonOf("item/TWICE"))
	f := p.review()
	assert.Equal(t, []string{"retired-in-source"}, f["item/OUT"].Reasons)
	assert.Equal(t, []string{"held-outside"}, f["item/HELD"].Reasons)
	p.must(0, "export", "source", "--record", "item/TWICE", "--name", "some")
	p.run("match", "some", "--against", "target") // which asks of few of them
	mend := "DELETE FROM items WHERE name = 'again'; UPDATE items SET status = 'A'"
	p.sql("source", mend)
	p.sql("target", mend)
	for range 2 {
		for _, address := range []string{"item/TWICE", "item/OUT", "item/HELD"} {
			assert.Equal(t, []string{"changed"}, p.reasonOf(address), address)
		}
	}
	// Another condition: then nothing is known of what was outside.
	p.sql("source", "INSERT INTO items (code, name, status) VALUES ('X','ours','B')")
	p.sql("target", "INSERT INTO items (code, name, status) VALUES ('X','theirs','B')")
	p.write("catalog.yaml", strings.ReplaceAll(string(p.read("catalog.yaml")), `status == \"A\"`, `status != \"R\"`))
	assert.Equal(t, []string{"changed"}, p.reasonOf("item/X"))
}

const stampedItems = "types:\n  item: {at: items, key: [code], id: id, stamp: {at: changed, by: who}, retired: {field: status, values: [R]}}\n"

// What an import or a restore of this workspace wrote is nobody else's doing.
func TestOurOwnDoing(t *testing.T) {
	t.Parallel()
	p := newPlace(t, stampedItems,
		itemTable+"INSERT INTO items (code, name, status, changed, who) VALUES ('A','new','A','2026-03-01 10:00:00','ida'),('LATE','new','A','2026-03-01 10:00:00','ida'),('OUT','x','R','2026-03-01 10:00:00','ida')",
		itemTable+"INSERT INTO items (code, name, status, changed, who) VALUES ('A','old','A','2026-01-01 10:00:00','ruth'),('LATE','old','A','2026-04-01 10:00:00','ruth'),('OUT','x','A','2026-01-01 10:00:00','ruth')")
	p.must(3, "match", "source", "--against", "target", "--name", "first")
	before := p.review()
	assert.Equal(t, []string{"target-newer"}, before["item/LATE"].Reasons)
	p.must(0, "approve", "*", "--take", "source")
	p.must(0, "import")
	p.must(3, "restore")
	restored := p.review()
	for address, f := range restored {
		assert.Equal(t, "changed", f.Status, "%s: nobody else changed it", address)
	}
	p.must(0, "approve", "*")
	p.must(0, "import")
	r := p.must(3, "match", "source", "--against", "target", "--name", "again")
	assert.NotContains(t, words(r.out), "approved in an earlier docket")
	after := p.review()
	require.Len(t, after, len(before))
	for address, f := range before {
		assert.Equal(t, append([]string{f.Status}, f.Reasons...), append([]string{after[address].Status}, after[address].Reasons...), address)
		assert.Equal(t, messages(f), messages(after[address]), address)
	}
	// Somebody else's change afterwards is told as theirs.
	p.sql("target", "UPDATE items SET name = 'theirs', changed = '2099-01-01 10:00:00', who = 'ruth' WHERE code = 'A'")
	p.must(3, "match", "source", "--against", "target", "--name", "more")
	assert.Equal(t, []string{"target-newer"}, p.review()["item/A"].Reasons)
}

// messages are what the checks of a finding say.
func messages(f finding) []string {
	var out []string
	for _, c := range f.Checks {
		out = append(out, c.Message)
	}
	return out
}

// A conflict over what an import brought names the import, not the person in the stamp.
func TestAConflictNamesTheImport(t *testing.T) {
	t.Parallel()
	p := newPlace(t, stampedItems,
		itemTable+"INSERT INTO items (code, name, price, changed, who) VALUES ('A','new','1','2026-03-01 10:00:00','ida')",
		itemTable+"INSERT INTO items (code, name, price, changed, who) VALUES ('A','old','1','2026-01-01 10:00:00','ruth')")
	p.must(3, "match", "source", "--against", "target", "--name", "first")
	p.must(0, "approve", "*")
	p.must(0, "import")
	// Somebody changes it without leaving a stamp, and the source goes on.
	p.sql("target", "UPDATE items SET name = 'theirs' WHERE code = 'A'")
	p.sql("source", "UPDATE items SET name = 'newer', changed = '2026-06-01 10:00:00' WHERE code = 'A'")
	p.must(3, "match", "source", "--against", "target", "--name", "second")
	said := strings.Join(messages(p.review()["item/A"]), " ")
	assert.Contains(t, said, "Field name of item/A was changed on both sides")
	assert.Contains(t, said, "by the import of docket 1")
	assert.NotContains(t, said, "mara")
}

// Since when a record is gone from the source is remembered.
func TestSinceWhenTheSourceHasItNoMore(t *testing.T) {
	t.Parallel()
	rows := "INSERT INTO items (code, name, changed, who) VALUES ('A','a','2026-01-01 10:00:00','ruth'),('B','b','2026-01-01 10:00:00','ruth')"
	p := newPlace(t, stampedItems, itemTable+rows, itemTable+rows)
	p.must(0, "match", "source", "--against", "target", "--name", "first")
	p.sql("source", "DELETE FROM items WHERE code = 'B'")
	p.must(0, "match", "source", "--against", "target", "--name", "second")
	said := func() string { return strings.Join(messages(p.review()["item/B"]), " ") }
	assert.Contains(t, said(), "item/B was on both sides and is no longer in source; this match finds it first.")
	p.sql("target", "UPDATE items SET name = 'c', changed = '2026-05-01 10:00:00' WHERE code = 'B'")
	for _, name := range []string{"third", "fourth"} {
		p.must(0, "match", "source", "--against", "target", "--name", name)
		assert.Contains(t, said(), "as docket 2 found first on 2026-")
		assert.Contains(t, said(), "Field name was changed in target since both agreed: in target on 2026-05-01 10:00:00 by ruth.")
	}
	p.sql("source", "INSERT INTO items (code, name) VALUES ('B','b')")
	p.must(0, "match", "source", "--against", "target", "--name", "fifth")
	assert.Equal(t, "target-edit", p.review()["item/B"].Status)
}

// The same on database servers, whose stamps have a zone or none, and are as fine as they come.
func TestWhatBothKnowOnServers(t *testing.T) {
	t.Parallel()
	for _, engine := range tries(t.Name(), serverEngines...) {
		stamp := map[string]string{"postgres": "TIMESTAMPTZ", "mysql": "DATETIME(6)"}[engine]
		p, source, target := pair(t, engine, "types:\n  item: {at: items, key: [code], id: id, stamp: {at: changed, by: who}}\n",
			"CREATE TABLE items (id INTEGER PRIMARY KEY, code VARCHAR(9) NOT NULL UNIQUE, name VARCHAR(20), changed "+stamp+", who VARCHAR(20))")
		run(t, source, "INSERT INTO items VALUES (1,'A','new','2026-03-01 10:00:00','ida'),(2,'LATE','new','2026-03-01 10:00:00.5','ida'),(4,'S','s','2026-01-01 10:00:00','ida')")
		run(t, target, "INSERT INTO items VALUES (1,'A','old','2026-01-01 10:00:00','ruth'),(2,'LATE','old','2026-03-01 10:00:00.75','ruth'),(4,'S','s','2026-01-01 10:00:00','ida')")
		first := p.must(3, "match", "source", "--against", "target", "--name", "first")
		assert.Contains(t, words(first.out), "on: 2026-01-01T10:00:00Z", engine)
		assert.Equal(t, []string{"target-newer"}, p.review()["item/LATE"].Reasons, engine)
		run(t, source, "INSERT INTO items VALUES (3,'TWO','ours','2026-03-01 10:00:00','ida')")
		run(t, target, "INSERT INTO items VALUES (3,'TWO','theirs','2026-03-01 10:00:00','ruth')")
		assert.Equal(t, []string{"conflict", "created-on-both"}, p.reasonOf("item/TWO"), engine)
		before := p.review()
		p.must(0, "approve", "*", "--take", "source")
		p.must(0, "import")
		p.must(3, "restore")
		p.must(0, "approve", "*")
		p.must(0, "import")
		p.must(3, "match", "source", "--against", "target", "--name", "again")
		for address, f := range p.review() {
			assert.Equal(t, append([]string{before[address].Status}, before[address].Reasons...), append([]string{f.Status}, f.Reasons...), "%s: %s", engine, address)
			for _, c := range f.Changed {
				if c.Environment == "target" && address != "item/TWO" { // of which nothing is known again
					assert.Equal(t, docketsIn(p)-1, c.Docket, "%s: %s was restored by us", engine, address)
				}
			}
		}
	}
}
