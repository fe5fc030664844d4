package test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const pairedTables = `CREATE TABLE items (id INTEGER PRIMARY KEY, code TEXT NOT NULL UNIQUE, name TEXT, twin INTEGER REFERENCES items);
	CREATE TABLE parts (id INTEGER PRIMARY KEY, item_id INTEGER NOT NULL REFERENCES items, no INTEGER NOT NULL, note TEXT);
	CREATE TABLE tags (item_code TEXT NOT NULL, no INTEGER NOT NULL, note TEXT); CREATE TABLE marks (code TEXT, item_code TEXT);`

// pairedPlace has a record that the source calls NEW and the target OLD, with parts and
// references by internal id and by key.
func pairedPlace(t *testing.T) *place {
	return newPlace(t, `types:
  item: {at: items, key: [code], id: id, refers: {twin: item}}
  part: {at: parts, key: [item_id, no], id: id, refers: {item_id: item}, part_of: item}
  tag: {at: tags, key: [item_code, no], refers: {item_code: {to: item, by: key}}}
  mark: {at: marks, key: [code], refers: {item_code: {to: item, by: key}}}
`, pairedTables+`INSERT INTO items VALUES (1,'NEW','one',2),(2,'B','two',1); INSERT INTO parts VALUES (1,1,1,'x'),(2,1,2,'changed'),(3,1,3,'new');
		INSERT INTO tags VALUES ('NEW',1,'t'),('B',1,'t'); INSERT INTO marks VALUES ('m','NEW');`,
		pairedTables+`INSERT INTO items VALUES (11,'OLD','one',12),(12,'B','two',11); INSERT INTO parts VALUES (11,11,1,'x'),(12,11,2,'y');
		INSERT INTO tags VALUES ('OLD',1,'t'),('B',1,'t'); INSERT INTO marks VALUES ('m','OLD');`)
}

func everything(p *place) [][]string {
	return [][]string{p.rows("target", "SELECT * FROM items ORDER BY 1"), p.rows("target", "SELECT * FROM parts ORDER BY 1"), p.rows("target", "SELECT * FROM tags ORDER BY 1, 2"), p.rows("target", "SELECT * FROM marks")}
}

func TestAPairedRecordGetsItsNewKey(t *testing.T) {
	t.Parallel()
	p := pairedPlace(t)
	p.must(3, "match", "source", "--against", "target", "--name", "p")
	assert.Contains(t, p.must(0, "pair", "item/OLD", "item/NEW", "--note", "renamed in May").out, "Docket 1 still has them as\ntwo")
	assert.Contains(t, p.must(0, "pair", "item/NEW", "item/OLD").out, "were paired before")
	assert.Contains(t, p.must(0, "pair", "--list").out, "renamed in May")
	p.must(3, "match", "p", "--against", "target")
	f := p.review()
	assert.Len(t, f, 5)
	assert.Equal(t, "item/OLD", f["item/NEW"].Was)
	assert.Equal(t, "code", f["item/NEW"].Fields[0].Field)
	assert.Equal(t, []string{"NEW", "OLD"}, []string{*f["item/NEW"].Fields[0].Source, *f["item/NEW"].Fields[0].Target})
	assert.Empty(t, f["part/NEW/2"].Was, "its key follows")
	assert.Equal(t, "new", f["part/NEW/3"].Status)
	assert.Equal(t, "tag/OLD/1", f["tag/NEW/1"].Was, "it holds the key itself")

	// Without the change of the key, parts are written to the record as the target calls it;
	// what holds the key itself has to wait.
	p.must(0, "approve", "part/*", "tag/*", "mark/m")
	r := p.must(5, "import")
	assert.Contains(t, words(r.out), "1 new and 1 changed records were written")
	assert.Contains(t, words(r.out), "tag/NEW/1 holds the key of item/NEW (field item_code), which has another key in target until the change of it is approved. Approve item/NEW as well, or decline tag/NEW/1.")
	assert.Equal(t, []string{"11 11 1 x", "12 11 2 changed", "13 11 3 new"}, everything(p)[1])
	assert.Equal(t, []string{"11 OLD one 12", "12 B two 11"}, everything(p)[0])

	p.must(3, "match", "p", "--against", "target")
	p.must(0, "approve", "item/OLD") // by either name
	p.must(0, "approve", "tag/*", "mark/*")
	before := everything(p)
	p.must(0, "import", "--rehearse")
	assert.Equal(t, before, everything(p))
	p.must(0, "import")
	assert.Equal(t, [][]string{{"11 NEW one 12", "12 B two 11"}, before[1], {"B 1 t", "NEW 1 t"}, {"m NEW"}}, everything(p))
	p.must(0, "import")
	p.must(0, "match", "p", "--against", "target")

	// What both agree on is known by the new key from now on.
	p.sql("target", "UPDATE items SET name = 'mine' WHERE code = 'NEW'")
	p.must(0, "match", "p", "--against", "target")
	assert.Equal(t, "target-edit", p.review()["item/NEW"].Status)
	p.must(0, "pair", "--forget", "item/OLD", "item/NEW")
	p.must(0, "match", "p", "--against", "target")
	assert.Equal(t, "target-edit", p.review()["item/NEW"].Status)
	assert.Contains(t, p.must(0, "pair", "--list").out, "No pairs are remembered.")
}

