package test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const (
	plainCatalog = "types:\n  unit: {at: units, key: [code], id: unit_id}\n  assay: {at: assays, key: [code], id: assay_id, refers: {unit_id: unit}}\n"
	plainTables  = "CREATE TABLE units (unit_id INTEGER PRIMARY KEY, code TEXT NOT NULL, name TEXT); CREATE TABLE assays (assay_id INTEGER PRIMARY KEY, code TEXT NOT NULL, unit_id INTEGER REFERENCES units (unit_id), low DECIMAL(8,2), day DATE);"
	plainSource  = plainTables + "INSERT INTO units VALUES (1,'mg','milligram'),(2,'g','gram'); INSERT INTO assays VALUES (1,'GLU',1,1.5,'2026-01-01'),(2,'NA',2,NULL,NULL);"
	plainTarget  = plainTables + "INSERT INTO units VALUES (5,'g','gramme'); INSERT INTO assays VALUES (9,'NA',5,2,NULL);"
)

func plainPlace(t *testing.T) *place {
	p := newPlace(t, plainCatalog, plainSource, plainTarget)
	require.NoError(t, os.MkdirAll(p.path(".anagram/scratch"), 0o755))
	return p
}

func TestBadCatalogs(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ old, new, why string }{
		{"refers:", "refer:", `line 3: the key "refer" is not known here; did you mean "refers"?`},
		{"{unit_id: unit}", "{unit_id: unitt}", `line 3: the record type "unitt" is not known; did you mean "unit"?`},
		{"at: assays", "at: asays", `source has nothing called "asays"; did you mean "assays"?`},
		{"key: [code], id: assay_id", "key: [kode], id: assay_id", `key field "kode" is not in assays of source; did you mean "code"?`},
		{"id: assay_id", "id: asay_id", `internal id "asay_id" is not in assays of source; did you mean "assay_id"?`},
		{"{unit_id: unit}", "{unit: unit}", `reference "unit" is not in assays`},
		{"key: [code], id: assay_id", "id: assay_id", "record type assay has no key"},
		{", refers: {unit_id: unit}", "", "points at units by internal id"},
		{"types:", "type:", `the key "type" is not known here; did you mean "types"?`},
		{"}\n", "\n", "catalog.yaml line"},
	} {
		p := plainPlace(t)
		p.write("catalog.yaml", strings.Replace(plainCatalog, c.old, c.new, 1))
		p.refused(c.why, "export", "source")
		p.refused(c.why, "match", "source", "--against", "target")
	}
	p := plainPlace(t)
	p.write("catalog.yaml", strings.Replace(plainCatalog, "key: [code], id: assay_id", "key: [kode], id: assay_id", 1))
	assert.Contains(t, words(p.must(2, "catalog", "check").out), "did you mean \"code\"?")
}

func TestBadWorkspaces(t *testing.T) {
	t.Parallel()
	p := plainPlace(t)
	good := string(p.read("anagram.yaml"))
	for _, c := range []struct{ text, why string }{
		{strings.Replace(good, "connect", "conect", 1), `anagram.yaml line 2: the key "conect" is not known here; did you mean "connect"?`},
		{strings.Replace(good, "sqlite:source", "sqlit:source", 1), `the way to connect "sqlit:" is not known; did you mean "sqlite:"?`},
		{strings.Replace(good, "sqlite:source.db", "sqlite:", 1), "nothing follows sqlite:"},
		{"catalog: none.yaml\n" + good, "no catalog none.yaml"},
		{"environments: [a", "anagram.yaml line"},
	} {
		p.write("anagram.yaml", c.text)
		p.refused(c.why, "export", "source")
	}
	p.write("anagram.yaml", good)
	p.refused(`no environment "sorce"; did you mean "source"?`, "export", "sorce")
	p.refused("There is no anagram.yaml", "export", "source", "--workspace", "/")
	p.refused("unknown flag: --are", "export", "source", "--are", "x")
	p.refused("unknown command", "exprot")
	p.refused("usage: anagram export ENV", "export")
	p.refused(`no area "x"`, "export", "source", "--area", "x")
	p.refused(`no record type "assai"; did you mean "assay"?`, "export", "source", "--type", "assai")
	p.refused("source has no record assay/XYZ", "export", "source", "--record", "assay/XYZ")
	p.refused("cannot be a parcel's name", "export", "source", "--name", "../up")
	p.refused("There is no parcel", "match", "nothing", "--against", "target", "--json")
	p.refused("no docket yet", "review")
	p.refused("no docket 3", "import", "3")
	p.refused("already exists", "init")
}

func TestBadDatabases(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name, why string
		break_    func(p *place)
	}{
		{"missing", "there is no file", func(p *place) { require.NoError(t, os.Remove(p.path("source.db"))) }},
		{"a folder", "is a folder", func(p *place) {
			require.NoError(t, os.Remove(p.path("source.db")))
			require.NoError(t, os.Mkdir(p.path("source.db"), 0o755))
		}},
		{"not a database", "is not an SQLite database", func(p *place) { p.write("source.db", strings.Repeat("no database at all ", 500)) }},
		{"empty", `nothing called`, func(p *place) { p.write("source.db", "") }},
	} {
		p := plainPlace(t)
		c.break_(p)
		before := p.files()
		r := p.run("export", "source", "--name", "p")
		assert.Contains(t, []int{1, 2}, r.code, c.name)
		assert.Contains(t, words(r.err), c.why, c.name)
		delete(before, "parcels")
		assert.Equal(t, before, p.files(), c.name)
	}
	// A value that cannot be read is named, and stops nothing.
	for why, change := range map[string]string{
		`assay/GLU, field day: "soon" is not a date`:                      "UPDATE assays SET day = 'soon' WHERE code = 'GLU'",
		"assay/GLU, field low":                                            "UPDATE assays SET low = 'much' WHERE code = 'GLU'",
		"unit/g, field name: the text is not UTF-8":                       "UPDATE units SET name = cast(x'ff41' AS TEXT) WHERE code = 'g'",
		"assay/GLU, field unit_id: it refers to unit with internal id 77": "PRAGMA foreign_keys = 0; UPDATE assays SET unit_id = 77 WHERE code = 'GLU'",
	} {
		p := plainPlace(t)
		p.sql("source", change)
		assert.Contains(t, words(p.must(0, "export", "source").out), why)
	}
}

