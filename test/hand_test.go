package test

import (
	"bytes"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAParcelEditedByHand(t *testing.T) {
	t.Parallel()
	p := shop(t)
	p.must(0, "export", "source", "--name", "f", "--as-folder")
	p.write("parcels/f/.git/kept", "of version control")
	file := "parcels/f/records/thing.jsonl"
	before := string(p.read(file))
	p.write(file, strings.Replace(before, `"price":"1.5"`, `"price":"1.75"`, 1))
	p.refused("its bytes are not those that were sealed", "match", "f", "--against", "target")
	p.refused("needs --note", "parcel", "reseal", "f")
	r := p.must(0, "parcel", "reseal", "f", "--note", "price of A by hand")
	assert.Contains(t, r.out, "Sealed parcel f: 17 records of 6 record types, each checked.")
	assert.Equal(t, strings.Replace(before, `"price":"1.5"`, `"price":"1.75"`, 1), string(p.read(file)), "one value changed is one line changed")
	assert.Equal(t, "of version control", string(p.read("parcels/f/.git/kept")))
	p.must(0, "parcel", "verify", "f")
	assert.Contains(t, words(p.must(3, "match", "f", "--against", "target").out), "by mara: price of A by hand", "that it was edited is on top of everything")
	assert.Contains(t, words(p.must(0, "review").out), "price of A by hand")
	assert.Contains(t, p.must(0, "parcel", "show", "f").out, "price of A by hand")

	for _, c := range []struct{ file, from, to, want string }{
		{"thing", `"price":"1.75"`, `"price":"much"`, `thing.jsonl line 1: field "price": "much" is not a number`},
		{"thing", `"price":"1.75"`, `"prize":"1.75"`, `thing.jsonl line 1: the field "prize" is not described in the manifest`},
		{"thing", `"unit_id":["m"]`, `"unit_id":["km"]`, `thing/A unit_id refers to unit/km, which is not in the parcel, though all of unit is`},
		{"thing", `{"key":["B"]`, `{"key":["A"]`, `thing.jsonl line 2: thing/A stands in line 1 already; a key may occur once`},
		{"thing", `{"key":["B"]`, `{"key":["B"`, `thing.jsonl line 2:`},
		{"unit", `{"key":["m"]`, `{"key":[1,2]`, `unit.jsonl line 1: key: a key of unit is an array of 1`},
	} {
		name := "parcels/f/records/" + c.file + ".jsonl"
		text := string(p.read(name))
		require.Contains(t, text, c.from)
		p.write(name, strings.Replace(text, c.from, c.to, 1))
		p.refused(c.want, "parcel", "reseal", "f", "--note", "x")
		p.write(name, text)
	}
	p.must(0, "parcel", "verify", "f")
}

func TestATypeGoesOutToASpreadsheetAndComesBack(t *testing.T) {
	t.Parallel()
	for _, form := range []string{"csv", "xlsx"} {
		p := shop(t)
		p.must(0, "export", "source", "--name", "f", "--as-folder")
		before := string(p.read("parcels/f/records/thing.jsonl"))
		p.must(0, "parcel", "table", "f", "thing", "--out", "things."+form)
		p.refused("already exists", "parcel", "table", "f", "thing", "--out", "things."+form)
		p.refused("ends in .csv or .xlsx", "parcel", "table", "f", "thing", "--out", "things.txt")
		p.refused(`no records of "thong"; did you mean "thing"?`, "parcel", "table", "f", "thong", "--out", "t.csv")
		p.write("parcels/f/records/thing."+form, string(p.read("things."+form)))
		p.refused("is there as well; keep the one that holds", "parcel", "reseal", "f", "--note", "from a table")
		require.NoError(t, os.Remove(p.path("parcels/f/records/thing.jsonl")))
		p.must(0, "parcel", "reseal", "f", "--note", "from a table")
		assert.Equal(t, withoutStamps(before), withoutStamps(string(p.read("parcels/f/records/thing.jsonl"))), "nothing is lost on the way")
		_, err := os.Stat(p.path("parcels/f/records/thing." + form))
		assert.ErrorIs(t, err, os.ErrNotExist)
	}
}

// withoutStamps drops what a table does not carry: when a record was changed.
func withoutStamps(text string) string {
	var out strings.Builder
	for line := range strings.Lines(text) {
		if at := strings.Index(line, `,"changed_at"`); at >= 0 {
			end := strings.Index(line, `,"why"`)
			line = line[:at] + line[end:]
		}
		out.WriteString(line)
	}
	return out.String()
}

func TestAParcelWrittenByHand(t *testing.T) {
	t.Parallel()
	p := shop(t)
	p.must(3, "match", "source", "--against", "target", "--name", "all")
	p.must(0, "approve", "*")
	p.must(0, "import")
	p.write("mine/records/thing.csv", "code,kind,price,unit_id\nN1,x,9.90,m\nA,x,2,m\n")
	p.write("mine/records/bit.csv", "thing_id,no,colour_id\nN1,1,red\n")
	p.refused("needs --like", "parcel", "make", "mine")
	p.refused("neither an environment nor a parcel", "parcel", "make", "mine", "--like", "targat")
	r := p.must(0, "parcel", "make", "mine", "--like", "target", "--note", "by hand")
	assert.Contains(t, r.out, "Made parcel mine: 3 records of 2 record types, each checked.")
	assert.Contains(t, r.out, "2 records are only referred to")
	m := p.must(3, "match", "mine", "--against", "target")
	assert.Contains(t, m.out, "made by hand")
	f := p.review()
	require.Len(t, f, 3)
	assert.Equal(t, "changed", f["thing/A"].Status)
	require.Len(t, f["thing/A"].Fields, 1, "columns that the table leaves out say nothing")
	assert.Equal(t, "price", f["thing/A"].Fields[0].Field)
	p.must(0, "approve", "*")
	p.must(0, "import")
	assert.Equal(t, []string{"2 x m 1", "9.9 x m 0"}, p.rows("target", "SELECT t.price, t.kind, u.code, t.sheet IS NOT NULL FROM things t JOIN units u ON u.id = t.unit_id WHERE t.code IN ('A', 'N1') ORDER BY t.code"))

	p.write("wrong/records/thing.csv", "code,kind,price,unit_id\nN1,x,9.90,m\n\nN2,x,\"9,90\",m\n")
	p.refused(`thing.csv line 4: column price: "9,90" is not a number`, "parcel", "make", "wrong", "--like", "target")
	p.write("wrong/records/thing.csv", "code,kinds\nN1,x\n")
	p.refused(`column 2 is named "kinds", but thing has no such field; did you mean "kind"?`, "parcel", "make", "wrong", "--like", "target")
	p.write("wrong/records/thong.csv", "code\nN1\n")
	p.refused(`the catalog has no record type "thong"; did you mean "thing"?`, "parcel", "make", "wrong", "--like", "target")
	p.write("empty/readme", "x")
	p.refused("does not belong in a parcel", "parcel", "make", "empty", "--like", "target")
}

func TestTheLibraryIsKept(t *testing.T) {
	t.Parallel()
	p := shop(t)
	p.must(0, "export", "source", "--name", "one")
	p.must(0, "parcel", "rename", "one", "two")
	p.refused(`There is no parcel "one"`, "parcel", "show", "one")
	p.must(3, "match", "two", "--against", "target")
	p.refused("Docket 1 was made with parcel two and is not imported yet", "parcel", "remove", "two")
	p.must(0, "parcel", "again", "two", "--name", "three", "--note", "once more")
	p.refused("already exists", "parcel", "again", "two", "--name", "three")
	p.refused("already exists", "parcel", "rename", "two", "three")
	assert.Equal(t, p.holds("two"), p.holds("three"))
	p.must(0, "parcel", "remove", "two", "--anyway")
	p.must(0, "parcel", "remove", "three")
	assert.Contains(t, p.must(0, "parcel", "list").out, "The library is empty.")
	outside := t.TempDir() + "/x.parcel"
	p.must(0, "export", "source", "--name", "four")
	require.NoError(t, os.Rename(p.path("parcels/four.parcel"), outside))
	p.refused("is not in the library", "parcel", "remove", outside)
	p.must(3, "match", outside, "--against", "target")
	text, err := os.ReadFile(outside)
	require.NoError(t, err)
	cmd := p.command("match", "-", "--against", "target")
	cmd.Stdin = bytes.NewReader(text)
	out, _ := cmd.CombinedOutput()
	assert.Contains(t, string(out), "Kept the parcel from standard input in the library as four.")
	p.must(0, "parcel", "verify", "four")
	cmd = p.command("match", "-", "--against", "target")
	cmd.Stdin = bytes.NewReader(text[:100])
	out, _ = cmd.CombinedOutput()
	assert.Contains(t, string(out), "standard input: the file is cut short")
	assert.Contains(t, p.must(0, "parcel", "table", "four", "thing", "thing/A").out, "thing/A             x     1.5")
	p.refused("holds no records of", "parcel", "table", "four", "thing", "thing/ZZ")
}

func TestTwoParcelsAreCompared(t *testing.T) {
	t.Parallel()
	p := shop(t)
	p.must(0, "export", "source", "--name", "before")
	p.must(0, "export", "source", "--name", "units", "--type", "unit", "--record", "thing/C", "--related", "none")
	p.sql("source", "UPDATE things SET price = 99 WHERE code = 'A'; DELETE FROM units WHERE code = 'never'; INSERT INTO things (id, code) VALUES (9, 'Z');")
	p.must(0, "export", "source", "--name", "after")
	r := p.must(3, "match", "after", "--against", "before")
	for _, want := range []string{"from  source  parcel after, exported", "to    source  parcel before, exported"} {
		assert.Contains(t, r.out, want)
	}
	p.refused("No docket of this workspace can be imported", "review")
	f := p.review("1")
	assert.Equal(t, "changed", f["thing/A"].Status)
	assert.Equal(t, "new", f["thing/Z"].Status)
	assert.Equal(t, "target-only", f["unit/never"].Status)
	p.must(0, "approve", "1", "*")
	p.refused("compares two parcels", "import", "1")
	r = p.must(matched, "match", "after", "--against", "units")
	assert.Contains(t, words(r.out), "colour is not compared: source (parcel units) does not hold that record type")
	f = p.review("2")
	assert.Len(t, f, 1, "what a parcel does not hold whole is not called new: %v", f)
	assert.Equal(t, "target-only", f["unit/never"].Status)
	r = p.must(matched, "match", "units", "--against", "after")
	assert.Contains(t, words(r.out), "loose is not compared: parcel units does not hold that record type")
}

// What one environment alone has of a field is no business of whoever gets a parcel of another.
func TestLocalValuesOfOthersDoNotTravel(t *testing.T) {
	t.Parallel()
	const table = "CREATE TABLE items (id INTEGER PRIMARY KEY, code TEXT, name TEXT, url TEXT, \"on\" TEXT);"
	const catalog = "# what we have\ntypes:\n  item:\n    at: {source: items, target: items}\n    key: [code]   # as always\n    id: id\n    local:\n      url: {target: \"https://inside.example.org/007\", source: \"https://outside.example.org\"}\n      \"on\": {target: \"no\"}\n    retired: {field: name, values: [\"007\", \"no\", \"null\", \"2026-01-01\", \"1.50\"]}\n    only: \"name != 'it''s'\"\n"
	p := newPlace(t, strings.Replace(catalog, "''s", "s", 1), table+"INSERT INTO items VALUES (1,'A','a','x','y');", table)
	p.must(0, "export", "source", "--name", "p", "--as-folder")
	text := string(p.read("parcels/p/catalog.yaml"))
	assert.NotContains(t, text, "inside.example.org")
	assert.Contains(t, text, "outside.example.org")
	p.must(3, "match", "p", "--against", "target")
	p.must(0, "approve", "*")
	p.must(0, "import")
	assert.Equal(t, []string{"A a https://inside.example.org/007 no"}, p.rows("target", "SELECT code, name, url, \"on\" FROM items"))
}
