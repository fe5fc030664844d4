package test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// agreedPlace has two databases that were brought to agree by an import.
func agreedPlace(t *testing.T) *place {
	const table = "CREATE TABLE items (id INTEGER PRIMARY KEY, code TEXT, name TEXT, price DECIMAL(8,2), status TEXT, changed DATETIME, who TEXT);"
	p := newPlace(t, "types:\n  item: {at: items, key: [code], id: id, stamp: {at: changed, by: who}, retired: {field: status, values: [R]}}\n",
		table+"INSERT INTO items (code, name, price, status) VALUES ('A','a',1,'A'),('B','b',2,'A'),('C','c',3,'A'),('D','d',4,'A'),('E','e',5,'A');", table)
	p.must(3, "match", "source", "--against", "target", "--name", "first")
	p.must(0, "approve", "*")
	p.must(0, "import")
	return p
}

// again matches once more and gives the findings.
func (p *place) again() map[string]finding {
	p.t.Helper()
	p.must(matched, "match", "source", "--against", "target")
	return p.review()
}

func TestWhatBothAgreedOnTellsWhoMoved(t *testing.T) {
	t.Parallel()
	p := agreedPlace(t)
	p.sql("source", "UPDATE items SET price = 10 WHERE code = 'A'; UPDATE items SET price = 20, changed = '2026-05-01 08:00:00', who = 'build' WHERE code = 'B'; UPDATE items SET name = 'see' WHERE code = 'C';")
	p.sql("target", "UPDATE items SET price = 21, changed = '2026-05-02 09:00:00', who = 'night' WHERE code = 'B'; UPDATE items SET price = 33 WHERE code = 'C'; DELETE FROM items WHERE code = 'D'; UPDATE items SET name = 'only here' WHERE code = 'E';")
	f := p.again()
	require.Len(t, f, 5)
	assert.Equal(t, "changed", f["item/A"].Status)
	assert.Equal(t, "1", *f["item/A"].Fields[0].Agreed)
	assert.Equal(t, "source", f["item/A"].Fields[0].Moved)
	assert.Equal(t, "conflict", f["item/B"].Status)
	assert.Equal(t, []string{"both-moved"}, f["item/B"].Reasons)
	require.Len(t, f["item/B"].Checks, 1)
	assert.Equal(t, "Field price of item/B was changed on both sides since they last agreed: in source on 2026-05-01 08:00:00 by build, in target on 2026-05-02 09:00:00 by night.", f["item/B"].Checks[0].Message)
	assert.Equal(t, "changed", f["item/C"].Status, "one field moved by either side")
	assert.Equal(t, []string{"removed-in-target"}, f["item/D"].Reasons)
	assert.Equal(t, "target-edit", f["item/E"].Status)

	r := p.must(0, "approve", "*")
	assert.Contains(t, words(r.out), "2 findings of docket 2 approved (2 changed). 2 conflicts passed over: say whose values are right with --take source or --take target")
	assert.Contains(t, words(r.out), "1 target-edit finding passed over: only the target changed them")
	p.refused("--take is source or target", "approve", "*", "--take", "both")
	p.must(0, "approve", "item/B", "--take", "source", "--note", "build was right")
	p.must(0, "approve", "item/D", "--take", "source")
	p.must(0, "approve", "item/E", "--take", "source")
	assert.NotContains(t, p.must(0, "approve", "*").out, "passed over", "what is decided already is left alone")
	assert.Contains(t, p.must(0, "import").out, "1 new and 4 changed")
	assert.Equal(t, []string{"A a 10", "B b 20", "C see 33", "D d 4", "E e 5"}, p.rows("target", "SELECT code, name, price FROM items ORDER BY 1"), "what the target alone changed stays, unless it was chosen")
	f = p.again()
	require.Len(t, f, 1)
	assert.Equal(t, "target-edit", f["item/C"].Status)

	// What was imported is agreed from then on, without another match in between.
	p.sql("source", "UPDATE items SET price = 11 WHERE code = 'A'")
	p.again()
	p.must(0, "approve", "item/A")
	p.must(0, "import")
	p.sql("target", "UPDATE items SET price = 12 WHERE code = 'A'")
	assert.Equal(t, "target-edit", p.again()["item/A"].Status)
}

func TestAConflictCanKeepWhatTheTargetHas(t *testing.T) {
	t.Parallel()
	p := agreedPlace(t)
	p.sql("source", "UPDATE items SET price = 20, name = 'new' WHERE code = 'B'; UPDATE items SET price = 30 WHERE code = 'C';")
	p.sql("target", "UPDATE items SET price = 21 WHERE code = 'B'; UPDATE items SET price = 31 WHERE code = 'C';")
	p.again()
	p.must(0, "approve", "item/B", "item/C", "--take", "target")
	f := p.review()
	assert.Equal(t, "target-kept", f["item/C"].Decision)
	p.must(0, "import")
	assert.Equal(t, []string{"B b 21", "C c 31"}, p.rows("target", "SELECT code, name, price FROM items WHERE code IN ('B', 'C') ORDER BY 1"), "all of the target's record stays as it is")
}