func TestALockedDatabase(t *testing.T) {
	t.Parallel()
	p := plainPlace(t)
	p.hurry = 10
	p.must(0, "export", "source", "--name", "p")
	p.must(3, "match", "p", "--against", "target")
	p.must(0, "approve", "*")
	unlock := p.lock("target")
	r := p.must(1, "import")
	assert.Contains(t, words(r.err), "is locked by another program")
	r = p.must(1, "match", "p", "--against", "target")
	assert.Contains(t, words(r.err), "is locked by another program")
	unlock()
	p.must(0, "import")
}

func TestATreeThatGoesRoundIsNamed(t *testing.T) {
	t.Parallel()
	table := "CREATE TABLE nodes (id INTEGER PRIMARY KEY, parent INTEGER, code TEXT);"
	p := newPlace(t, "types:\n  node: {at: nodes, key: [parent, code], id: id, refers: {parent: node}}\n", table+"INSERT INTO nodes VALUES (1,NULL,'a'),(2,4,'b'),(3,2,'c'),(4,3,'d');", table)
	require.NoError(t, os.MkdirAll(p.path(".anagram/scratch"), 0o755))
	p.refused("refer to each other in a loop (internal ids", "export", "source")
}

func TestOneFlippedByteIsRefusedEverywhere(t *testing.T) {
	t.Parallel()
	p := plainPlace(t)
	p.must(0, "export", "source", "--name", "p")
	p.must(3, "match", "p", "--against", "target")
	p.must(0, "approve", "*")
	file := "parcels/p.parcel"
	whole := p.read(file)
	target := p.read("target.db")
	for at := 0; at < len(whole); at += len(whole)/full(8, 25) + 1 {
		flipped := append([]byte{}, whole...)
		flipped[at] ^= 4
		require.NoError(t, os.WriteFile(p.path(file), flipped, 0o600))
		assert.Contains(t, p.must(1, "parcel", "verify", "p").err, "p.parcel")
		assert.Contains(t, p.must(1, "match", "p", "--against", "target").err, "p.parcel")
		r := p.must(4, "import")
		assert.Contains(t, r.err, "broken-seal")
		assert.Contains(t, r.err, "p.parcel")
		assert.Equal(t, target, p.read("target.db"))
	}
	require.NoError(t, os.WriteFile(p.path(file), whole, 0o600))
	p.must(0, "import")
}

func TestTheSameExportGivesTheSameBytes(t *testing.T) {
	t.Parallel()
	p := plainPlace(t)
	p.must(0, "export", "source", "--name", "one", "--as-folder")
	p.must(0, "export", "source", "--name", "two", "--as-folder")
	files, err := filepath.Glob(p.path("parcels/one/records/*"))
	require.NoError(t, err)
	require.Len(t, files, 2)
	for _, file := range files {
		assert.Equal(t, p.read("parcels/one/records/"+filepath.Base(file)), p.read("parcels/two/records/"+filepath.Base(file)))
	}
	assert.Equal(t, `{"key":["GLU"],"values":{"day":"2026-01-01","low":"1.5","unit_id":["mg"]},"why":"chosen"}`+"\n"+
		`{"key":["NA"],"values":{"day":null,"low":null,"unit_id":["g"]},"why":"chosen"}`+"\n", string(p.read("parcels/one/records/assay.jsonl")))
	p.must(0, "parcel", "verify", "one")
	p.must(3, "match", "one", "--against", "target")
}

func TestBrokenParcelFolders(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ name, file, old, new, why string }{
		{"not JSON", "records/assay.jsonl", `{"key":["GLU"]`, `{"key" ["GLU"]`, "records/assay.jsonl"},
		{"a duplicate key", "records/assay.jsonl", `"why":"chosen"}` + "\n" + `{"key":["NA"]`, `"why":"chosen"}` + "\n" + `{"key":["GLU"]`, "records/assay.jsonl"},
		{"an unknown version", "parcel.json", `"version": 1`, `"version": 9`, "version 9"},
		{"a changed count", "parcel.json", `"records": 2`, `"records": 3`, "parcel.json"},
		{"a changed catalog", "catalog.yaml", "types:", "types: ", "catalog.yaml"},
	} {
		p := plainPlace(t)
		p.must(0, "export", "source", "--name", "p", "--as-folder")
		text := string(p.read("parcels/p/" + c.file))
		require.Contains(t, text, c.old, c.name)
		p.write("parcels/p/"+c.file, strings.Replace(text, c.old, c.new, 1))
		p.refused(c.why, "parcel", "verify", "p")
		p.refused(c.why, "match", "p", "--against", "target")
	}
}
