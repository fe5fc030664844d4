package test

import (
	"database/sql"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
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
			says: "another record has the same values, which have to be unique: items.f1", want: "A,t,t,e B,B,t,e C,s,t,e"},
		"what the catalog holds unique": {catalog: ", unique: [[f1]]",
			target: func(string) []string {
				return []string{"INSERT INTO items (id, code, f1, f2, extra) VALUES (9, 'Z', 's', 't', 'e')"}
			},
			says:    "item/A and item/Z would both have the same in f1, which the catalog holds unique.",
			approve: []string{"item/A", "--field", "f1"}, want: before + " Z,s,t,e"},
	} {
		if c.engines == nil {
			c.engines = everyEngine
		}
		for _, engine := range tries(t.Name()+name, c.engines...) {
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
	for _, engine := range tries(t.Name(), everyEngine...) {
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

// A reference means what was approved only with what says to which type it goes, and with
// what shares a column with it.
func TestWhatMeansSomethingOnlyTogether(t *testing.T) {
	t.Parallel()
	const chooser = "types:\n  a: {at: a, key: [code], id: id}\n  b: {at: b, key: [code], id: id}\n  u: {at: u, key: [code], id: id, refers: {obj: {by: kind, to: {A: a, B: b}}}}\n"
	for _, engine := range tries(t.Name(), everyEngine...) {
		t.Run(engine, func(t *testing.T) {
			t.Parallel()
			p, source, target := pair(t, engine, chooser, "CREATE TABLE a (id INTEGER PRIMARY KEY, code VARCHAR(9))", "CREATE TABLE b (id INTEGER PRIMARY KEY, code VARCHAR(9))",
				"CREATE TABLE u (id INTEGER PRIMARY KEY, code VARCHAR(9), kind VARCHAR(1), obj INTEGER)")
			run(t, source, "INSERT INTO a VALUES (1,'X')", "INSERT INTO b VALUES (1,'Y')", "INSERT INTO u VALUES (1,'U','B',1)")
			run(t, target, "INSERT INTO a VALUES (1,'X')", "INSERT INTO b VALUES (1,'Y')", "INSERT INTO u VALUES (1,'U','A',1)")
			p.must(3, "match", "source", "--against", "target", "--name", "p")
			for _, fields := range [][2]string{{"kind", "obj"}, {"obj", "kind"}} {
				p.must(0, "hold", "u/U")
				r := p.must(0, "approve", "u/U", "--field", fields[0])
				assert.Contains(t, words(r.out), fmt.Sprintf("reference-not-approved: u/U: fields %s and %s tell together what the record refers to, and only %s is approved. Approve field %s as well, or decline field %s.",
					fields[0], fields[1], fields[0], fields[1], fields[0]))
				p.must(4, "import")
				p.must(0, "decline", "u/U", "--field", fields[0])
			}
			assert.Equal(t, []string{"A|1"}, lines(t, target, "SELECT kind, obj FROM u"))
			p.must(0, "approve", "u/U", "--field", "kind")
			p.must(0, "approve", "u/U", "--field", "obj")
			p.must(0, "import")
			assert.Equal(t, []string{"B|1"}, lines(t, target, "SELECT kind, obj FROM u"))
		})
	}
}

// What has to fit is asked when it counts: at the import, as it is then.
func TestGuardsAreMetAtTheImport(t *testing.T) {
	t.Parallel()
	const config = `environments:
  source: {connect: "sqlite:source.db", release: {setting: setting/version}}
  target: {connect: "sqlite:target.db", release: {setting: setting/version}, guard: {release: exact}}
must_agree: [setting/currency]
`
	tables := "CREATE TABLE settings (code TEXT PRIMARY KEY, value TEXT); CREATE TABLE units (unit_id INTEGER PRIMARY KEY, code TEXT, name TEXT); INSERT INTO settings VALUES ('version', '8'), ('currency', 'EUR');"
	for name, c := range map[string]struct {
		change func(p *place)
		says   string
	}{
		"the release moved": {func(p *place) { p.sql("target", "UPDATE settings SET value = '9' WHERE code = 'version'") }, "release: source has release 8, target has release 9."},
		"it is not known":   {func(p *place) { p.sql("target", "DELETE FROM settings WHERE code = 'version'") }, "release: source has release 8, target has release unknown."},
		"a setting moved":   {func(p *place) { p.sql("target", "UPDATE settings SET value = 'CHF' WHERE code = 'currency'") }, "must-agree: setting/currency has to be equal on both sides"},
		"more has to agree": {func(p *place) { p.write("anagram.yaml", strings.Replace(config, "[", "[setting/other, ", 1)) }, "must-agree: setting/other has to be equal on both sides"},
		"it is elsewhere": {func(p *place) {
			p.write("other.db", string(p.read("target.db")))
			p.write("anagram.yaml", strings.Replace(config, "target.db", "other.db", 1))
		}, "other-target: target is sqlite:other.db now; when docket 1 was matched it was sqlite:target.db."},
		"nothing moved": {func(p *place) {}, ""},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p := newPlace(t, "types:\n  setting: {at: settings, key: [code]}\n  unit: {at: units, key: [code], id: unit_id}\n", tables+"INSERT INTO units VALUES (1, 'mg', 'new');", tables+"INSERT INTO units VALUES (7, 'mg', 'old');")
			p.write("anagram.yaml", config)
			p.must(3, "match", "source", "--against", "target", "--name", "p")
			p.must(0, "approve", "*")
			c.change(p)
			if c.says == "" {
				p.must(0, "import")
				return
			}
			for _, args := range [][]string{{"import", "--rehearse"}, {"import"}} {
				assert.Contains(t, words(p.must(4, args...).err), c.says)
			}
			assert.Equal(t, []string{"old"}, p.rows("target", "SELECT name FROM units"))
		})
	}
}

// What a key means travels with the parcel.
func TestAKeyMeansTheSameWhenItIsMatched(t *testing.T) {
	t.Parallel()
	for change, says := range map[string]string{
		", fold_case: [code]":         "key field code of item is compared with fold_case; when the parcel was exported it was exactly",
		", trim: [code]":              "key field code of item is compared with trim; when the parcel was exported it was exactly",
		`, only: "f1 == 's'"`:         `only: of item is "f1 == 's'"; when the parcel was exported it was ""`,
		", blank_is_null: [code, f1]": "key field code of item is compared with blank_is_null",
	} {
		p := newPlace(t, "types:\n  item: {at: items, key: [code], id: id}\n", fieldsTable+"INSERT INTO items (code, f1) VALUES ('a','s');", fieldsTable+"INSERT INTO items (code, f1) VALUES ('A','s');")
		p.must(0, "export", "source", "--name", "p")
		p.write("catalog.yaml", "types:\n  item: {at: items, key: [code], id: id"+change+"}\n")
		assert.Contains(t, words(p.must(2, "match", "p", "--against", "target").err), says)
		p.run("match", "source", "--against", "target", "--name", "q")
		assert.FileExists(t, p.path("dockets/0001.docket"), "the mend: export again")
	}
}

// Rows that are hidden from the account are not taken for missing.
func TestHiddenRowsAreNotMissing(t *testing.T) {
	t.Parallel()
	p, address, db := serverPlace(t, "postgres")
	run(t, db, "ALTER TABLE units ENABLE ROW LEVEL SECURITY", "CREATE POLICY mine ON units USING (code <> 'mg')")
	mine := account(t, "postgres", address, db, "GRANT SELECT, INSERT, UPDATE ON ALL TABLES IN SCHEMA public TO {who}")
	p.write("password.txt", secretWord+"\n")
	p.target(mine, "{file: password.txt}")
	r := p.must(1, "match", "source", "--against", "target", "--name", "p")
	assert.Contains(t, words(r.err), "row-level security hides rows from the account")
	assert.Contains(t, words(r.err), "Use an account that sees all rows, such as the owner of the table or one with BYPASSRLS.")
	p.target(address, "") // the mend
	p.must(3, "match", "p", "--against", "target")
}

// A record that was taken out of use in the target is not made a second time; where another
// type of the catalog takes it and the target allows both, it is another record.
func TestWhatIsOutsideIsNotMadeTwice(t *testing.T) {
	t.Parallel()
	for _, engine := range tries(t.Name(), everyEngine...) {
		t.Run(engine, func(t *testing.T) {
			t.Parallel()
			p, source, target := pair(t, engine, "types:\n  item: {at: items, key: [code], id: {field: id, made_by: largest}, only: \"state == 'A'\"}\n",
				"CREATE TABLE items (id INTEGER PRIMARY KEY, code VARCHAR(9), state VARCHAR(1), name VARCHAR(9))")
			run(t, source, "INSERT INTO items VALUES (1,'X','A','x'),(2,'Y','A','y')")
			run(t, target, "INSERT INTO items VALUES (5,'X','R','old'),(6,'Z','R','old')")
			p.must(3, "match", "source", "--against", "target", "--name", "p")
			f := p.review()
			assert.Equal(t, []string{"conflict", "new"}, []string{f["item/X"].Status, f["item/Y"].Status})
			assert.Equal(t, []string{"held-outside"}, f["item/X"].Reasons)
			text := words(p.must(0, "review").out)
			assert.Contains(t, text, "blocker held-outside: item/X is in target already, but only: of item in the catalog leaves it out there (id 5); it would be made a second time. Bring it back into use in target and match again, or decline it.")
			assert.Contains(t, words(p.must(0, "approve", "*", "--take", "source").out), "1 conflict passed over")
			p.must(0, "import")
			assert.Equal(t, []string{"X|R|old", "Y|A|y", "Z|R|old"}, lines(t, target, "SELECT code, state, name FROM items ORDER BY code"))
			run(t, target, "UPDATE items SET state = 'A' WHERE code = 'X'") // the mend
			p.must(3, "match", "p", "--against", "target")
			assert.Equal(t, "changed", p.review()["item/X"].Status)

			run(t, source, "INSERT INTO items VALUES (3,'Z','A','z')")
			p.write("catalog.yaml", string(p.read("catalog.yaml"))+"  old: {at: items, key: [code], id: {field: id, made_by: largest}, only: \"state == 'R'\"}\n")
			p.must(3, "match", "source", "--against", "target", "--name", "q")
			assert.Equal(t, "new", p.review()["item/Z"].Status)
			run(t, target, "CREATE UNIQUE INDEX codes ON items (code)")
			p.must(3, "match", "q", "--against", "target")
			assert.Equal(t, "conflict", p.review()["item/Z"].Status)
		})
	}
}

// What was taken out of use, or made out of use, since the match is asked again before anything is
// written: in a rehearsal, in load files and in an import.
func TestWhatIsHeldOutsideSinceTheMatchIsNotMadeTwice(t *testing.T) {
	t.Parallel()
	for _, engine := range tries(t.Name(), everyEngine...) {
		t.Run(engine, func(t *testing.T) {
			t.Parallel()
			p, source, target := pair(t, engine, "types:\n  item: {at: items, key: [code], id: {field: id, made_by: largest}, only: \"state == 'A'\"}\n",
				"CREATE TABLE items (id INTEGER PRIMARY KEY, code VARCHAR(9), state VARCHAR(1), name VARCHAR(9))")
			run(t, source, "INSERT INTO items VALUES (1,'X','A','x'),(2,'Y','A','y')")
			p.must(3, "match", "source", "--against", "target", "--name", "p")
			p.must(0, "approve", "*")
			run(t, target, "INSERT INTO items VALUES (5,'X','R','theirs')")
			for _, args := range [][]string{{"import", "--rehearse"}, {"import", "--into-files", "load"}, {"import"}} {
				doc := p.json(5, args...)
				left := doc["left_out"].([]any)
				require.Len(t, left, 1, args)
				assert.Equal(t, []any{"item/X", "held-outside"}, []any{left[0].(map[string]any)["address"], left[0].(map[string]any)["why"]}, args)
			}
			assert.Equal(t, []string{"X|R|theirs", "Y|A|y"}, lines(t, target, "SELECT code, state, name FROM items ORDER BY code"))
			run(t, target, "UPDATE items SET state = 'A' WHERE code = 'X'") // the mend
			p.must(3, "match", "p", "--against", "target")
			p.must(0, "approve", "item/X", "--take", "source")
			p.must(0, "import")
			assert.Equal(t, []string{"X|A|x", "Y|A|y"}, lines(t, target, "SELECT code, state, name FROM items ORDER BY code"))
		})
	}
}

// New records that require each other are written in one go where the target looks at
// references only at the commit, or does not look at all.
func TestCirclesInOneGo(t *testing.T) {
	t.Parallel()
	inGate(t, "every engine")
	for name, c := range map[string]struct{ engine, a, b, keys string }{
		"no foreign keys, SQLite":     {engine: "sqlite"},
		"no foreign keys, PostgreSQL": {engine: "postgres"},
		"no foreign keys, MariaDB":    {engine: "mysql"},
		"foreign keys of SQLite":      {engine: "sqlite", a: " REFERENCES b (id)", b: " REFERENCES a (id)"},
		"unique references":           {engine: "sqlite", a: " UNIQUE REFERENCES b (id)", b: " UNIQUE REFERENCES a (id)"},
		"deferrable":                  {engine: "postgres", keys: "DEFERRABLE INITIALLY DEFERRED"},
		"deferrable when asked":       {engine: "postgres", keys: "DEFERRABLE"},
	} {
		if !thorough && c.keys != "" {
			continue
		}
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			serial := map[string]string{"sqlite": "INTEGER PRIMARY KEY", "postgres": "SERIAL PRIMARY KEY", "mysql": "INTEGER PRIMARY KEY AUTO_INCREMENT"}[c.engine]
			p, source, target := pair(t, c.engine, "types:\n  a: {at: a, key: [code], id: id, refers: {b_id: b}}\n  b: {at: b, key: [code], id: id, refers: {a_id: a}}\n  c: {at: c, key: [code], id: id, refers: {c_id: c}}\n",
				"CREATE TABLE a (id "+serial+", code VARCHAR(9), b_id INTEGER NOT NULL"+c.a+")", "CREATE TABLE b (id "+serial+", code VARCHAR(9), a_id INTEGER NOT NULL"+c.b+")", "CREATE TABLE c (id "+serial+", code VARCHAR(9), c_id INTEGER NOT NULL)")
			source.SetMaxOpenConns(1)
			if c.engine == "sqlite" {
				run(t, source, "PRAGMA foreign_keys = OFF")
			}
			run(t, source, "INSERT INTO a VALUES (1,'X',2),(2,'Y',1),(3,'Z',3)", "INSERT INTO b VALUES (1,'X',1),(2,'Y',2),(3,'Z',3)", "INSERT INTO c VALUES (1,'S',1),(2,'T',3),(3,'U',2)")
			if c.keys != "" {
				for _, db := range []interface {
					Exec(string, ...any) (sql.Result, error)
				}{source, target} {
					for _, statement := range []string{"ALTER TABLE a ADD FOREIGN KEY (b_id) REFERENCES b (id) " + c.keys, "ALTER TABLE b ADD FOREIGN KEY (a_id) REFERENCES a (id) " + c.keys} {
						_, err := db.Exec(statement)
						require.NoError(t, err)
					}
				}
			}
			r := p.must(3, "match", "source", "--against", "target", "--name", "p")
			assert.NotContains(t, r.out, "blocker")
			p.must(0, "approve", "*")
			p.must(0, "import", "--rehearse")
			p.must(0, "import", "--into-files", "load", "--form", "sql")
			p.must(0, "import")
			p.must(0, "match", "p", "--against", "target")
			want := []string{"X|Y", "Y|X", "Z|Z"}
			query := "SELECT a.code, b.code FROM a JOIN b ON b.id = a.b_id ORDER BY 1"
			assert.Equal(t, want, lines(t, target, query))
			target.SetMaxOpenConns(1)
			if c.engine == "sqlite" {
				run(t, target, "PRAGMA foreign_keys = OFF", "DELETE FROM a", "DELETE FROM b", "DELETE FROM c", "PRAGMA foreign_keys = ON")
			} else if c.keys == "" {
				run(t, target, "DELETE FROM a", "DELETE FROM b", "DELETE FROM c")
			} else {
				run(t, target, "TRUNCATE a, b, c")
			}
			require.NoError(t, runLoadScript(t, target, string(p.read("load/load.sql"))))
			assert.Equal(t, want, lines(t, target, query))
		})
	}
}