func TestConflictsWithoutAgreedValues(t *testing.T) {
	t.Parallel()
	const table = "CREATE TABLE items (id INTEGER PRIMARY KEY, code TEXT, name TEXT, status TEXT, changed DATETIME);"
	p := newPlace(t, "types:\n  item: {at: items, key: [code], id: id, stamp: {at: changed}, retired: {field: status, values: [R]}}\n",
		table+"INSERT INTO items (code, name, status, changed) VALUES ('A','new','A','2026-02-01 00:00:00'),('B','old','A','2026-01-01 00:00:00'),('C','c','A','2026-02-01 00:00:00'),('D','d','R','2026-01-01 00:00:00');",
		table+"INSERT INTO items (code, name, status, changed) VALUES ('A','old','A','2026-01-01 00:00:00'),('B','newer','A','2026-01-01 00:00:01'),('C','c','R','2026-01-01 00:00:00'),('D','dd','R','2026-01-01 00:00:00');")
	f := p.again()
	assert.Equal(t, "changed", f["item/A"].Status)
	assert.Equal(t, []string{"target-newer"}, f["item/B"].Reasons)
	assert.Equal(t, []string{"retired-in-target"}, f["item/C"].Reasons)
	assert.Equal(t, "changed", f["item/D"].Status, "both are out of use")
	p.must(0, "approve", "item/B", "--take", "source")
	p.must(0, "approve", "item/C", "--take", "target")
	p.must(0, "import")
	assert.Equal(t, []string{"B old A", "C c R"}, p.rows("target", "SELECT code, name, status FROM items WHERE code IN ('B', 'C') ORDER BY 1"))
}

func TestAgreedValuesCanBeGiven(t *testing.T) {
	t.Parallel()
	p := agreedPlace(t)
	p.must(0, "export", "source", "--name", "then")
	p.sql("source", "UPDATE items SET price = 10 WHERE code = 'A'")
	p.sql("target", "UPDATE items SET price = 20 WHERE code = 'B'")
	p.write(".anagram/agreed/source--target.parcel", "damaged")
	p.refused("cannot be read", "match", "first", "--against", "target")
	p.must(3, "match", "source", "--against", "target", "--agreed", "then")
	f := p.review()
	assert.Equal(t, "changed", f["item/A"].Status)
	assert.Equal(t, "target-edit", f["item/B"].Status)
}

func TestDecisionsCarryOverWhileBothSidesAreAsTheyWere(t *testing.T) {
	t.Parallel()
	p := agreedPlace(t)
	p.sql("source", "UPDATE items SET price = 10 WHERE code = 'A'; UPDATE items SET price = 20 WHERE code = 'B'; INSERT INTO items (code, name) VALUES ('N', 'n'), ('O', 'o');")
	p.sql("target", "UPDATE items SET price = 21 WHERE code = 'B'")
	p.again()
	p.must(0, "decline", "item/A", "item/B", "--note", "not now")
	p.must(0, "hold", "item/N")
	p.sql("target", "UPDATE items SET price = 22 WHERE code = 'B'")
	doc := p.json(3, "match", "source", "--against", "target")
	assert.Equal(t, 2.0, doc["carried"])
	f := p.review()
	assert.Equal(t, "declined", f["item/A"].Decision)
	assert.Equal(t, "not now", f["item/A"].Note)
	assert.Equal(t, 2, f["item/A"].Carried)
	assert.Equal(t, "mara", f["item/A"].DecidedBy)
	assert.Equal(t, "held", f["item/N"].Decision)
	assert.Equal(t, "open", f["item/B"].Decision, "the target went on")
	assert.Equal(t, "open", f["item/O"].Decision)
	f = p.again()
	assert.Equal(t, "not now", f["item/A"].Note)
	assert.Equal(t, 2, f["item/A"].Carried, "the first docket is named, however often it is carried")
	p.must(0, "approve", "item/A")
	f = p.again()
	assert.Equal(t, "open", f["item/A"].Decision, "an approval is never carried over")
	p.sql("source", "UPDATE items SET name = 'other' WHERE code = 'N'")
	assert.Equal(t, "open", p.again()["item/N"].Decision)
}