func TestAPairedRecordMovedSinceItWasMatched(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct{ change, why string }{
		"renamed by hand":           {"UPDATE items SET code = 'NEW' WHERE id = 11", ""},
		"renamed to something else": {"UPDATE items SET code = 'OTHER' WHERE id = 11", "it is no longer in target"},
		"the new key was taken":     {"INSERT INTO items VALUES (99, 'NEW', 'other', NULL)", "its key now occurs 2 times"},
		"another value changed":     {"UPDATE items SET name = 'other' WHERE id = 11", "name was one and is other"},
	} {
		p := pairedPlace(t)
		p.must(0, "pair", "item/OLD", "item/NEW")
		p.must(3, "match", "source", "--against", "target", "--name", "p")
		p.must(0, "approve", "item/NEW")
		p.sql("target", c.change)
		before := everything(p)
		if c.why == "" {
			assert.Contains(t, words(p.must(0, "import").out), "already", name)
		} else {
			assert.Contains(t, words(p.must(5, "import").out), c.why, name)
		}
		assert.Equal(t, before, everything(p), name)
	}
}

func TestLoadFilesOfAPairedRecord(t *testing.T) {
	t.Parallel()
	p := pairedPlace(t)
	p.must(0, "pair", "item/OLD", "item/NEW")
	p.must(3, "match", "source", "--against", "target", "--name", "p")
	p.must(0, "approve", "*")
	p.must(0, "import", "--into-files", "csv", "--form", "csv")
	assert.Equal(t, "code,new_code\nOLD,NEW\n", string(p.read("csv/01-item-rekey.csv")))
	assert.Equal(t, "item_id,no,note\nNEW,2,changed\n", string(p.read("csv/02-part-change.csv")), "what follows is named as it is by then")
	p.must(0, "import", "--into-files", "sql", "--form", "sql")
	p.sql("target", string(p.read("sql/load.sql")))
	r := p.must(0, "match", "p", "--against", "target")
	assert.Contains(t, words(r.out), "The load files of docket 1 were loaded: 5 records as approved.")
	assert.Equal(t, []string{"11 NEW one 12", "12 B two 11"}, everything(p)[0])
}

// Records that are known by their key alone: others hold it, and a foreign key may follow.
func TestAKeyThatOthersHold(t *testing.T) {
	t.Parallel()
	const units, items = "CREATE TABLE units (code varchar(9) NOT NULL PRIMARY KEY, name varchar(40))", "CREATE TABLE items (code varchar(9) NOT NULL PRIMARY KEY, unit_code varchar(9) NOT NULL, name varchar(40), FOREIGN KEY (unit_code) REFERENCES units (code){follows})"
	for _, engine := range tries(t.Name(), allEngines...) {
		for _, follows := range []string{"", " ON UPDATE CASCADE"} {
			t.Run(engine+follows, func(t *testing.T) {
				p := &place{t: t, dir: t.TempDir(), user: "mara"}
				config := "environments:\n"
				for name, code := range map[string]string{"source": "MGM", "target": "mg"} {
					address, db := server(t, p, engine, name)
					config += fmt.Sprintf("  %s: {connect: %q}\n", name, address)
					for _, statement := range []string{units, strings.ReplaceAll(items, "{follows}", follows), "INSERT INTO units VALUES ('" + code + "', 'milligram')", "INSERT INTO items VALUES ('A', '" + code + "', 'a')"} {
						_, err := db.Exec(statement)
						require.NoError(t, err)
					}
				}
				p.write("anagram.yaml", config)
				p.write("catalog.yaml", "types:\n  unit: {at: units, key: [code]}\n  item: {at: items, key: [code], refers: {unit_code: {to: unit, by: key}}}\n")
				p.must(0, "pair", "unit/mg", "unit/MGM")
				p.must(3, "match", "source", "--against", "target", "--name", "p")
				p.must(0, "approve", "*")
				if follows == "" {
					r := p.must(4, "import")
					assert.Contains(t, words(r.out), "key-in-use: The key of unit/MGM cannot be changed in target: records of item hold it themselves (items.unit_code), and the foreign key there does not follow.")
					return
				}
				p.must(0, "import")
				p.must(0, "match", "p", "--against", "target")
			})
		}
	}
}

func TestPairsThatCannotBe(t *testing.T) {
	t.Parallel()
	p := pairedPlace(t)
	p.refused("pair needs two addresses", "pair", "item/OLD")
	p.refused("of different record types", "pair", "item/OLD", "part/NEW/1")
	p.refused("named twice", "pair", "item/OLD", "item/OLD")
	p.refused("is a pattern", "pair", "item/*", "item/NEW")
	p.refused(`no record type "itm"`, "pair", "itm/OLD", "itm/NEW")
	p.refused("are not remembered as one record", "pair", "--forget", "item/OLD", "item/NEW")
	p.refused("takes no addresses", "pair", "--list", "item/OLD")
	p.must(0, "export", "source", "--name", "p")
	p.must(0, "pair", "item/OLD", "item/WRONG")
	p.must(0, "pair", "part/OLD", "part/NEW")
	p.refused(`"OLD" is no key of part`, "match", "p", "--against", "target")
	p.write("pairs.jsonl", "{\n")
	p.refused("pairs.jsonl line 1 cannot be read", "match", "p", "--against", "target")
}
