package test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

var everyEngine = []string{"sqlite", "postgres", "mysql"}

// trigger is a trigger on items, in the language of an engine.
func trigger(engine, when, event, body string) []string {
	switch engine {
	case "postgres":
		return []string{fmt.Sprintf("CREATE FUNCTION alters() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN %s; RETURN NEW; END $$", strings.ReplaceAll(body, "SET NEW.", "NEW.")),
			fmt.Sprintf("CREATE TRIGGER alters %s %s ON items FOR EACH ROW EXECUTE FUNCTION alters()", when, event)}
	case "sqlite":
		body = strings.ReplaceAll(body, "SET NEW.f2 = 'x'", "UPDATE items SET f2 = 'x' WHERE id = NEW.id")
		body = strings.ReplaceAll(body, "SET NEW.extra = 'x'", "UPDATE items SET extra = 'x' WHERE id = NEW.id")
		return []string{fmt.Sprintf("CREATE TRIGGER alters AFTER %s ON items BEGIN %s; END", event, body)}
	default:
		return []string{fmt.Sprintf("CREATE TRIGGER alters %s %s ON items FOR EACH ROW BEGIN %s; END", when, event, body)}
	}
}

// What is in the target after an import is what was approved, and else what was there:
// whatever the target does by itself, either the import is refused as a whole or nothing
// else changed. Rehearsals say the same as imports.
func TestOnlyWhatWasApprovedChanges(t *testing.T) {
	t.Parallel()
	const before = "A,t,t,e B,t,t,e C,t,t,e"
	for name, c := range map[string]struct {
		engines []string
		catalog string                       // what else is said of the type
		target  func(engine string) []string // done to the target after the match
		approve []string
		says    string // of the refusal, "" where it is imported
		want    string
	}{
		"nothing": {want: "A,s,t,e B,t,t,e C,t,t,e"},
		"a trigger that alters a field nobody approved": {
			target: func(engine string) []string { return trigger(engine, "BEFORE", "UPDATE", "SET NEW.f2 = 'x'") },
			says:   "item/A: field f2 was not to be written; it was t and is x afterwards. Something in target changes what is written. If the application fills f2 by itself, put it under ignore: in the catalog and match again; else decline the record."},
		"one that alters a column that only the target has": {
			target: func(engine string) []string { return trigger(engine, "BEFORE", "UPDATE", "SET NEW.extra = 'x'") },
			says:   "item/A: extra was not to be written and holds something else afterwards."},
		"one that alters an ignored column": {catalog: ", ignore: [extra]",
			target: func(engine string) []string { return trigger(engine, "BEFORE", "UPDATE", "SET NEW.extra = 'x'") },
			want:   "A,s,t,x B,t,t,e C,t,t,e"},
		"one that alters another record": {engines: []string{"sqlite", "postgres"},
			target: func(engine string) []string {
				return trigger(engine, "AFTER", "UPDATE OF f1", "UPDATE items SET f2 = 'x' WHERE code = 'B'")
			},
			says: "item/B was not to be written and is another one afterwards"},
		"one that removes another record": {engines: []string{"sqlite", "postgres"},
			target: func(engine string) []string {
				return trigger(engine, "AFTER", "UPDATE OF f1", "DELETE FROM items WHERE code = 'C'")
			},
			says: "item/C was not to be written and is another one afterwards"},
		"a column that the server stamps": {engines: []string{"mysql"},
			target: func(string) []string {
				return []string{"ALTER TABLE items ADD seen TIMESTAMP(6) NOT NULL DEFAULT '2020-01-01 00:00:00' ON UPDATE CURRENT_TIMESTAMP(6)"}
			},
			says: "item/A: seen was not to be written and holds something else afterwards."},
		"a constraint trigger that waits for the commit": {engines: []string{"postgres"},
			target: func(string) []string {
				return []string{"CREATE FUNCTION late() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN UPDATE items SET f1 = 'late' WHERE id = NEW.id AND f1 <> 'late'; RETURN NULL; END $$",
					"CREATE CONSTRAINT TRIGGER late AFTER UPDATE ON items DEFERRABLE INITIALLY DEFERRED FOR EACH ROW EXECUTE FUNCTION late()"}
			},
			says: "item/A: s was written into field f1 and reads back as late"},
		"one that refuses": {engines: []string{"postgres"},
			target: func(string) []string {
				return []string{"CREATE FUNCTION late() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN RAISE EXCEPTION 'no' USING ERRCODE = '23514'; END $$",
					"CREATE CONSTRAINT TRIGGER late AFTER UPDATE ON items DEFERRABLE INITIALLY DEFERRED FOR EACH ROW EXECUTE FUNCTION late()"}
			},
			says: "the database refuses it"},
		"a table that replaces what is in the way": {engines: []string{"sqlite"},
			target: func(string) []string {
				return []string{"CREATE TABLE other (id INTEGER PRIMARY KEY, code TEXT NOT NULL UNIQUE, f1 TEXT UNIQUE ON CONFLICT REPLACE, f2 TEXT, extra TEXT)",
					"INSERT INTO other SELECT id, code, code, f2, extra FROM items", "UPDATE other SET f1 = 't' WHERE code = 'A'", "UPDATE other SET f1 = 's' WHERE code = 'C'",
					"DROP TABLE items", "ALTER TABLE other RENAME TO items"}
			},
			says: "UNIQUE constraint failed: items.f1", want: "A,t,t,e B,B,t,e C,s,t,e"},
		"what the catalog holds unique": {catalog: ", unique: [[f1]]",
			target:  func(string) []string { return []string{"INSERT INTO items (id, code, f1, f2, extra) VALUES (9, 'Z', 's', 't', 'e')"} },
			says:    "item/A and item/Z would both have the same in f1, which the catalog holds unique.",
			approve: []string{"item/A", "--field", "f1"}, want: before + " Z,s,t,e"},
	} {
		if c.engines == nil {
			c.engines = everyEngine
		}
		for _, engine := range c.engines {
			t.Run(name+" on "+engine, func(t *testing.T) {
				t.Parallel()
				const table = "CREATE TABLE items (id INTEGER PRIMARY KEY, code VARCHAR(20) NOT NULL UNIQUE, f1 VARCHAR(20), f2 VARCHAR(20)"
				p, source, target := pair(t, engine, "types:\n  item: {at: items, key: [code], id: id"+c.catalog+"}\n", table+")")
				run(t, target, "ALTER TABLE items ADD extra VARCHAR(20)")
				run(t, source, "INSERT INTO items VALUES (1,'A','s','s'),(2,'B','t','s'),(3,'C','t','s')")
				run(t, target, "INSERT INTO items VALUES (4,'A','t','t','e'),(5,'B','t','t','e'),(6,'C','t','t','e')")
				p.must(3, "match", "source", "--against", "target", "--name", "p")
				if c.approve == nil {
					c.approve = []string{"item/A", "--field", "f1"}
				}
				p.must(0, append([]string{"approve"}, c.approve...)...)
				if c.target != nil {
					run(t, target, c.target(engine)...)
				}
				if c.want == "" {
					c.want = before
				}
				now := func() string {
					return strings.ReplaceAll(strings.Join(lines(t, target, "SELECT code, f1, f2, extra FROM items ORDER BY code"), "\n"), "|", ",")
				}
				was := now()
				if c.says == "" {
					p.must(0, "import", "--rehearse")
					assert.Equal(t, was, now())
					p.must(0, "import")
				} else {
					for _, args := range [][]string{{"import", "--rehearse"}, {"import"}} {
						r := p.must(1, args...)
						assert.Contains(t, words(r.out+r.err), c.says)
					}
				}
				assert.Equal(t, strings.ReplaceAll(c.want, " ", "\n"), now())
			})
		}
	}
}

