package test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What cannot be done with an id, a counter or a value is said, with the record it is about.
func TestWhatCannotBeDoneIsSaid(t *testing.T) {
	t.Parallel()
	const items = "CREATE TABLE items (id INTEGER PRIMARY KEY, code VARCHAR(20), name LONGTEXT)"
	for name, c := range map[string]struct {
		engines []string
		catalog string
		tables  []string
		target  []string
		says    string // "" where it is imported
		want    []string
	}{
		"a counter whose row is null": {catalog: "made_by: counter, counter: {at: counters, last: last, where: {what: items}}",
			tables: []string{items, "CREATE TABLE counters (what VARCHAR(20), last INTEGER)"}, target: []string{"INSERT INTO counters VALUES ('items', NULL)"}, want: []string{"1|A"}},
		"a counter that is no number": {catalog: "made_by: counter, counter: {at: counters, last: last, where: {what: items}}",
			tables: []string{items, "CREATE TABLE counters (what VARCHAR(20), last VARCHAR(20))"}, target: []string{"INSERT INTO counters VALUES ('items', 'many')"},
			says: `the counter counters.last holds "many", which is no number. Correct it there`},
		"the largest of texts": {catalog: "made_by: largest", tables: []string{strings.Replace(items, "INTEGER", "VARCHAR(20)", 1)},
			target: []string{"INSERT INTO items VALUES ('9','x','x'),('10','y','y'),('odd','z','z')"}, want: []string{"10|y", "11|A", "9|x", "odd|z"}},
		"the largest at the end of its column": {engines: []string{"postgres", "mysql"}, catalog: "made_by: largest", tables: []string{items},
			target: []string{"INSERT INTO items VALUES (2147483647,'x','x')"}, says: "item/A in target, field id: the largest id in items is 2147483647, and no larger one fits into the column."},
	} {
		if c.engines == nil {
			c.engines = everyEngine
		}
		for _, engine := range tries(t.Name()+name, c.engines...) {
			t.Run(name+" on "+engine, func(t *testing.T) {
				t.Parallel()
				tables := append([]string{}, c.tables...)
				if engine != "mysql" {
					tables[0] = strings.Replace(tables[0], "LONGTEXT", "TEXT", 1)
				}
				p, source, target := pair(t, engine, "types:\n  item: {at: items, key: [code], id: {field: id, "+c.catalog+"}}\n", tables...)
				run(t, source, "INSERT INTO items VALUES (1,'A','a')")
				run(t, target, c.target...)
				p.must(3, "match", "source", "--against", "target", "--name", "p")
				p.must(0, "approve", "item/A")
				if c.says != "" {
					r := p.must(1, "import")
					assert.Contains(t, words(r.out+r.err), c.says)
					return
				}
				p.must(0, "import")
				assert.Equal(t, c.want, lines(t, target, "SELECT id, code FROM items ORDER BY 1"))
			})
		}
	}
}

// A value that the server would not take in one statement is refused by name, and the
// connection stays.
func TestAValueLongerThanAPacket(t *testing.T) {
	inGate(t, "large values")
	p, _, target := pair(t, "mysql", "types:\n  item: {at: items, key: [code], id: id}\n", "CREATE TABLE items (id INTEGER PRIMARY KEY AUTO_INCREMENT, code VARCHAR(20), name LONGTEXT)")
	p.sql("other", "CREATE TABLE items (id INTEGER PRIMARY KEY, code TEXT, name TEXT)")
	var packet int
	require.NoError(t, target.QueryRow("SELECT @@max_allowed_packet").Scan(&packet))
	if packet > 32<<20 {
		t.Skip("this server takes very long statements")
	}
	p.sql("other", fmt.Sprintf("INSERT INTO items VALUES (1,'A',replace(hex(zeroblob(%d)), '0', '''')),(2,'B','short')", packet/4))
	p.write("anagram.yaml", strings.Replace(string(p.read("anagram.yaml")), "environments:\n", "environments:\n  other: {connect: \"sqlite:other.db\"}\n", 1))
	p.must(3, "match", "other", "--against", "target", "--name", "p")
	p.must(0, "approve", "*")
	assert.Contains(t, words(p.must(1, "import").out), "item/A in target: its values need")
	p.must(0, "decline", "item/A") // the mend
	p.must(0, "import")
	assert.Equal(t, []string{"B"}, lines(t, target, "SELECT code FROM items"))
}