// New records that require each other where the target looks at once are found when they
// are matched.
func TestCirclesAreFoundAtTheMatch(t *testing.T) {
	t.Parallel()
	for _, engine := range tries(t.Name(), serverEngines...) {
		serial := map[string]string{"postgres": "SERIAL PRIMARY KEY", "mysql": "INTEGER PRIMARY KEY AUTO_INCREMENT"}[engine]
		p, source, target := pair(t, engine, "types:\n  a: {at: a, key: [code], id: id, refers: {b_id: b}}\n  b: {at: b, key: [code], id: id, refers: {a_id: a}}\n",
			"CREATE TABLE a (id "+serial+", code VARCHAR(9), b_id INTEGER NOT NULL)", "CREATE TABLE b (id "+serial+", code VARCHAR(9), a_id INTEGER NOT NULL)")
		run(t, source, "INSERT INTO a VALUES (1,'X',1),(2,'Y',1)", "INSERT INTO b VALUES (1,'X',1)")
		run(t, target, "INSERT INTO a VALUES (7,'Q',7)", "INSERT INTO b VALUES (7,'Q',7)", "ALTER TABLE a ADD FOREIGN KEY (b_id) REFERENCES b (id)", "ALTER TABLE b ADD FOREIGN KEY (a_id) REFERENCES a (id)")
		r := p.must(3, "match", "source", "--against", "target", "--name", "p")
		assert.Contains(t, r.out, "2 blockers")
		assert.Contains(t, words(p.must(0, "review").out), "blocker circle: a/X and b/X require each other, so none of them can be written first. Make one of them in target by hand, with a reference to a record that is there, and match again; or decline them.")
		p.must(0, "approve", "*")
		p.must(4, "import")
		run(t, target, "INSERT INTO b VALUES (8,'X',7)") // the mend
		p.must(3, "match", "p", "--against", "target")
		p.must(0, "approve", "*", "--take", "source") // it is on both sides now, made there by hand
		p.must(0, "import")
		p.must(0, "match", "p", "--against", "target")
	}
}

