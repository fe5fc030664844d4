package test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// A docket is proven: what is as approved, what moved since and where, what was left open.
func TestAnImportIsProven(t *testing.T) {
	t.Parallel()
	const table = "CREATE TABLE items (code TEXT PRIMARY KEY, name TEXT, price TEXT, at DATETIME DEFAULT CURRENT_TIMESTAMP);"
	p := newPlace(t, "types:\n  item: {at: items, key: [code], title: name, stamp: {at: at}}\n",
		table+"INSERT INTO items VALUES ('A','a2','1','2026-01-01'),('B','b2','1','2026-01-01'),('C','c','1','2026-01-01'),('D','d2','1','2026-01-01'),('E','e2','1','2026-01-01'),('F','f2','2','2026-01-01');",
		table+"INSERT INTO items VALUES ('A','a1','1','2025-01-01'),('B','b1','1','2025-01-01'),('D','d1','1','2025-01-01'),('E','e1','1','2025-01-01'),('F','f1','1','2025-01-01'),('OWN','own','1','2025-01-01');")
	p.must(3, "match", "source", "--against", "target", "--name", "p")
	assert.Contains(t, words(p.must(2, "prove", "1").err), "Docket 1 was not imported, so there is nothing to prove")
	p.must(0, "decline", "item/D", "--note", "not here")
	p.must(0, "decline", "item/F", "--field", "price")
	p.must(0, "approve", "item/A", "item/B", "item/C", "item/F")
	p.must(0, "import")
	before := p.files()
	r := p.must(0, "prove", "1")
	assert.Equal(t, before, p.files(), "nothing is left of it")
	assert.NotContains(t, r.out, "Next:")
	p.must(3, "match", "source", "--against", "target", "--name", "newer")
	assert.Contains(t, p.must(0, "prove").out, "Docket 1, source to target, looked at again", "the newest that was imported")
	p.must(0, "parcel", "remove", "newer", "--anyway")
	kept := p.must(0, "prove", "1", "--keep")
	assert.Contains(t, kept.out+kept.err, "Next: anagram review 3")
	assert.Equal(t, 3, docketsIn(p))
	for _, said := range []string{"imported 4", "as approved 4", "differs 0", "gone 0", "twice 0", "also moved 0", "left open 3", "item/D: declined", "item/E: open", "item/F: declined", "new since 0", "target holds everything that docket 1 brought as it was approved."} {
		assert.Contains(t, words(r.out), said)
	}
	p.must(0, "approve", "1", "item/E", "--again")
	p.sql("source", "UPDATE items SET name = 'a3' WHERE code = 'A'; INSERT INTO items VALUES ('N','n','1','2026-02-01'); UPDATE items SET name = 'd1' WHERE code = 'D'")
	p.sql("target", "UPDATE items SET name = 'b9' WHERE code = 'B'; DELETE FROM items WHERE code = 'C'")
	doc := p.json(3, "prove", "1")
	told := func(of string) (out []string) {
		for _, m := range doc[of].([]any) {
			m := m.(map[string]any)
			out = append(out, fmt.Sprint(m["address"], " ", m["where"], " ", m["what"]))
		}
		return out
	}
	assert.Equal(t, []string{"item/A source changed in the source: name"}, told("moved"))
	assert.Equal(t, []string{"item/N source it came into the source"}, told("new_differences"))
	assert.Equal(t, []string{"item/B <nil> name is b9, and b2 was approved"}, told("differs"))
	assert.Equal(t, []string{"item/C <nil> it is no longer in target"}, told("gone"))
	assert.InDelta(t, 2, doc["as_approved"], 0)
	assert.InDelta(t, 1, doc["settled"], 0)
	assert.Equal(t, false, doc["sound"])
	assert.Contains(t, words(p.must(3, "prove", "1").out), "item/B: name is b9, and b2 was approved; last changed: target 2")
	assert.Contains(t, words(p.must(3, "prove", "1").out), "target does not hold 2 records of docket 1 as approved.")

	// Of a restore the target is read.
	p.must(3, "restore", "1")
	p.must(0, "approve", "*", "--take", "source")
	n := docketsIn(p)
	p.must(0, "import")
	assert.Contains(t, words(p.must(0, "prove", fmt.Sprint(n)).out), "and nothing else differs")
	p.sql("target", "UPDATE items SET name = 'zz' WHERE code = 'A'")
	assert.Contains(t, words(p.must(3, "prove", fmt.Sprint(n)).out), "item/A: name is zz, and a1 was approved")
	assert.Contains(t, words(p.must(3, "prove", "1").out), "docket "+fmt.Sprint(n)+" wrote it later")
	p.must(0, "parcel", "remove", "p", "--anyway")
	assert.Contains(t, words(p.must(3, "prove", "1").out), "What else moved since was not looked at: Parcel p, which docket 1 was matched with, is not there any more")
}

