package test

import (
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"

	"anagram/internal/environment/conformance"
)

// items is the set of these tests; the ids of others stand in next.
func items(f *conformance.Foreign) map[string]conformance.ForeignSet {
	next := "Edm.Int32"
	if f.Text {
		next = "Edm.String"
	}
	return map[string]conformance.ForeignSet{"items": {Rows: []map[string]any{}, Fields: map[string]string{f.ID: next, "code": "Edm.String", "name": "Edm.String",
		"amount": "Edm.Decimal", "active": "Edm.Boolean", "level": "Edm.Int32", "next": next}}}
}

// rowsAt gives what a server holds, without its ids.
func rowsAt(t *testing.T, f *conformance.Foreign) []string {
	t.Helper()
	rows := f.All(t)["items"]
	codes := map[string]any{"<nil>": nil}
	for _, row := range rows {
		codes[fmt.Sprint(row[f.ID])] = row["code"]
	}
	var out []string
	for _, row := range rows {
		out = append(out, fmt.Sprint(row["code"], row["name"], row["amount"], row["active"], row["level"], codes[fmt.Sprint(row["next"])]))
	}
	slices.Sort(out)
	return out
}

// The whole job into servers that others wrote, and from one to the other.
func TestServersThatOthersWrote(t *testing.T) {
	t.Parallel()
	for name, cannot := range conformance.Foreigners {
		t.Run(name+", which "+cannot, func(t *testing.T) {
			t.Parallel()
			of := conformance.StartForeign(t, name, "foreign")
			of.Put(t, items(of))
			p := newPlace(t, fmt.Sprintf("types:\n  item: {at: items, key: [code], id: {target: %s, source: id}, refers: {next: item}}\n", of.ID),
				`CREATE TABLE items (id INTEGER PRIMARY KEY, code VARCHAR(9) UNIQUE, name VARCHAR(40), amount DECIMAL(9,2), active BOOLEAN, level INTEGER, next INTEGER REFERENCES items (id));
				INSERT INTO items VALUES (1,'A','it''s & a+b? 100% #1',12.5,1,3,NULL),(2,'B','Æther ''x''',0.25,0,-1,1),(3,'C/1','',NULL,NULL,NULL,2),(4,'D','d',1,1,0,5),(5,'E','e',2,1,0,4);
				WITH RECURSIVE n(i) AS (SELECT 10 UNION ALL SELECT i + 1 FROM n WHERE i < 80) INSERT INTO items SELECT i, 'N' || i, 'n ' || i, i / 4.0, 1, i, 1 FROM n`,
				"CREATE TABLE items (id INTEGER PRIMARY KEY)")
			p.write("catalog.yaml", fmt.Sprintf("types:\n  item: {at: items, key: [code], id: %s, refers: {next: item}}\n", of.ID))
			if of.ID != "id" {
				p.sql("source", "ALTER TABLE items RENAME COLUMN id TO "+of.ID)
			}
			p.write("anagram.yaml", fmt.Sprintf("environments:\n  source: {connect: \"sqlite:source.db\"}\n  target: {connect: \"odata+%s\", web: {requests_a_second: 10000}}\n", of.Address))
			assert.Contains(t, p.must(0, "env", "test").out, "OData service")
			p.must(3, "match", "source", "--against", "target", "--name", "p")
			p.must(0, "approve", "*")
			done := p.json(0, "import")
			assert.EqualValues(t, 76, done["written"].(map[string]any)["new"])
			p.must(0, "match", "source", "--against", "target")
			first := rowsAt(t, of)
			assert.Len(t, first, 76)

			p.sql("source", "UPDATE items SET name = 'other', level = NULL, next = 3 WHERE code IN ('A', 'N20'); UPDATE items SET amount = 99.75, active = 0 WHERE code = 'B'; INSERT INTO items VALUES (99,'Z','z',1,1,1,99)")
			p.must(3, "match", "source", "--against", "target")
			number := fmt.Sprint(docketsIn(p))
			p.must(0, "approve", number, "*")
			p.must(0, "import", number)
			p.must(0, "match", "source", "--against", "target")
			assert.Len(t, rowsAt(t, of), 77)

			p.must(3, "restore", number)
			number = fmt.Sprint(docketsIn(p))
			p.must(0, "approve", number, "*", "--take", "source")
			r := p.run("import", number)
			assert.Contains(t, []int{0, 5}, r.code, r.out+r.err)
			left := rowsAt(t, of)
			if r.code == 0 {
				assert.Equal(t, first, left)
			}
			p.must(0, "export", "target", "--name", "back")
		})
	}
}