// Records whose keys move are told by what they are, not by what they are called.
func TestKeysThatMove(t *testing.T) {
	t.Parallel()
	const catalog = "types:\n  n: {at: ns, key: [code], id: id}\n  m: {at: ms, key: [n_id, code], id: id, refers: {n_id: n}, part_of: n}\n  k: {at: ks, key: [m_id, no], id: id, refers: {m_id: m}, part_of: m}\n"
	tables := []string{"CREATE TABLE ns (id INTEGER PRIMARY KEY, code VARCHAR(20) NOT NULL)", "CREATE TABLE ms (id INTEGER PRIMARY KEY, n_id INTEGER NOT NULL, code VARCHAR(20) NOT NULL, name VARCHAR(20))",
		"CREATE TABLE ks (id INTEGER PRIMARY KEY, m_id INTEGER NOT NULL, no INTEGER NOT NULL)"}
	for _, engine := range everyEngine {
		t.Run(engine, func(t *testing.T) {
			t.Parallel()
			p, source, target := pair(t, engine, strings.ReplaceAll(catalog, "id: id", "id: {field: id, made_by: largest}"), tables...)
			run(t, target, "INSERT INTO ns VALUES (10,'R')", "INSERT INTO ms VALUES (11,10,'A','was A'),(12,10,'B','was B')")
			run(t, source, "INSERT INTO ns VALUES (1,'R2')", "INSERT INTO ms VALUES (1,1,'B','was A'),(2,1,'A','was B')", "INSERT INTO ks VALUES (1,1,1),(2,2,2)")
			parts := func() []string {
				return lines(t, target, "SELECT name, ms.code, coalesce(no, 0) FROM ms LEFT JOIN ks ON m_id = ms.id ORDER BY 1")
			}
			p.must(0, "pair", "n/R", "n/R2")
			p.must(0, "pair", "m/R/A", "m/R2/B")
			p.must(0, "pair", "m/R/B", "m/R2/A")
			p.must(3, "match", "source", "--against", "target", "--name", "p")
			assert.Equal(t, "m/R/B", p.review()["m/R2/A"].Was)
			p.must(0, "approve", "m/R2/A")
			assert.Equal(t, "open", p.review()["m/R2/B"].Decision, "naming one record decides no other")
			p.must(0, "approve", "*")
			r := p.must(5, "import")
			assert.Contains(t, words(r.out), "value-taken: m/R2/A: the values of fields n_id, code together are held by m/R2/B in target (m/R/A there)")
			assert.Contains(t, words(r.out), "Give them these keys in target itself, forget their pairs with anagram pair --forget, then match again.")
			assert.Equal(t, []string{"was A|A|1", "was B|B|2"}, parts(), "parts belong to whom they belonged in the source")
			// The mend.
			run(t, target, "UPDATE ms SET code = 'B' WHERE id = 11", "UPDATE ms SET code = 'A' WHERE id = 12")
			p.must(0, "pair", "--forget", "m/R/A", "m/R2/B")
			p.must(0, "pair", "--forget", "m/R/B", "m/R2/A")
			p.must(0, "match", "p", "--against", "target")

			// Keys that are handed on follow each other.
			run(t, source, "UPDATE ns SET code = 'R3'", "UPDATE ms SET code = 'C' WHERE id = 1", "UPDATE ms SET code = 'B' WHERE id = 2", "INSERT INTO ms VALUES (3,1,'A','is new')", "INSERT INTO ks VALUES (3,1,3),(4,3,4)")
			p.must(0, "pair", "n/R2", "n/R3")
			p.must(0, "pair", "m/R2/B", "m/R3/C")
			p.must(0, "pair", "m/R2/A", "m/R3/B")
			p.must(3, "match", "source", "--against", "target", "--name", "q")
			p.must(0, "approve", "*")
			p.must(0, "import", "--rehearse")
			p.must(0, "import")
			assert.Equal(t, []string{"is new|A|4", "was A|C|1", "was A|C|3", "was B|B|2"}, lines(t, target, "SELECT name, ms.code, coalesce(no, 0) FROM ms LEFT JOIN ks ON m_id = ms.id ORDER BY 1, 3"))
			p.must(0, "match", "q", "--against", "target")
		})
	}
}