// Nothing but what was approved and written counts as proof: not that both sides are equal, and
// not that nothing is left to compare.
func TestEqualSidesProveNothing(t *testing.T) {
	t.Parallel()
	const table = "CREATE TABLE items (code TEXT, name TEXT, price TEXT, changed TEXT, who TEXT);"
	for name, c := range map[string]struct {
		then, list string // what happens on both sides, and the list that has it
		addresses  []string
		what       string
		sound      int
	}{
		"as it was":              {"SELECT 1", "differs", nil, "", 2},
		"what nobody approved":   {"UPDATE items SET name = 'both', changed = '2026-11-30 10:00:00', who = 'ida' WHERE code = 'A'", "differs", []string{"item/A"}, "name is both, and a2 was approved", 1},
		"an approved null":       {"UPDATE items SET name = NULL WHERE code = 'A'", "differs", []string{"item/A"}, "name is null, and a2 was approved", 1},
		"gone from both":         {"DELETE FROM items WHERE code = 'A'", "gone", []string{"item/A"}, "it is no longer in target", 1},
		"both empty":             {"DELETE FROM items", "gone", []string{"item/A", "item/B"}, "it is no longer in target", 0},
		"the key twice":          {"INSERT INTO items (code, name, price) SELECT code, name, price FROM items WHERE code = 'A'", "twice", []string{"item/A"}, "its key stands 2 times in target", 1},
		"a field nobody brought": {"UPDATE items SET price = '9', changed = '2026-11-30 10:00:00', who = 'ida' WHERE code = 'B'", "moved", []string{"item/B"}, "changed in the target: price, which the docket did not write", 2},
	} {
		t.Run(name, func(t *testing.T) {
			p := newPlace(t, "types:\n  item: {at: items, key: [code], stamp: {at: changed, by: who, write: never}}\n", table+"INSERT INTO items (code, name, price) VALUES ('A','a2','1'),('B','b2','2');", table+"INSERT INTO items (code, name, price) VALUES ('A','a1','1'),('B','b1','1');")
			p.must(3, "match", "source", "--against", "target")
			p.must(0, "decline", "item/B", "--field", "price")
			p.must(0, "approve", "item/A")
			p.must(0, "approve", "item/B", "--field", "name")
			p.must(0, "import")
			p.sql("source", c.then)
			p.sql("target", c.then)
			exit := 3
			if c.sound == 2 {
				exit = 0
			}
			doc := p.json(exit, "prove", "1")
			assert.InDelta(t, c.sound, doc["as_approved"], 0)
			var got []string
			for _, one := range doc[c.list].([]any) {
				one := one.(map[string]any)
				got = append(got, one["address"].(string))
				assert.Contains(t, one["what"], c.what)
				if strings.Contains(c.then, "'ida'") {
					assert.Equal(t, "ida", one["by"])
				}
			}
			assert.Equal(t, c.addresses, got)
			said := words(p.must(exit, "prove", "1").out)
			assert.Equal(t, exit == 0, strings.Contains(said, "target holds everything that docket 1 brought as it was approved"))
		})
	}
}

