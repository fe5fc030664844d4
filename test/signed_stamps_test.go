package test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// A column of numbers takes no name: without an account nothing is written.
func TestANumberTakesNoName(t *testing.T) {
	t.Parallel()
	const table = "CREATE TABLE items (code TEXT PRIMARY KEY, name TEXT, changed_at DATETIME, changed_by INTEGER);"
	p := newPlace(t, "types:\n  item: {at: items, key: [code], stamp: {at: changed_at, by: changed_by}}\n", table+"INSERT INTO items VALUES ('A','new','2020-01-01 00:00:00',1);", table+"INSERT INTO items VALUES ('A','old','2019-01-01 00:00:00',5);")
	assert.Contains(t, words(p.must(0, "catalog", "check", "target").out), "an import by mara could not write into changed_by who changed a record, and would not write it; name the account that stands for imports, account: {target: …}, or say write: never")
	assert.Contains(t, words(p.must(3, "match", "source", "--against", "target").out), "changed_by takes no name such as mara, and no account is named")
	p.must(0, "approve", "*", "--take", "source")
	assert.Contains(t, words(p.must(5, "import").out), "Nothing of docket 1 was left to write to target.")
	assert.Equal(t, []string{"A old 2019-01-01 00:00:00 5"}, p.rows("target", "SELECT code, name, +changed_at, changed_by FROM items"))
}

// Who imports stands in the stamps with the time, as the target keeps people; where that cannot be
// written, nothing is, and what is said mends it.
func TestWhoseNameStandsThere(t *testing.T) {
	t.Parallel()
	for _, engine := range tries(t.Name(), everyEngine...) {
		t.Run(engine, func(t *testing.T) {
			t.Parallel()
			const text = "types:\n  item: {at: items, key: [code], stamp: {at: changed_at, by: changed_by, person: {at: staff, id: id, name: login}}}\n"
			p, source, target := pair(t, engine, text, "CREATE TABLE staff (id INTEGER PRIMARY KEY, login VARCHAR(20))", "CREATE TABLE items (code VARCHAR(9) PRIMARY KEY, name VARCHAR(9), changed_at TIMESTAMP NULL, changed_by INTEGER)")
			run(t, source, "INSERT INTO staff VALUES (1,'ruth')", "INSERT INTO items VALUES ('A','new','2026-03-01 10:00:00',1),('N','new','2026-03-01 10:00:00',1)")
			run(t, target, "INSERT INTO staff VALUES (1,'ida'),(2,'mara'),(3,'Nils'),(4,'twice'),(5,'twice')", "INSERT INTO items VALUES ('A','old','2026-02-01 10:00:00',1)")
			stands := func() []string {
				return lines(t, target, "SELECT code, name, changed_by, CASE WHEN changed_at > '2026-06-01' THEN 'now' ELSE 'then' END FROM items ORDER BY 1")
			}
			before := stands()
			for _, who := range []string{"nils", "twice", "nobody"} { // another spelling is another name
				p.user = who
				said := words(p.must(3, "match", "source", "--against", "target", "--name", "p-"+who).out)
				assert.Contains(t, said, "caution stamp-unfilled: item: who changes it cannot be written into changed_by of target: "+who+" is not, or not once, among the people in staff (login), and no account is named.")
				assert.Contains(t, said, "Name the account that stands for imports under stamp: of item in the catalog, account: {target: …}, and match again; or say write: never there, if time and person are to stay as they are, and match again.")
				p.must(0, "approve", "*", "--take", "source", "--again")
				for _, args := range [][]string{{"import", "--rehearse"}, {"import"}} {
					r := p.run(args...)
					assert.Contains(t, []int{1, 4, 5}, r.code, "%s%s", r.out, r.err)
					assert.Contains(t, words(r.out+r.err), "changed_by", who)
					assert.Equal(t, before, stands(), who)
				}
			}

			p.user = "mara" // who is there once
			assert.NotContains(t, p.must(3, "match", "source", "--against", "target", "--name", "mine").out, "stamp-unfilled")
			p.must(0, "approve", "*", "--take", "source", "--again")
			p.must(0, "import")
			assert.Equal(t, []string{"A|new|2|now", "N|new|2|now"}, stands())

			run(t, source, "UPDATE items SET name = 'newer'")
			run(t, target, "UPDATE items SET changed_at = '2026-02-01 10:00:00', changed_by = 1")
			p.user = "nobody"
			p.write("catalog.yaml", strings.Replace(text, "stamp: {", "stamp: {account: {target: 3}, ", 1)) // the first mend
			assert.NotContains(t, p.must(3, "match", "source", "--against", "target", "--name", "account").out, "stamp-unfilled")
			p.must(0, "approve", "*", "--take", "source")
			p.must(0, "import")
			assert.Equal(t, []string{"A|newer|3|now", "N|newer|3|now"}, stands())

			run(t, source, "UPDATE items SET name = 'newest'")
			run(t, target, "UPDATE items SET changed_at = '2026-02-01 10:00:00', changed_by = 1")
			p.write("catalog.yaml", strings.Replace(text, "stamp: {", "stamp: {write: never, ", 1)) // the second
			p.must(3, "match", "source", "--against", "target", "--name", "never")
			p.must(0, "approve", "*", "--take", "source")
			p.must(0, "import")
			assert.Equal(t, []string{"A|newest|1|then", "N|newest|1|then"}, stands())
		})
	}
}