// A reference of several columns that is partly null is not taken for null where something
// would be lost, and columns that it shares with others are kept.
func TestAReferenceThatIsPartlyNull(t *testing.T) {
	t.Parallel()
	const catalog = `types:
  place: {at: places, key: [tenant, code]}
  visit: {at: visits, key: [code], id: id, refers: {from_place: {to: place, columns: {tenant: tenant, from_code: code}}, to_place: {to: place, columns: {tenant: tenant, to_code: code}}}}
`
	tables := []string{"CREATE TABLE places (tenant INTEGER, code VARCHAR(9), PRIMARY KEY (tenant, code))", "CREATE TABLE visits (id INTEGER PRIMARY KEY, code VARCHAR(9), tenant INTEGER, from_code VARCHAR(9), to_code VARCHAR(9))"}
	for _, engine := range tries(t.Name(), everyEngine...) {
		t.Run(engine, func(t *testing.T) {
			t.Parallel()
			p, source, target := pair(t, engine, strings.Replace(catalog, "id: id", "id: {field: id, made_by: largest}", 1), tables...)
			run(t, source, "INSERT INTO places VALUES (1,'P'),(1,'Q')", "INSERT INTO visits VALUES (1,'V',1,'P',NULL),(2,'W',1,NULL,'Q'),(3,'X',NULL,NULL,NULL)")
			p.must(3, "match", "source", "--against", "target", "--name", "p")
			p.must(0, "approve", "*")
			p.must(0, "import")
			assert.Equal(t, lines(t, source, "SELECT code, tenant, from_code, to_code FROM visits ORDER BY 1"), lines(t, target, "SELECT code, tenant, from_code, to_code FROM visits ORDER BY 1"))
			p.must(0, "match", "p", "--against", "target")
			p.write("catalog.yaml", strings.Replace(string(p.read("catalog.yaml")), ", to_place: {to: place, columns: {tenant: tenant, to_code: code}}", "", 1))
			p.refused("it is partly null, and what column tenant holds (1) would be lost. Correct it there, or leave the field out with ignore: in the catalog", "export", "source", "--type", "visit")
		})
	}
}

// A key that the database cannot be asked for is refused when the catalog is seen.
func TestAKeyThatCannotBeAskedFor(t *testing.T) {
	t.Parallel()
	p, source, _ := pair(t, "postgres", "types:\n  item: {at: items, key: [doc], id: id}\n", "CREATE TABLE items (id SERIAL PRIMARY KEY, doc JSON, name TEXT)")
	run(t, source, `INSERT INTO items (doc) VALUES ('{"a":1}')`)
	p.refused(`key field "doc" is of type json in items, which source cannot be asked for; name another field`, "export", "source")
	p, source, _ = pair(t, "postgres", "types:\n  item: {at: items, key: [doc], id: id}\n", "CREATE TABLE items (id SERIAL PRIMARY KEY, doc JSONB, name TEXT)")
	run(t, source, `INSERT INTO items (doc) VALUES ('{"a":1}')`)
	p.must(3, "match", "source", "--against", "target", "--name", "p")
	p.must(0, "approve", "*")
	p.must(0, "import")
}

// A table may have a dot in its name.
func TestATableWithADotInItsName(t *testing.T) {
	t.Parallel()
	for _, engine := range tries(t.Name(), everyEngine...) {
		t.Run(engine, func(t *testing.T) {
			t.Parallel()
			name, at := map[string]string{"sqlite": `"odd.items"`, "postgres": `"odd.items"`, "mysql": "`odd.items`"}[engine], map[string]string{"sqlite": "odd.items", "postgres": `'"odd.items"'`, "mysql": "odd.items"}[engine]
			p, source, target := pair(t, engine, "types:\n  item: {at: "+at+", key: [code], id: {field: id, made_by: largest}}\n", "CREATE TABLE "+name+" (id INTEGER PRIMARY KEY, code VARCHAR(9))")
			run(t, source, "INSERT INTO "+name+" VALUES (1,'A')")
			p.must(3, "match", "source", "--against", "target", "--name", "p")
			p.must(0, "approve", "*")
			p.must(0, "import")
			assert.Equal(t, []string{"A"}, lines(t, target, "SELECT code FROM "+name))
		})
	}
}

// Numbers that two engines write otherwise are the same number.
func TestNumbersOfTwoEngines(t *testing.T) {
	t.Parallel()
	p := &place{t: t, dir: t.TempDir(), user: "mara"}
	from, source := server(t, p, "postgres", "source")
	to, target := server(t, p, "mysql", "target")
	p.write("catalog.yaml", "types:\n  item: {at: items, key: [code], id: id}\n")
	p.write("anagram.yaml", fmt.Sprintf("environments:\n  source: {connect: %q}\n  target: {connect: %q}\n", from, to))
	run(t, source, "CREATE TABLE items (id SERIAL PRIMARY KEY, code VARCHAR(9), f REAL, bits NUMERIC(20))", "INSERT INTO items (code, f, bits) VALUES ('A', 1.1, 18446744073709551615), ('B', 0.1, 5), ('C', 3.4e38, 0)")
	run(t, target, "CREATE TABLE items (id INTEGER PRIMARY KEY AUTO_INCREMENT, code VARCHAR(9), f FLOAT, bits BIT(64))")
	p.write("catalog.yaml", "types:\n  item: {at: items, key: [code], id: id, as: {bits: integer}}\n")
	p.must(3, "match", "source", "--against", "target", "--name", "p")
	p.must(0, "approve", "*")
	p.must(0, "import")
	p.must(0, "match", "p", "--against", "target")
	assert.Equal(t, []string{"18446744073709551615", "5", "0"}, lines(t, target, "SELECT bits + 0 FROM items ORDER BY code"))
}