// The life of one record is told over all dockets, by any name that it had.
func TestTheLifeOfOneRecord(t *testing.T) {
	t.Parallel()
	const table = "CREATE TABLE items (code TEXT PRIMARY KEY, name TEXT);"
	p := newPlace(t, "types:\n  item: {at: items, key: [code]}\n", table+"INSERT INTO items VALUES ('A','first');", table)
	for i, name := range []string{"first", "second", "third"} {
		p.sql("source", "UPDATE items SET name = '"+name+"'")
		p.must(3, "match", "source", "--against", "target", "--name", name)
		if i == 1 {
			p.must(0, "decline", "item/A", "--note", "not yet")
			continue
		}
		p.as("jonas", 0, "approve", "item/A")
		p.must(0, "import")
	}
	p.must(0, "match", "source", "--against", "target", "--name", "same")
	r := p.must(0, "history", "item/A")
	said := words(r.out)
	for _, want := range []string{"docket 1, source to target: new, approved by jonas came into target", "imported by mara", "docket 2, source to target: changed, declined by mara: not yet",
		"name: third in source, first in target", "docket 3, source to target: changed, approved by jonas changed in target", "docket 4, source to target: the same on both sides, or on neither", "Last known of target, by docket 4: as in source, or on neither side."} {
		assert.Contains(t, said, want)
	}
	doc := p.json(0, "history", "item/A")["dockets"].([]any)
	assert.Len(t, doc, 4)
	assert.Equal(t, []any{"jonas"}, doc[2].(map[string]any)["decided_by"])
	p.must(3, "restore", "1")
	p.must(0, "approve", "item/A", "--take", "source")
	assert.Contains(t, words(p.must(0, "history", "item/A").out), "target-only, approved by mara")
	assert.Contains(t, words(p.must(0, "history", "item/NONE").out), "it was the same on both sides, or on neither, last in docket 4, ")
	assert.Contains(t, words(p.must(0, "history", "thing/X").out), "No docket of this workspace has thing/X as a finding")
	p.refused("is a pattern", "history", "item/*")
	p.refused("of a record it is printed", "history", "item/A", "--out", "x.html")
	p.refused("name it, such as", "history", "--out", "x.html")
	p.refused("let its name end in .html", "history", "1", "--out", "x.pdf")
}

// The page of a docket's history holds all of it, for somebody who has only that.
func TestTheHistoryOfADocketIsOnePage(t *testing.T) {
	t.Parallel()
	const table = "CREATE TABLE items (code TEXT PRIMARY KEY, name TEXT);"
	p := newPlace(t, "types:\n  item: {at: items, key: [code]}\n", table+"INSERT INTO items VALUES ('A','<script>alert(1)</script>'),('B','b2');", table+"INSERT INTO items VALUES ('B','b1');")
	p.must(3, "match", "source", "--against", "target", "--name", "p")
	p.must(0, "comment", "item/A", "is that <b>right</b>?")
	p.as("jonas", 0, "approve", "item/A", "--note", "looked at")
	p.must(0, "decline", "item/B")
	p.must(0, "import")
	p.must(0, "history", "1", "--out", "one.html")
	page := string(p.read("one.html"))
	for _, want := range []string{"History of docket 1", "approved, 1 finding: looked at", "commented: is that &lt;b&gt;right&lt;/b&gt;?", "import: imported, 1 new, 0 changed, 0 removed, 0 left out", "&lt;script&gt;alert(1)&lt;/script&gt;", "import of ", ": written", "default-src &#39;none&#39;"} {
		assert.Contains(t, page, want)
	}
	assert.NotContains(t, page, "<script")
	assert.NotContains(t, page, "http://")
	p.refused("one.html is there already", "history", "1", "--out", "one.html")
	doc := p.json(0, "history", "1")
	var what []string
	for _, e := range doc["events"].([]any) {
		what = append(what, e.(map[string]any)["what"].(string))
	}
	assert.ElementsMatch(t, []string{"matched", "commented", "decided", "decided", "import"}, what)
	assert.Contains(t, words(p.must(0, "history", "1").out), "jonas: approved item/A: looked at")
}

