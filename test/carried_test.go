package test

import (
	"database/sql"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// mixed makes a workspace whose source and target are databases of two engines.
func mixed(t *testing.T, from, to, catalog, settings string) (p *place, source, target *sql.DB) {
	t.Helper()
	p = &place{t: t, dir: t.TempDir(), user: "mara"}
	a, source := server(t, p, from, "source")
	b, target := server(t, p, to, "target")
	for _, db := range []*sql.DB{source, target} {
		db.SetMaxOpenConns(1)
	}
	p.write("catalog.yaml", catalog)
	p.write("anagram.yaml", fmt.Sprintf("environments:\n  source: {connect: %q%s}\n  target: {connect: %q%s}\n", a, settings, b, settings))
	trustElsewhere(p)
	return p, source, target
}

// Times that have a zone on one side only are refused until it is known in which zone those
// of the other side are, and then they are the same moment on both sides.
func TestTimesThatHaveAZoneOnOneSide(t *testing.T) {
	t.Parallel()
	inGate(t, "pairs of engines")
	zoned := map[string]string{"sqlite": "TIMESTAMP WITH TIME ZONE", "postgres": "timestamptz", "mysql": "timestamp(6) NULL"}
	local := map[string]string{"sqlite": "DATETIME", "postgres": "timestamp", "mysql": "datetime(6)"}
	for _, c := range []struct {
		from, to      string
		source        map[string]string
		value, second string // of records A and B, as they are stored
		local         string // the environment of which a zone has to be known
		want          string // what A holds in the target
	}{
		{from: "postgres", to: "mysql", source: zoned, value: "2026-07-15 08:00:00.25+00", second: "2026-01-15 09:00:00+00", local: "target", want: "2026-07-15 10:00:00.250000"},
		{from: "postgres", to: "sqlite", source: zoned, value: "2026-07-15 08:00:00.25+00", second: "2026-01-15 09:00:00+00", local: "target", want: "2026-07-15 10:00:00.25"},
		{from: "sqlite", to: "postgres", source: zoned, value: "2026-07-15T08:00:00.25Z", second: "2026-01-15T09:00:00Z", local: "target", want: "2026-07-15 10:00:00.25"},
		{from: "mysql", to: "postgres", source: local, value: "2026-07-15 10:00:00.25", second: "2026-01-15 10:00:00", local: "source", want: "2026-07-15 08:00:00.25"},
		{from: "postgres", to: "mysql", source: local, value: "2026-07-15 10:00:00.25", second: "2026-01-15 10:00:00", local: "source", want: "2026-07-15 08:00:00.250000"},
		{from: "mysql", to: "sqlite", source: local, value: "2026-07-15 10:00:00.25", second: "2026-01-15 10:00:00", local: "source", want: "2026-07-15T08:00:00.25Z"},
	} {
		if !thorough && (c.from == "mysql") != (c.to == "sqlite") {
			continue
		}
		other, twin := local, "2026-01-15 10:00:00"
		if c.local == "source" {
			other, twin = zoned, "2026-01-15 09:00:00+00"
		}
		switch {
		case c.to == "mysql":
			twin = strings.TrimSuffix(twin, "+00")
		case c.to == "sqlite" && c.local == "source":
			twin = "2026-01-15T09:00:00Z"
		}
		t.Run(c.from+" to "+c.to+", "+c.local+" local", func(t *testing.T) {
			t.Parallel()
			p, source, target := mixed(t, c.from, c.to, "types:\n  item: {at: items, key: [code]}\n", "")
			for db, engine := range map[*sql.DB]string{source: c.from, target: c.to} {
				switch engine {
				case "mysql":
					run(t, db, "SET time_zone = '+00:00'")
				case "postgres":
					run(t, db, "SET time zone 'UTC'")
				}
			}
			run(t, source, "CREATE TABLE items (code varchar(9) PRIMARY KEY, due "+c.source[c.from]+")", fmt.Sprintf("INSERT INTO items VALUES ('A','%s'),('B','%s'),('N',NULL)", c.value, c.second))
			run(t, target, "CREATE TABLE items (code varchar(9) PRIMARY KEY, due "+other[c.to]+")", fmt.Sprintf("INSERT INTO items VALUES ('B','%s')", twin))
			r := p.must(2, "match", "source", "--against", "target", "--name", "p")
			assert.Contains(t, words(r.err), "Field due of item is an instant in "+map[string]string{"source": "target", "target": "source"}[c.local]+" and a time without a zone in "+c.local+". Say with zone: of "+c.local+" in anagram.yaml")
			// The mend.
			p.write("anagram.yaml", strings.Replace(string(p.read("anagram.yaml")), "  "+c.local+": {", "  "+c.local+": {zone: Europe/Vienna, ", 1))
			assert.Equal(t, map[string]int{"new": 2}, totals(p.json(3, "match", "p", "--against", "target")), "B is the same moment")
			p.must(0, "approve", "*")
			p.must(0, "import", "--into-files", "load", "--form", "sql")
			assert.NotContains(t, string(p.read("load/load.sql")), c.value, "what a load file writes is in the zone as well")
			p.must(0, "import")
			got := lines(t, target, "SELECT CAST(due AS char(40)) FROM items WHERE code = 'A'")
			assert.Equal(t, c.want, strings.TrimSuffix(strings.TrimSpace(strings.Join(got, "")), "+00"))
			assert.Empty(t, totals(p.json(0, "match", "p", "--against", "target")))
			// And back: what was agreed is known in this direction, too.
			run(t, target, fmt.Sprintf("UPDATE items SET due = '%s' WHERE code = 'B'", strings.Replace(twin, "2026-01-15", "2026-02-15", 1)))
			r = p.must(3, "match", "target", "--against", "source", "--name", "back")
			back := p.review()["item/B"]
			assert.Equal(t, "changed", back.Status)
			assert.Equal(t, "source", back.Fields[0].Moved)
			p.must(0, "approve", "*")
			p.must(0, "import", "--to", "source")
			assert.Empty(t, totals(p.json(0, "match", "target", "--against", "source", "--name", "back2")))
			// A zone that changed since the match changes what would be written.
			run(t, source, "DELETE FROM items WHERE code = 'N'")
			run(t, target, "DELETE FROM items WHERE code = 'N'")
			p.must(3, "match", "p", "--against", "target")
			p.must(0, "approve", "*")
			p.write("anagram.yaml", strings.Replace(string(p.read("anagram.yaml")), "Europe/Vienna", "Asia/Tokyo", 1))
			assert.Contains(t, words(p.must(4, "import").err), "anagram.yaml says another zone for "+c.local)
		})
	}
}

// An hour that a change of clocks repeats tells no moment.
func TestAnHourThatOccursTwice(t *testing.T) {
	t.Parallel()
	p, source, target := mixed(t, "postgres", "mysql", "types:\n  item: {at: items, key: [code]}\n", ", zone: Europe/Vienna")
	run(t, source, "CREATE TABLE items (code varchar(9) PRIMARY KEY, due timestamptz)", "INSERT INTO items VALUES ('A','2026-10-25 00:30:00+00')")
	run(t, target, "CREATE TABLE items (code varchar(9) PRIMARY KEY, due datetime)")
	p.must(3, "match", "source", "--against", "target", "--name", "p")
	p.must(0, "approve", "*")
	assert.Contains(t, words(p.must(1, "import").out), "item/A in target, field due: 2026-10-25T02:30:00 occurs twice in the zone Europe/Vienna")
	assert.Empty(t, lines(t, target, "SELECT code FROM items"))
}

// What an application means by as: timestamp is an instant only in a zone that is known.
func TestAsTimestampNeedsAZone(t *testing.T) {
	t.Parallel()
	for engine, column := range map[string]string{"postgres": "timestamp", "mysql": "datetime"} {
		p, source, _ := mixed(t, engine, engine, "types:\n  item: {at: items, key: [code], as: {due: timestamp}}\n", "")
		run(t, source, "CREATE TABLE items (code varchar(9) PRIMARY KEY, due "+column+")", "INSERT INTO items VALUES ('A','2026-07-15 10:00:00')")
		assert.Contains(t, words(p.must(1, "export", "source", "--name", "p").err), "item/A in source, field due: source keeps it without a zone")
		p.write("anagram.yaml", strings.ReplaceAll(string(p.read("anagram.yaml")), "{connect", "{zone: Europe/Vienna, connect"))
		p.must(0, "export", "source", "--name", "p", "--as-folder")
		assert.Contains(t, string(p.read("parcels/p/records/item.jsonl")), `"due":"2026-07-15T08:00:00Z"`)
	}
	p, _, _ := mixed(t, "sqlite", "sqlite", "types: {}\n", ", zone: Local")
	assert.Contains(t, words(p.must(2, "status").err), `zone: "Local" is not known`)
}

// Arrays are lists of their elements' kind, in whatever holds them.
func TestArraysTravelAsLists(t *testing.T) {
	t.Parallel()
	inGate(t, "pairs of engines")
	for _, to := range everyEngine {
		t.Run(to, func(t *testing.T) {
			t.Parallel()
			p, source, target := mixed(t, "postgres", to, "types:\n  item: {at: items, key: [code]}\n", "")
			run(t, source, "CREATE DOMAIN labels AS text[]", "CREATE TABLE items (code varchar(9) PRIMARY KEY, tags text[], sizes integer[], prices numeric(9,2)[], on_days boolean[], grid labels)",
				`INSERT INTO items VALUES ('A', ARRAY['a "b"','c,d','NULL',NULL,''], '{1,2}', '{1.50,2}', '{t,f}', '{{a,b},{c,d}}'), ('B', '{}', '{}', NULL, NULL, NULL)`)
			column := map[string]string{"sqlite": "JSON", "mysql": "JSON"}[to]
			if to == "postgres" {
				run(t, target, "CREATE TABLE items (code varchar(9) PRIMARY KEY, tags text[], sizes bigint[], prices numeric[], on_days boolean[], grid text[])")
			} else {
				run(t, target, strings.ReplaceAll("CREATE TABLE items (code varchar(9) PRIMARY KEY, tags J, sizes J, prices J, on_days J, grid J)", "J", column))
			}
			run(t, target, "INSERT INTO items (code) VALUES ('B')")
			p.must(0, "export", "source", "--name", "p", "--as-folder")
			assert.Contains(t, string(p.read("parcels/p/records/item.jsonl")), `{"grid":{"json":[["a","b"],["c","d"]]},"on_days":{"json":[true,false]},"prices":{"json":[1.5,2]},"sizes":{"json":[1,2]},"tags":{"json":["a \"b\"","c,d","NULL",null,""]}}`)
			p.must(3, "match", "p", "--against", "target")
			p.must(0, "approve", "*")
			p.must(0, "import")
			assert.Empty(t, totals(p.json(0, "match", "p", "--against", "target")))
			if to != "postgres" {
				// And back: the list becomes an array again.
				run(t, target, `UPDATE items SET tags = '["x y","z"]', sizes = '[]' WHERE code = 'A'`)
				p.must(3, "match", "target", "--against", "source", "--name", "back")
				p.must(0, "approve", "*", "--again")
				p.must(0, "import", "--to", "source")
				assert.Equal(t, []string{`A|{"x y",z}|{}`, "B|{}|{}"}, lines(t, source, "SELECT code, tags, sizes FROM items ORDER BY 1"))
				run(t, target, `UPDATE items SET sizes = '{"no":"list"}' WHERE code = 'A'`)
				p.must(3, "match", "target", "--against", "source", "--name", "odd")
				assert.Contains(t, words(p.must(0, "review").out), "field sizes is no list, and the column holds one in source")
			}
		})
	}
	p, source, _ := mixed(t, "postgres", "sqlite", "types:\n  item: {at: items, key: [code]}\n", "")
	run(t, source, "CREATE TABLE items (code varchar(9) PRIMARY KEY, tags text[])", "INSERT INTO items VALUES ('A', '[2:3]={a,b}')")
	assert.Contains(t, words(p.must(0, "export", "source", "--name", "odd").out), "item/A, field tags: its first element has another number than 1 ([2:3]={a,b})")
	p.write("catalog.yaml", "types:\n  item: {at: items, key: [code], as: {tags: text}}\n") // the mend
	p.must(0, "export", "source", "--name", "p", "--as-folder")
	assert.Contains(t, string(p.read("parcels/p/records/item.jsonl")), `"tags":"[2:3]={a,b}"`)
}

// Bytes can be a key: they are told in hexadecimal.
func TestBytesAsAKey(t *testing.T) {
	t.Parallel()
	inGate(t, "pairs of engines")
	column := map[string]string{"sqlite": "BLOB", "postgres": "bytea", "mysql": "varbinary(16)"}
	literal := map[string]string{"sqlite": "x'%s'", "postgres": `'\x%s'`, "mysql": "x'%s'"}
	for from, to := range map[string]string{"sqlite": "postgres", "postgres": "mysql", "mysql": "sqlite"} {
		t.Run(from+" to "+to, func(t *testing.T) {
			t.Parallel()
			p, source, target := mixed(t, from, to, "types:\n  item: {at: items, key: [code]}\n  part: {at: parts, key: [item_code, no], refers: {item_code: {to: item, by: key}}, part_of: item}\n", "")
			for db, engine := range map[*sql.DB]string{source: from, target: to} {
				run(t, db, "CREATE TABLE items (code "+column[engine]+" PRIMARY KEY, name varchar(20))", "CREATE TABLE parts (item_code "+column[engine]+", no integer, name varchar(20))")
			}
			b := func(engine, hex string) string { return fmt.Sprintf(literal[engine], hex) }
			run(t, source, "INSERT INTO items VALUES ("+b(from, "00ff27")+",'new'),("+b(from, "61")+",'a')", "INSERT INTO parts VALUES ("+b(from, "00ff27")+",1,'new')")
			run(t, target, "INSERT INTO items VALUES ("+b(to, "00ff27")+",'old')")
			p.must(3, "match", "source", "--against", "target", "--name", "p")
			f := p.review()
			assert.Equal(t, []string{"changed", "new", "new"}, []string{f["item/00ff27"].Status, f["item/61"].Status, f["part/00ff27/1"].Status})
			p.must(0, "approve", "item/00ff27", "part/00ff27/1")
			p.must(0, "import")
			assert.Equal(t, []string{"new"}, lines(t, target, "SELECT name FROM items WHERE code = "+b(to, "00ff27")))
			assert.Equal(t, []string{"new"}, lines(t, target, "SELECT name FROM parts WHERE item_code = "+b(to, "00ff27")))
			p.must(0, "approve", "*")
			p.must(0, "import")
			assert.Empty(t, totals(p.json(0, "match", "p", "--against", "target")))
		})
	}
}

// The members of a set mean the same in whatever order two databases declare them.
func TestSetsInAnotherOrder(t *testing.T) {
	t.Parallel()
	p, source, target := mixed(t, "mysql", "mysql", "types:\n  item: {at: items, key: [code, days]}\n", "")
	run(t, source, "CREATE TABLE items (code varchar(9), days set('mon','tue','sun'), more set('a','b','c'))", "INSERT INTO items VALUES ('A','mon,tue','a,b'),('B','sun,mon','c')")
	run(t, target, "CREATE TABLE items (code varchar(9), days set('tue','sun','mon'), more set('b','a'))", "INSERT INTO items VALUES ('A','tue,mon','b')")
	p.must(3, "match", "source", "--against", "target", "--name", "p")
	f := p.review()
	require.Len(t, f, 2)
	assert.Equal(t, "changed", f["item/A/mon,tue"].Status)
	assert.Contains(t, words(p.must(0, "review").out), `field more holds "c", which is not among the allowed values (b, a)`)
	p.must(0, "approve", "item/A/*")
	p.must(0, "import")
	assert.Equal(t, []string{"A|tue,mon|b,a"}, lines(t, target, "SELECT code, days, more FROM items"))
}

// A key that the target calls the same as another record's, as in case or accents, is found
// when matching, not when importing.
func TestKeysThatTheTargetCallsTheSame(t *testing.T) {
	t.Parallel()
	inGate(t, "pairs of engines")
	column := map[string]string{"sqlite": "TEXT COLLATE NOCASE", "mysql": "varchar(20)", "postgres": "text COLLATE nocase"}
	for engine := range column {
		for name, unique := range map[string]string{"primary key": "PRIMARY KEY (code)", "unique index": "UNIQUE (code)", "of two": "UNIQUE (code, name)"} {
			t.Run(engine+" "+name, func(t *testing.T) {
				t.Parallel()
				key := "code"
				if name == "of two" {
					key = "code, name"
				}
				p, source, target := mixed(t, "sqlite", engine, "types:\n  item: {at: items, key: ["+key+"]}\n", "")
				run(t, source, "CREATE TABLE items (code TEXT, name TEXT, note TEXT)", "INSERT INTO items VALUES ('Apfel','n','new'),('Birne','n','new')")
				if engine == "postgres" {
					run(t, target, "CREATE COLLATION nocase (provider = icu, locale = 'und-u-ks-level2', deterministic = false)")
				}
				run(t, target, "CREATE TABLE items (code "+column[engine]+" NOT NULL, name varchar(20), note varchar(20), "+unique+")", "INSERT INTO items VALUES ('APFEL','n','old')")
				p.must(3, "match", "source", "--against", "target", "--name", "p")
				f := p.review()
				address := map[bool]string{true: "item/Apfel/n", false: "item/Apfel"}[name == "of two"]
				assert.Equal(t, "conflict", f[address].Status)
				assert.Equal(t, []string{"taken"}, f[address].Reasons)
				p.must(0, "approve", "*")
				p.must(0, "import")
				assert.Equal(t, []string{"APFEL|old", "Birne|new"}, lines(t, target, "SELECT code, note FROM items ORDER BY code"))
			})
		}
	}
}

// What was agreed on a field that is of another kind by now is not known, and nothing fails.
func TestWhatWasAgreedInAnotherKind(t *testing.T) {
	t.Parallel()
	const tables = "CREATE TABLE units (code TEXT PRIMARY KEY, name TEXT); CREATE TABLE items (code TEXT PRIMARY KEY, unit TEXT, amount TEXT); INSERT INTO units VALUES ('g','g'),('kg','kg');"
	const plain = "types:\n  unit: {at: units, key: [code]}\n  item: {at: items, key: [code]}\n"
	p := newPlace(t, plain, tables+"INSERT INTO items VALUES ('A','g','1.50'),('B','g','few');", tables+"INSERT INTO items VALUES ('A','g','1.50'),('B','g','few');")
	p.must(0, "match", "source", "--against", "target", "--name", "p")
	p.write("catalog.yaml", "types:\n  unit: {at: units, key: [code]}\n  item: {at: items, key: [code], refers: {unit: {to: unit, by: key}}, as: {amount: decimal}}\n")
	p.sql("source", "UPDATE items SET unit = 'kg', amount = '2.5'")
	p.sql("target", "UPDATE items SET amount = '1.7'")
	p.must(3, "match", "source", "--against", "target", "--name", "q")
	f := p.review()
	assert.Equal(t, "conflict", f["item/A"].Status, "amount was 1.5 as a text and is as a number")
	assert.Equal(t, "changed", f["item/B"].Status)
	moved := map[string]string{}
	for _, field := range append(f["item/A"].Fields, f["item/B"].Fields...) {
		moved[field.Field] += field.Moved + ";"
	}
	assert.Equal(t, map[string]string{"amount": "both;;", "unit": ";;"}, moved)
}