// What the target holds to is known before anything is written; declining the field, as
// the mend says, lets the rest through.
func TestValuesThatDoNotFitAreKnownBefore(t *testing.T) {
	t.Parallel()
	for _, engine := range tries(t.Name(), serverEngines...) {
		t.Run(engine, func(t *testing.T) {
			p := &place{t: t, dir: t.TempDir(), user: "mara"}
			address, db := server(t, p, engine, "target")
			run(t, db, "CREATE TABLE items (code varchar(5) PRIMARY KEY, name varchar(5), price decimal(5,2), n smallint NOT NULL, kind varchar(3))", "INSERT INTO items VALUES ('A', 'a', 1, 1, 'x')")
			p.sql("source", "CREATE TABLE items (code TEXT PRIMARY KEY, name TEXT, price DECIMAL(10,4), n INTEGER, kind TEXT); INSERT INTO items VALUES ('A', 'too long', 2, 1, 'x'), ('B', 'b', 1234.5, 40000, 'x'), ('C', 'c', 0.125, NULL, 'äöü'), ('D', 'd', 1, 1, 'x');")
			p.write("catalog.yaml", "types:\n  item: {at: items, key: [code]}\n")
			p.target(address, "")
			p.must(3, "match", "source", "--against", "target")
			f := p.review()
			said := map[string][]string{}
			for address, one := range f {
				for _, c := range one.Checks {
					assert.Equal(t, "value-does-not-fit", c.Code)
					said[address] = append(said[address], c.Message)
				}
			}
			assert.Equal(t, map[string][]string{
				"item/A": {"item/A: field name has 8 characters, and 5 fit in target."},
				"item/B": {"item/B: field n is 40000, and -32768 to 32767 fit in target.", "item/B: field price is 1234.5, and 3 digits before the point fit in target."},
				"item/C": {"item/C: field n is null, and a value is required in target.", "item/C: field price is 0.125, and would be rounded to 2 digits after the point in target."},
			}, said)
			p.must(0, "approve", "*")
			doc := p.json(5, "import", "--rehearse")
			assert.Equal(t, map[string]any{"new": 1.0, "changed": 0.0}, doc["written"])
			p.must(0, "decline", "item/A", "--field", "name")
			doc = p.json(5, "import")
			assert.Equal(t, map[string]any{"new": 1.0, "changed": 1.0}, doc["written"], "the mend was followed")
			assert.Equal(t, []string{"A|a|2.00", "D|d|1.00"}, lines(t, db, "SELECT code, name, price FROM items ORDER BY 1"))
		})
	}
}

func TestLikelyRenamesArePointedAtEachOther(t *testing.T) {
	t.Parallel()
	const table = "CREATE TABLE items (id INTEGER PRIMARY KEY, code TEXT, name TEXT, price DECIMAL(8,2));"
	p := newPlace(t, "types:\n  item: {at: items, key: [code], id: id}\n",
		table+"INSERT INTO items (code, name, price) VALUES ('HEMOLYSIS', 'Specimen haemolysed', 5), ('N', 'something new', 7);",
		table+"INSERT INTO items (code, name, price) VALUES ('HAEM', 'Specimen haemolysed', 5), ('OLD', 'something old', 7);")
	f := p.again()
	for one, other := range map[string]string{"item/HEMOLYSIS": "item/HAEM", "item/HAEM": "item/HEMOLYSIS"} {
		require.Len(t, f[one].Checks, 1, one)
		assert.Equal(t, "looks-renamed", f[one].Checks[0].Code)
		assert.Equal(t, "caution", f[one].Checks[0].Level)
		assert.Contains(t, f[one].Checks[0].Message, "looks like "+other)
	}
	assert.Empty(t, f["item/N"].Checks)
	// The mend, followed literally: the key is changed by hand in the target.
	p.sql("target", "UPDATE items SET code = 'HEMOLYSIS' WHERE code = 'HAEM'")
	f = p.again()
	assert.NotContains(t, f, "item/HEMOLYSIS", "they are one record now")
}

func TestAnOlderParcelDoesNotTellWhoChangedWhat(t *testing.T) {
	t.Parallel()
	p := agreedPlace(t)
	p.must(0, "export", "source", "--name", "older")
	p.sql("source", "UPDATE items SET price = 10 WHERE code = 'A'; UPDATE items SET name = 'bee' WHERE code = 'B'")
	p.again()
	p.must(0, "approve", "*")
	p.must(0, "import")
	p.sql("target", "DELETE FROM items WHERE code = 'C'; UPDATE items SET changed = '2026-09-01 08:00:00' WHERE code = 'A'; UPDATE items SET changed = '2026-01-01 08:00:00' WHERE code = 'B'")
	p.sql("source", "UPDATE items SET changed = '2026-08-01 08:00:00'")

	// What both agreed on since is not what the source moved away from.
	r := p.must(3, "match", "older", "--against", "target")
	assert.Contains(t, words(r.out), "caution old-parcel: Another parcel of source, exported after older, was matched with target since (item). What differs may be older here, not changed.")
	f := p.review()
	assert.Equal(t, "changed", f["item/A"].Status)
	assert.Equal(t, "", f["item/A"].Fields[0].Moved, "not: moved by the source")
	assert.Equal(t, []string{"removed-in-target"}, f["item/C"].Reasons, "that the target had it is known all the same")

	// The newer one tells it as before.
	p.must(3, "match", "source", "--against", "target")
	assert.Equal(t, []string{"removed-in-target"}, p.review()["item/C"].Reasons)
	p.sql("source", "UPDATE items SET price = 11 WHERE code = 'A'")
	p.must(3, "match", "source", "--against", "target")
	assert.Equal(t, "source", p.review()["item/A"].Fields[0].Moved)
}