// A parcel goes through several environments: what is where is remembered, and can be asked.
func TestAParcelGoesThroughEnvironments(t *testing.T) {
	t.Parallel()
	const table = "CREATE TABLE items (code TEXT PRIMARY KEY, name TEXT);"
	p := newPlace(t, "types:\n  item: {at: items, key: [code]}\n", table+"INSERT INTO items VALUES ('A','a'),('B','b');", table)
	p.sql("acceptance", table)
	p.sql("production", table)
	p.write("anagram.yaml", "environments:\n  source: {connect: \"sqlite:source.db\"}\n  target: {connect: \"sqlite:target.db\"}\n  acceptance: {connect: \"sqlite:acceptance.db\"}\n  production: {connect: \"sqlite:production.db\"}\n")
	p.must(0, "export", "source", "--name", "january")
	r := p.must(0, "status", "january")
	assert.Contains(t, r.err, "Next: anagram match january --against target")
	p.must(3, "match", "january", "--against", "target")
	p.must(0, "approve", "*")
	p.must(0, "import")
	p.must(3, "match", "january", "--against", "acceptance")
	p.must(0, "approve", "item/A")
	p.sql("acceptance", "INSERT INTO items VALUES ('A','theirs')")
	p.must(5, "import")
	p.must(0, "approve", "item/B")
	p.must(5, "import")
	state := func(args ...string) map[string]map[string]any {
		out := map[string]map[string]any{}
		for _, e := range p.json(0, append([]string{"status", "january"}, args...)...)["environments"].([]any) {
			out[e.(map[string]any)["environment"].(string)] = e.(map[string]any)
		}
		return out
	}
	now := state()
	assert.Equal(t, []any{"source", "imported", "in-part", "not-matched"}, []any{now["source"]["state"], now["target"]["state"], now["acceptance"]["state"], now["production"]["state"]})
	assert.InDelta(t, 1, now["acceptance"]["left_out"], 0)
	assert.InDelta(t, -1, now["target"]["as_approved"], 0)
	p.sql("target", "UPDATE items SET name = 'changed' WHERE code = 'A'")
	assert.InDelta(t, 1, state("--ask")["target"]["as_approved"], 0)
	assert.Contains(t, words(p.must(0, "status", "january", "--ask").out), "1 of 2")
	p.must(3, "restore", "1")
	p.must(0, "approve", "*", "--take", "source")
	p.run("import")
	assert.Equal(t, "taken-back", state()["target"]["state"])
	p.refused("--ask is about one parcel", "status", "--ask")
	p.must(2, "status", "nothing")
}