// The server gives no number that an import has written, and refuses what it refuses at any
// count of records.
func TestNumbersThatTheServerGives(t *testing.T) {
	t.Parallel()
	for _, count := range []int{1, 9} {
		p, source, target := pair(t, "postgres", "types:\n  item: {at: items, key: [no]}\n  always: {at: always, key: [no]}\n",
			"CREATE TABLE items (no SERIAL PRIMARY KEY, name TEXT)", "CREATE TABLE always (no INTEGER GENERATED ALWAYS AS IDENTITY PRIMARY KEY, name TEXT)")
		run(t, source, fmt.Sprintf("INSERT INTO items (name) SELECT 'n' FROM generate_series(1, %d)", count), fmt.Sprintf("INSERT INTO always (name) SELECT 'n' FROM generate_series(1, %d)", count))
		p.must(3, "match", "source", "--against", "target", "--name", "p")
		assert.Contains(t, words(p.must(0, "review", "--full").out), "always/1 is new, and target gives the numbers of field no by itself and takes no others. Name another key in the catalog, then export and match again; or decline the record.")
		p.must(0, "approve", "*")
		p.must(0, "decline", "always/*") // the mend
		p.must(0, "import")
		run(t, target, "INSERT INTO items (name) VALUES ('by the application')")
		assert.Equal(t, []string{fmt.Sprint(count + 1)}, lines(t, target, "SELECT max(no) FROM items"))
	}
}
