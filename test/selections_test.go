package test

import (
	"fmt"
	"math"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const shopCatalog = `
areas: {base: [unit, colour]}
types:
  unit: {at: units, key: [code], id: id}
  colour: {at: colours, key: [code], id: id}
  thing: {at: things, key: [code], id: id, refers: {unit_id: unit, spare_id: thing, colour_id: colour}, stamp: {at: changed}, files: [sheet]}
  bit: {at: bits, key: [thing_id, no], id: id, refers: {thing_id: thing, colour_id: colour}, part_of: thing}
  chip: {at: chips, key: [bit_id, no], refers: {bit_id: bit}, part_of: bit}
  loose: {at: looses, key: [code], refers: {thing_id: thing}}
`

const shopTables = `
	CREATE TABLE units (id INTEGER PRIMARY KEY, code TEXT); CREATE TABLE colours (id INTEGER PRIMARY KEY, code TEXT, name TEXT);
	CREATE TABLE things (id INTEGER PRIMARY KEY, code TEXT, kind TEXT, price DECIMAL(10,2), unit_id INTEGER, spare_id INTEGER, colour_id INTEGER, changed DATETIME, sheet BLOB);
	CREATE TABLE bits (id INTEGER PRIMARY KEY, thing_id INTEGER, no INTEGER, colour_id INTEGER); CREATE TABLE chips (bit_id INTEGER, no INTEGER, note TEXT); CREATE TABLE looses (code TEXT, thing_id INTEGER);`

func shop(t *testing.T) *place {
	p := newPlace(t, shopCatalog, shopTables+`
		INSERT INTO units VALUES (1,'m'),(2,'s'),(3,'never'); INSERT INTO colours VALUES (1,'red','Red'),(2,'blue','Blue'),(3,'grey','Grey');
		INSERT INTO things VALUES (1,'A','x',1.50,1,2,NULL,'2026-01-01 08:00:00',x'00'),(2,'B','y',20,2,NULL,3,'2026-03-01 08:00:00',NULL),(3,'C','x',3,1,NULL,NULL,NULL,NULL),(4,'D','z',4,NULL,1,NULL,'2026-02-01 00:00:00',NULL);
		INSERT INTO bits VALUES (1,1,1,1),(2,2,1,2),(3,3,1,NULL); INSERT INTO chips VALUES (1,1,'of A'),(2,1,'of B'),(3,1,'of C'); INSERT INTO looses VALUES ('L',1);`, shopTables)
	return p
}

// holds lists the addresses in a parcel, and why each is there where it came along.
func (p *place) holds(parcel string) []string {
	p.t.Helper()
	var out []string
	for line := range strings.Lines(p.must(0, "parcel", "show", parcel, "*").out) {
		if !strings.HasPrefix(line, " ") {
			out = append(out, strings.Replace(strings.TrimSpace(line), "  came along: ", " < ", 1))
		}
	}
	return out
}

func TestWhatIsChosenAndWhatComesAlong(t *testing.T) {
	t.Parallel()
	p := shop(t)
	all := []string{"unit/m < thing/A unit_id", "unit/s < thing/B unit_id", "colour/blue < bit/B/1 colour_id", "colour/grey < thing/B colour_id", "colour/red < bit/A/1 colour_id",
		"thing/A", "thing/B < thing/A spare_id", "bit/A/1 < part of thing/A", "bit/B/1 < part of thing/B", "chip/A/1/1 < part of bit/A/1", "chip/B/1/1 < part of bit/B/1"}
	for i, c := range []struct {
		given []string
		want  []string
		only  int // records only referred to
	}{
		{[]string{"--record", "thing/A"}, all, 0},
		{[]string{"--record", "thing/A", "--related", "parts"}, []string{"thing/A", "bit/A/1 < part of thing/A", "chip/A/1/1 < part of bit/A/1"}, 3},
		{[]string{"--record", "thing/A", "--related", "none"}, []string{"thing/A"}, 2},
		{[]string{"--record", "thing/A", "--leave-out", "thing/B", "--leave-out", "colour/*"}, []string{"unit/m < thing/A unit_id", "thing/A", "bit/A/1 < part of thing/A", "chip/A/1/1 < part of bit/A/1"}, 2},
		{[]string{"--record", "bit/C/*"}, []string{"unit/m < thing/C unit_id", "thing/C < owner of bit/C/1", "bit/C/1", "chip/C/1/1 < part of bit/C/1"}, 0},
		{[]string{"--where", "thing: kind == 'x' && price > 1.50", "--related", "none"}, []string{"thing/C"}, 1},
		{[]string{"--where", "thing: unit_id == 'm'", "--where", "thing: code != 'C'", "--related", "none"}, []string{"thing/A"}, 2},
		{[]string{"--type", "thing", "--changed-since", "2026-02-01", "--related", "none"}, []string{"thing/B", "thing/C", "thing/D"}, 4},
		{[]string{"--type", "thing", "--changed-since", "2026-02-01T00:00:01Z", "--related", "none"}, []string{"thing/B", "thing/C"}, 3},
		{[]string{"--area", "base"}, []string{"unit/m", "unit/never", "unit/s", "colour/blue", "colour/grey", "colour/red"}, 0},
		{[]string{"--type", "loose", "--leave-out", "thing/*"}, []string{"loose/L"}, 1},
		{[]string{"--record", "*/C", "--record", "colour/r*"}, []string{"unit/m < thing/C unit_id", "colour/red", "thing/C", "bit/C/1 < part of thing/C", "chip/C/1/1 < part of bit/C/1"}, 0},
	} {
		name := fmt.Sprintf("p%d", i)
		doc := p.json(0, append([]string{"export", "source", "--name", name}, c.given...)...)
		assert.Equal(t, c.want, p.holds(name), "%v", c.given)
		assert.EqualValues(t, c.only, doc["referred"], "%v", c.given)
		chosen := len(slices.DeleteFunc(slices.Clone(c.want), func(s string) bool { return strings.Contains(s, "<") }))
		assert.EqualValues(t, chosen, doc["records"].(map[string]any)["chosen"], "%v", c.given)
		p.must(0, "parcel", "verify", name)
	}
	whole := p.json(0, "export", "source", "--name", "whole", "--type", "thing")
	assert.Equal(t, map[string]any{"chosen": 4.0, "along": 11.0}, whole["records"], "parts of a whole type come along whole")
	p.must(0, "export", "source", "--name", "bare", "--no-files")
	assert.NotContains(t, p.must(0, "parcel", "show", "bare", "thing/A").out, "sheet")
	assert.Equal(t, map[string]int{"new": 17}, totals(p.json(3, "match", "bare", "--against", "target")))
	assert.NotContains(t, p.must(0, "review").out, "not-on-both-sides")

	// A part brings its owner, but not the owner's other parts; unless the owner is needed
	// for something else as well.
	p.sql("source", "INSERT INTO bits VALUES (9, 3, 2, NULL); INSERT INTO chips VALUES (9, 7, 'x');")
	p.must(0, "export", "source", "--name", "part", "--record", "bit/C/1")
	assert.Equal(t, []string{"unit/m < thing/C unit_id", "thing/C < owner of bit/C/1", "bit/C/1", "chip/C/1/1 < part of bit/C/1"}, p.holds("part"))
	p.must(0, "export", "source", "--name", "both", "--record", "bit/C/1", "--record", "thing/C")
	assert.Contains(t, p.holds("both"), "bit/C/2 < part of thing/C")
	p.sql("source", "DELETE FROM chips WHERE bit_id = 9; DELETE FROM bits WHERE id = 9")
	doc := p.json(0, "export", "source", "--name", "dated", "--changed-since", "2026-03-01", "--leave-out", "loose/*")
	assert.Equal(t, map[string]any{"chosen": 8.0, "along": 4.0}, doc["records"], "types without stamps whole, parts only with their owners: %v", p.holds("dated"))
	p.refused("leaves nothing of source; no parcel was made", "export", "source", "--leave-out", "*")
	for want, given := range map[string][]string{
		`column 1: thing has no field "kond"; did you mean "kind"?`:                  {"--where", "thing: kond == 'x'"},
		"> cannot be used on (text, integer)":                                        {"--where", "thing: kind > 5"},
		"is written as 'TYPE: CONDITION'":                                            {"--where", "kind == 'x'"},
		"--related is all, parts or none":                                            {"--related", "some"},
		"source has no record thing/Z; did you mean \"thing/A\"? No parcel was made": {"--record", "thing/Z"},
		"neither a date such as":                                                     {"--changed-since", "yesterday"},
		"Nothing was imported from source into target yet":                           {"--changed-since", "last-import:target"},
		"needs to know the target":                                                   {"--changed-since", "last-import"},
		`no selection "month"`:                                                       {"--selection", "month"},
		`no record type "thong"; did you mean "thing"?`:                              {"--leave-out", "thong/*"},
		"2 parts are too many":                                                       {"--record", "thing/A/B"},
	} {
		p.refused(want, append([]string{"export", "source"}, given...)...)
	}
}

func TestSavedSelectionsAndLastImport(t *testing.T) {
	t.Parallel()
	p := shop(t)
	p.write("anagram.yaml", string(p.read("anagram.yaml"))+"# a remark that stays\n")
	p.must(0, "export", "source", "--name", "one", "--where", "thing: kind == 'x'", "--leave-out", "loose/*", "--related", "parts", "--save-selection", "month-end")
	text := string(p.read("anagram.yaml"))
	assert.Contains(t, text, "# a remark that stays\nselections:\n  month-end:\n    where:\n      thing: kind == 'x'\n")
	p.must(0, "export", "source", "--name", "two", "--selection", "month-end")
	assert.Equal(t, p.holds("one"), p.holds("two"))
	assert.Contains(t, p.must(0, "parcel", "show", "two").out, "thing where kind == 'x'; left out: loose/*; related: parts")
	p.must(0, "export", "source", "--name", "three", "--selection", "month-end", "--record", "unit/never", "--save-selection", "more")
	assert.Contains(t, p.holds("three"), "unit/never")
	assert.Contains(t, string(p.read("anagram.yaml")), "  month-end:\n")
	p.refused("has a selection \"more\" already", "export", "source", "--selection", "more", "--save-selection", "more", "--name", "four")

	p.must(3, "match", "source", "--against", "target", "--name", "all")
	p.must(0, "approve", "*")
	p.must(0, "import")
	p.sql("source", "UPDATE things SET price = 7, changed = '2099-01-01 00:00:00' WHERE code = 'D'")
	p.must(0, "parcel", "again", "all", "--name", "again")
	doc := p.json(3, "match", "source", "--against", "target", "--changed-since", "last-import", "--type", "thing", "--name", "since")
	assert.Equal(t, 1, totals(doc)["changed"])
	assert.Equal(t, []string{"thing/C", "thing/D"}, slices.DeleteFunc(p.holds("since"), func(s string) bool { return strings.Contains(s, "<") }), "D was changed, and C may have been")
}

func TestOnlyWhatIsInScopeIsCompared(t *testing.T) {
	t.Parallel()
	p := shop(t)
	p.must(3, "match", "source", "--against", "target", "--name", "all")
	p.must(0, "approve", "*")
	p.must(0, "import")
	p.sql("target", `INSERT INTO bits SELECT 90, id, 9, NULL FROM things WHERE code = 'A'; INSERT INTO bits SELECT 91, id, 1, NULL FROM things WHERE code = 'D'; INSERT INTO things (id, code, kind) VALUES (92, 'AX', 'x'), (93, 'B2', 'y'); INSERT INTO units VALUES (94, 'extra');`)
	targetOnly := func(args ...string) []string {
		p.must(matched, append([]string{"match", "source", "--against", "target"}, args...)...)
		var out []string
		for address, f := range p.review() {
			if f.Status == "target-only" {
				out = append(out, address)
			}
		}
		slices.Sort(out)
		return out
	}
	assert.Equal(t, []string{"bit/A/9"}, targetOnly("--record", "thing/A"), "a part of a record in the parcel is in scope, a part of another is not")
	assert.Empty(t, targetOnly("--record", "thing/A", "--related", "none"))
	assert.Equal(t, []string{"thing/AX"}, targetOnly("--record", "thing/A*", "--related", "none"), "a pattern covers what the target alone has")
	assert.Equal(t, []string{"thing/B2"}, targetOnly("--where", "thing: code.startsWith('B')", "--related", "none"), "so does a condition on the key")
	assert.Empty(t, targetOnly("--where", "thing: kind == 'x'", "--related", "none"), "another condition does not: the source may have the record with another value")
	assert.Equal(t, []string{"unit/extra"}, targetOnly("--type", "unit"))
	assert.Empty(t, targetOnly("--type", "unit", "--leave-out", "unit/e*"))
	assert.Equal(t, []string{"bit/A/9", "bit/D/1", "thing/AX", "thing/B2", "unit/extra"}, targetOnly())
	assert.Empty(t, targetOnly("--record", "bit/A/1"), "of an owner that came along with a part, the other parts are not compared")
	doc := p.json(matched, "match", "source", "--against", "target", "--record", "thing/C", "--related", "none")
	assert.Equal(t, map[string]int{"not_compared": 5}, totals(doc))
}

// A parcel of a few records reads a few of the target's, not all.
func TestASmallParcelAgainstALargeTable(t *testing.T) {
	inLongRun(t, "it measures")
	n := full(40_000, 100_000)
	p := manyPlace(t, n)
	p.must(0, "export", "source", "--name", "few", "--where", "item: code >= 'ITEM-000010' && code < 'ITEM-000020'")
	p.must(0, "export", "source", "--name", "all")
	few, all := math.Inf(1), math.Inf(1)
	share := float64(full(2, 3))                                     // what is the same for every match weighs more where there is less
	for try := 0; try < 3 && (try == 0 || few >= all/share); try++ { // other work on the machine only ever adds
		r := p.must(matched, "match", "few", "--against", "target")
		assert.Contains(t, r.out, fmt.Sprint(n-n/100-10), "the others are counted as not compared")
		few, all = min(few, r.seconds), min(all, p.must(matched, "match", "all", "--against", "target").seconds)
	}
	assert.Less(t, few, all/share)
}

// The same selection of the same records gives the same bytes from every engine.
func TestAPanelFromEveryEngine(t *testing.T) {
	t.Parallel()
	var first map[string]string
	for _, engine := range tries(t.Name(), allEngines...) {
		p, _ := fernhollow(t, map[string]string{"sandbox": engine, "production": "sqlite"})
		p.must(0, "export", "sandbox", "--name", "bmp", "--as-folder", "--record", "panel/BMP")
		files := map[string]string{}
		for _, dir := range []string{"records", "files"} {
			list, err := filepath.Glob(p.path("parcels/bmp/" + dir + "/*"))
			require.NoError(t, err)
			for _, file := range list {
				text, err := os.ReadFile(file)
				require.NoError(t, err)
				files[filepath.Base(file)] = string(text)
			}
		}
		assert.Contains(t, files, "panel_item.jsonl")
		assert.NotContains(t, files, "instrument.jsonl")
		if first == nil {
			first = files
		}
		assert.Equal(t, first, files, engine)
	}
}