// A selection grows and shrinks while a change is built; the rest of anagram.yaml stays.
func TestASelectionIsGatheredOverDays(t *testing.T) {
	t.Parallel()
	const tables = "CREATE TABLE items (id INTEGER PRIMARY KEY, code TEXT UNIQUE, name TEXT); CREATE TABLE parts (id INTEGER PRIMARY KEY, item INTEGER, n INTEGER);"
	p := newPlace(t, "types:\n  item: {at: items, key: [code], id: id, title: name}\n  part: {at: parts, key: [item, n], id: id, refers: {item: item}, part_of: item}\n",
		tables+"INSERT INTO items VALUES (1,'A','first'),(2,'B','second'),(3,'a b','odd'); INSERT INTO parts VALUES (1,1,1),(2,2,1);", tables)
	const head = "environments: # two of them\n  source: {connect: \"sqlite:source.db\"}\n  target: {connect: \"sqlite:target.db\"}\n"
	p.write("anagram.yaml", head)
	r := p.must(0, "selection", "add", "month", "item/A")
	assert.Contains(t, words(r.out), "1 record added to selection month, which names 1 record now.")
	p.must(0, "selection", "add", "month", "item/A", "part/B/1", "item/a%20b")
	assert.Equal(t, head+"selections:\n  month:\n    records: [item/A]\n", strings.Replace(string(p.read("anagram.yaml")), "    records:\n      - item/A\n      - part/B/1\n      - item/a%20b\n", "    records: [item/A]\n", 1))
	r = p.must(0, "selection", "show", "month", "--from", "source") // as it says
	assert.Contains(t, words(r.out), "An export from source would take 5 records: 3 chosen and 2 that come along.")
	assert.Contains(t, words(r.out), "part/A/1 along, through part of item/A")
	assert.Contains(t, words(r.out), "item/B second owner, through part/B/1 item")
	assert.Empty(t, p.json(0, "parcel", "list")["parcels"], "nothing is kept")
	p.must(0, "selection", "remove", "month", "item/a%20b")
	p.refused("does not name item/ZZ", "selection", "remove", "month", "item/ZZ")
	p.refused("itm", "selection", "add", "month", "itm/A")
	p.refused("no selection \"mont\"; did you mean \"month\"?", "selection", "show", "mont")
	p.must(0, "selection", "add", "gone", "item/NONE", "item/No one", "item/A")
	for _, args := range [][]string{{"selection", "show", "gone", "--from", "source"}, {"export", "source", "--selection", "gone"}} {
		r = p.must(1, args...)
		assert.Contains(t, words(r.err), "source has no record item/NONE, item/No one; no parcel was made")
		assert.Contains(t, r.err, "Next: anagram selection remove gone item/NONE 'item/No one'\n")
	}
	p.must(0, "selection", "remove", "gone", "item/NONE", "item/No one") // as it says
	p.must(0, "selection", "show", "gone", "--from", "source")
	p.must(0, "export", "source", "--selection", "month", "--name", "m")
	assert.Equal(t, []string{"item/A", "item/B < owner of part/B/1", "part/A/1 < part of item/A", "part/B/1"}, p.holds("m"))

	// From a docket and from a parcel.
	p.must(3, "match", "m", "--against", "target")
	p.must(0, "selection", "add", "new", "--docket", "1", "--status", "new", "item/*")
	p.must(0, "selection", "add", "new", "--parcel", "m", "part/A/*")
	assert.Equal(t, []any{"item/A", "item/B", "part/A/1"}, p.json(0, "selection", "show", "new")["records"])
	assert.Contains(t, words(p.must(0, "selection", "list").out), "new item/A, item/B, part/A/1")
	p.refused("nothing was added", "selection", "add", "new", "--docket", "1", "--status", "conflict")
	p.refused("go with --docket", "selection", "add", "new", "--status", "new", "item/A")
	p.refused("needs the addresses", "selection", "add", "new")

	// However a person wrote it: it is changed rightly, or refused and nothing is changed.
	for text, ok := range map[string]bool{
		"selections:\n  month: {records: [item/A]}\n": false,
		"selections: {month: {records: [item/A]}}\n":  false,
		"selections:\n    month: # mine\n        types: [part]\n        # these\n        records: [item/A,\n            item/B]\n        related: none\n    other:\n        types: [item]\n": true,
		"selections:\n  \"month\":\n    records:\n    - item/A\n    note_is_none: 1\n":                                                                                                       false,
		"selections:\n  month:\n    types: [item]\n\nmust_agree: []":                                                                                                                         true,
		"selections:\n  month:\n    types: [item]":                                                                                                                                           true,
	} {
		p.write("anagram.yaml", head+text)
		before := p.read("anagram.yaml")
		r := p.run("selection", "add", "month", "item/a%20b")
		if !ok {
			assert.Equal(t, 2, r.code, text)
			assert.Equal(t, before, p.read("anagram.yaml"))
			continue
		}
		assert.Equal(t, 0, r.code, text+r.err)
		records := p.json(0, "selection", "show", "month")["records"].([]any)
		assert.Contains(t, records, "item/a%20b")
		for _, comment := range []string{"# mine", "# two of them", "related: none", "must_agree"} {
			assert.Equal(t, strings.Contains(string(before), comment), strings.Contains(string(p.read("anagram.yaml")), comment), comment)
		}
	}
}
