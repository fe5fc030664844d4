package test

import (
	"database/sql"
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/catalog"
)

// From nothing to a docket in two commands, on the demo's own databases.
func TestTwoCommandsFromNothingToADocket(t *testing.T) {
	t.Parallel()
	p := demoPlace(t)
	dir := filepath.Join(p.dir, "fresh")
	r := p.must(0, "init", dir, "--source", "sandbox=sqlite:data/sandbox.db", "--target", "production=sqlite:data/production.db")
	assert.Contains(t, words(r.out), "sandbox: SQLite")
	assert.Contains(t, words(r.out), "Drafted 19 record types from sandbox and production into catalog.yaml")
	assert.Contains(t, words(r.out), "production: the catalog holds for all 19 record types")
	assert.Contains(t, r.err, "then: anagram match sandbox --against production")
	q := &place{t: t, dir: dir, user: "mara"}
	m := q.must(3, "match", "sandbox", "--against", "production")
	assert.Regexp(t, `price_line +\. +12 +11 +4 +466`, m.out)
	text := string(q.read("anagram.yaml"))
	assert.Contains(t, text, "connect: \"sqlite:../data/sandbox.db\"")
	p.must(2, "init", dir, "--source", "sqlite:data/sandbox.db")
	assert.Equal(t, text, string(q.read("anagram.yaml")), "what is there is never overwritten")
}

func TestAWorkspaceThatCannotBeStartedLeavesNothing(t *testing.T) {
	t.Parallel()
	p := demoPlace(t)
	dir := filepath.Join(p.dir, "fresh")
	for want, args := range map[string][]string{
		"there is no file":                  {"--source", "sqlite:data/none.db"},
		"does not answer":                   {"--source", "sqlite:data/sandbox.db", "--target", "postgres://me@127.0.0.1:1/db?connect_timeout=1"},
		"begin with a way to connect":       {"--source", "sandbox"},
		"add --source ADDRESS":              {"--target", "sqlite:data/production.db"},
		"Both environments would be called": {"--source", "a=sqlite:data/sandbox.db", "--target", "a=sqlite:data/production.db"},
	} {
		r := p.run(append([]string{"init", dir}, args...)...)
		assert.NotZero(t, r.code, want)
		if want == "does not answer" {
			assert.Regexp(t, "does not answer|cannot be reached|refused", words(r.err))
		} else {
			assert.Contains(t, words(r.err), want)
		}
		assert.NoFileExists(t, filepath.Join(dir, "anagram.yaml"), want)
		assert.NoFileExists(t, filepath.Join(dir, "catalog.yaml"), want)
	}
	r := p.must(1, "init", dir, "--source", "sqlite:data/none.db")
	assert.Contains(t, words(r.err), "Correct its address. No workspace was started")
	assert.NotContains(t, r.err, "anagram.yaml", "a file that is not there is not named")
	assert.NoDirExists(t, dir)
	p.write("fresh/.anagram/register.jsonl", "what is remembered")
	p.must(1, "init", dir, "--source", "sqlite:data/none.db")
	assert.Equal(t, "what is remembered", string(p.read("fresh/.anagram/register.jsonl")), "what an earlier workspace remembers stays")
}

// What is new in the environments comes into a catalog that was edited; all else stays.
func TestADraftIsBroughtIntoACatalog(t *testing.T) {
	t.Parallel()
	p := newPlace(t, "# my own words\ntypes:\n    unit:      # four blanks\n        at: units\n        key: [code]\n        id: id\nareas: {all: [unit]}\n",
		"CREATE TABLE units (id INTEGER PRIMARY KEY, code TEXT UNIQUE, api_token TEXT); CREATE TABLE assays (id INTEGER PRIMARY KEY, code TEXT UNIQUE, unit_id INTEGER REFERENCES units (id)); INSERT INTO units VALUES (1, 'g', 'x'); INSERT INTO assays VALUES (1, 'K', 1); CREATE TABLE left_alone (id INTEGER PRIMARY KEY, code TEXT UNIQUE)", "")
	before := string(p.read("catalog.yaml"))
	r := p.must(0, "catalog", "draft", "source", "--into", "catalog.yaml", "--without", "left_alone")
	assert.Contains(t, words(r.out), "Brought 1 record type into catalog.yaml: assay. All that was there is as it was.")
	assert.Contains(t, words(r.out), "unit.api_token: secret: its name is that of a secret")
	text := string(p.read("catalog.yaml"))
	assert.Equal(t, before, strings.Replace(text, text[strings.Index(text, "    assay:"):strings.Index(text, "areas:")], "", 1))
	c, err := catalog.Parse("catalog.yaml", []byte(text))
	require.NoError(t, err, text)
	assay, _ := c.Type("assay")
	assert.Equal(t, []string{"unit"}, assay.Refers["unit_id"].To)
	p.write("catalog.yaml", text+"# left_alone is somebody else's\n")
	said := words(p.must(0, "catalog", "draft", "source", "--into", "catalog.yaml").out)
	assert.Contains(t, said, "nothing was added")
	assert.Contains(t, said, "Left alone, as a comment there names them: left_alone. --with TABLE brings one in all the same.")
	assert.Contains(t, words(p.must(0, "catalog", "draft", "source", "--into", "catalog.yaml", "--with", "left_alone").out), "Brought 1 record type into catalog.yaml: left_alone", "the mend")
	p.write("flat.yaml", "types: {unit: {at: units, key: [code], id: id}}\n")
	assert.Contains(t, words(p.must(2, "catalog", "draft", "source", "--into", "flat.yaml").err), "written on one line")
	p.must(2, "catalog", "draft", "source", "--into", "none.yaml")
	p.must(2, "catalog", "draft", "source", "--into", "catalog.yaml", "--out", "x.yaml")
	assert.Contains(t, p.must(2, "catalog", "draft", "source", "--with", "nosuch").err, "No table of source is called \"nosuch\"")

	// A draft under another name is what the next command checks.
	r = p.must(0, "catalog", "draft", "source", "--out", "drafted.yaml")
	next := strings.TrimSpace(r.err[strings.LastIndex(r.err, "anagram "):])
	assert.Equal(t, "anagram catalog check source --catalog drafted.yaml", next)
	assert.Contains(t, words(p.must(0, strings.Fields(next)[1:]...).out), "holds for all 3 record types")
	p.write("odd.yaml", "types:\n  unit: {at: units, key: [code], id: id}\n  other: {at: left_alone, key: [code], id: id}\n")
	assert.Contains(t, words(p.must(0, "catalog", "draft", "source", "--into", "odd.yaml").out), "Brought 1 record type into odd.yaml: assay")
}

// A column that behaves like an internal id and is declared as nothing is named when the
// catalog is checked, and stops what would be new by it. Each mend is followed.
func TestWhatLooksLikeAnInternalID(t *testing.T) {
	t.Parallel()
	for _, engine := range tries(t.Name(), allEngines...) {
		t.Run(engine, func(t *testing.T) {
			tables := []string{"CREATE TABLE units (id INTEGER PRIMARY KEY, code VARCHAR(9) UNIQUE)", "CREATE TABLE texts (object_type VARCHAR(9) NOT NULL, unit_id INTEGER NOT NULL, lang VARCHAR(5) NOT NULL, body VARCHAR(40), PRIMARY KEY (object_type, unit_id, lang))",
				"CREATE TABLE tariffs (code VARCHAR(9) PRIMARY KEY, owner_no INTEGER)",
				"CREATE TABLE rules (code VARCHAR(9) PRIMARY KEY, formula VARCHAR(60), units VARCHAR(60), doc VARCHAR(90), object_type VARCHAR(9), object_id INTEGER, plain_list VARCHAR(20))"}
			const plain = "types:\n  unit: {at: units, key: [code], id: id}\n  text: {at: texts, key: [object_type, unit_id, lang]}\n  tariff: {at: tariffs, key: [code]}\n  rule: {at: rules, key: [code]}\n"
			p, source, target := pair(t, engine, plain, tables...)
			for i := range 12 {
				for db, id := range map[int]int{0: 7001 + i*37, 1: 9411 - i*41} {
					to := source
					if db == 1 {
						to = target
					}
					run(t, to, fmt.Sprintf("INSERT INTO units VALUES (%d, 'u%d')", id, i), fmt.Sprintf("INSERT INTO texts VALUES ('unit', %d, 'de', 'text %d')", id, i), fmt.Sprintf("INSERT INTO tariffs VALUES ('T%d', %d)", i, id),
						fmt.Sprintf(`INSERT INTO rules VALUES ('R%d', '{%d} * 2', '%d,%d', '{"unit_id": %d, "n": 3}', 'unit', %d, '1,2,3')`, i, id, id, map[int]int{0: 7001, 1: 9411}[db], id, id))
				}
			}
			said := words(p.must(0, "catalog", "check").out)
			assert.Contains(t, said, "Field unit_id in the key of text holds nothing but internal ids of unit, which differ in every environment")
			assert.Contains(t, said, "Field owner_no of tariff holds nothing but internal ids of unit", "no name says it, but no other numbers would do")
			for _, want := range []string{`refers: {formula: {to: unit, pattern: "{ID}"}}`, `refers: {units: {to: unit, list: ","}}`, `refers: {doc: {to: unit, path: "$.unit_id"}}`, "Field object_id of rule holds nothing but internal ids of unit"} {
				assert.Contains(t, said, want)
			}
			assert.NotContains(t, said, "plain_list", "small numbers are nobody's ids")
			r := p.must(3, "match", "source", "--against", "target")
			assert.Contains(t, words(r.out), "looks-like-id: Hardly any text of source meets one of target: 12 are new and 12 are only in target, by the key [object_type, unit_id, lang].")
			findings := words(p.must(0, "review", "--full").out)
			assert.Contains(t, findings, "blocker looks-like-id: text/unit/7001/de would be new with 7001 in field unit_id.")
			assert.Contains(t, findings, "caution looks-like-id: tariff/T0 would get 7001 in field owner_no.")
			assert.Contains(t, findings, "caution looks-like-id: rule/R0 would get {7001} * 2 in field formula. Field formula of rule has internal ids of unit within its values")
			p.must(0, "approve", "text/*")
			assert.Equal(t, "blocked", p.json(4, "import")["outcome"])
			assert.Equal(t, 12, count(t, target, "texts"), "no bulk approval doubles them")

			p.write("catalog.yaml", strings.Replace(strings.Replace(plain, "unit_id, lang]", "unit_id, lang], refers: {unit_id: unit}", 1), "tariffs, key: [code]", "tariffs, key: [code], plain: [owner_no]", 1))
			said = words(p.must(0, "catalog", "check").out)
			assert.NotContains(t, said, "of text")
			assert.NotContains(t, said, "owner_no")
			p.write("catalog.yaml", strings.Replace(string(p.read("catalog.yaml")), "rules, key: [code]", `rules, key: [code], refers: {formula: {to: unit, pattern: "{ID}"}, units: {to: unit, list: ","}, doc: {to: unit, path: "$.unit_id"}, object_id: {by: object_type, to: {unit: unit}}}, as: {doc: json}`, 1))
			assert.NotContains(t, p.must(0, "catalog", "check").out, "internal id")
			again := p.must(3, "match", "source", "--against", "target").out
			assert.NotContains(t, again, "looks-like-id")
			assert.Regexp(t, `tariff +12 +\.`, again)
			assert.Contains(t, again, "3 types without differences")
			p.write("catalog.yaml", strings.Replace(string(p.read("catalog.yaml")), "plain: [owner_no]", "ignore: [owner_no]", 1))
			p.must(0, "match", "source", "--against", "target")
		})
	}
}

func count(t *testing.T, db *sql.DB, table string) (n int) {
	t.Helper()
	require.NoError(t, db.QueryRow("SELECT count(*) FROM "+table).Scan(&n))
	return n
}

// What a draft says of somebody's application is followed literally.
func TestWordsThatAreNotKnownSayWhatIs(t *testing.T) {
	t.Parallel()
	p := newPlace(t, "types:\n  item: {at: items, key: [code], id: id}\n  itinerary: {at: trips, key: [code]}\n",
		"CREATE TABLE items (id INTEGER PRIMARY KEY, code TEXT UNIQUE, n INTEGER); INSERT INTO items VALUES (1,'ug/L',1),(2,'b',2),(3,'c',3); CREATE TABLE trips (code TEXT PRIMARY KEY)",
		"CREATE TABLE items (id INTEGER PRIMARY KEY, code TEXT UNIQUE, n INTEGER); INSERT INTO items VALUES (1,'ug/L',9),(2,'b',2); CREATE TABLE trips (code TEXT PRIMARY KEY)")
	p.must(3, "match", "source", "--against", "target", "--name", "p")
	for want, args := range map[string][]string{
		`did you mean item/ug%2FL?`:                                       {"export", "source", "--record", "item/ug/L"},
		`source has no record item/bb; did you mean "item/b"?`:            {"export", "source", "--record", "item/bb"},
		`No record type of the catalog fits "zz*"; known: item`:           {"export", "source", "--type", "zz*"},
		`compared with ==, not with =`:                                    {"export", "source", "--where", "item: n = 1"},
		`joined by &&, not by AND`:                                        {"export", "source", "--where", "item: n == 1 AND n == 2"},
		`written as in field == null`:                                     {"export", "source", "--where", "item: n IS NOT NULL"},
		`No record of source fits what was asked for; no parcel was made`: {"export", "source", "--where", "item: n == 99"},
		`no finding that fits "item"; all of that type are item/*`:        {"approve", "item"},
		`item/b is the same on both sides`:                                {"approve", "item/b"},
		`docket 1 has no finding that fits "item/d"; did you mean`:        {"approve", "item/d"},
		`Nothing was decided: docket 1 has no finding that fits`:          {"approve", "item/ug/L"},
		`The status "fresh" is not known; known: changed`:                 {"review", "--status", "fresh"},
		`anagram env has no command "lst"; did you mean "list"?`:          {"env", "lst"},
		`knows neither item/x nor item/y`:                                 {"pair", "item/x", "item/y"},
	} {
		r := p.run(args...)
		assert.NotZero(t, r.code, "%v", args)
		assert.Contains(t, words(r.err), want, "%v", args)
	}
	assert.Contains(t, words(p.must(0, "export", "source", "--leave-out", "item/zz*").out), "No record fits what was to be left out: item/zz*.")
	assert.NotContains(t, words(p.must(0, "export", "source", "--leave-out", "item/b*").out), "No record fits")
	r := p.json(0, "export", "source", "--type", "it*")
	assert.Len(t, r["types"], 2, "stars in type names")
	assert.Contains(t, words(p.must(0, "review", "--only", "item/b").out), "item/b is the same on both sides")
	assert.Contains(t, p.must(0, "review", "--type", "it*").out, "item/ug%2FL")
	p.must(0, "approve", "item/ug%2FL") // the mend
	p.must(0, "export", "source", "--record", "item/ug%2FL")
}

// A policy of releases that was changed counts at once, and a setting of several fields says
// which.
func TestAdviceOnReleasesCanBeFollowed(t *testing.T) {
	t.Parallel()
	tables := "CREATE TABLE setting (code TEXT PRIMARY KEY, value TEXT, note TEXT); CREATE TABLE items (id INTEGER PRIMARY KEY, code TEXT UNIQUE, name TEXT); "
	p := newPlace(t, "ignore: [extra]\ntypes:\n  setting: {key: [code]}\n  item: {at: items, key: [code], id: id}\n", tables+"INSERT INTO setting VALUES ('version','2.1','x'); INSERT INTO items VALUES (1,'a','new'); ALTER TABLE items ADD COLUMN extra TEXT",
		tables+"INSERT INTO setting VALUES ('version','2.0','x'); INSERT INTO items VALUES (7,'a','old')")
	config := func(release, policy string) {
		p.write("anagram.yaml", fmt.Sprintf("environments:\n  source: {connect: \"sqlite:source.db\", release: {setting: setting/version%s}}\n  target: {connect: \"sqlite:target.db\", release: {setting: setting/version%s}, guard: {release: %s}}\n", release, release, policy))
	}
	config("", "exact")
	assert.Contains(t, words(p.must(2, "catalog", "check").err), "has 2 fields beside its key in source (note, value); say which one it is, as in {setting: setting/version, field: value}")
	config(", field: valu", "exact")
	assert.Contains(t, words(p.must(2, "catalog", "check").err), `did you mean "value"?`)
	config(", field: value", "exact")
	assert.Contains(t, words(p.must(4, "catalog", "check").out), "blocker release: source has release 2.1, target has release 2.0", "without names as with two")
	p.must(3, "match", "source", "--against", "target")
	assert.Contains(t, words(p.must(0, "review").out), "blocker release:", "what stops the whole docket is in its review")
	p.must(0, "approve", "item/*")
	p.must(4, "import")
	config(", field: value", "off")
	p.must(0, "import")
	assert.Equal(t, []string{"new"}, p.rows("target", "SELECT name FROM items"))
	p.write("anagram.yaml", string(p.read("anagram.yaml"))+"must_agree: [{setting: setting/version, field: value}]\n")
	assert.Contains(t, words(p.must(4, "catalog", "check").out), "setting/version (value) has to be equal on both sides")
	p.write("anagram.yaml", strings.Replace(string(p.read("anagram.yaml")), "must_agree: [{setting: setting/version, field: value}]", "must_agree: [{field: value}]", 1))
	p.must(2, "catalog", "check")
}

// Values that a field cannot have never retire anything, and are refused.
func TestAWayOfRetiringThatCannotBe(t *testing.T) {
	t.Parallel()
	for _, engine := range tries(t.Name(), allEngines...) {
		t.Run(engine, func(t *testing.T) {
			p, _, _ := pair(t, engine, "", "CREATE TABLE items (code VARCHAR(9) PRIMARY KEY, off BOOLEAN NOT NULL, gone DATE, n INTEGER, word VARCHAR(3))")
			for retired, want := range map[string]string{
				"{field: off, values: [R]}": "true or false", "{field: n, values: [R]}": "kind integer", "{field: off, when: not null}": "is never null", "{field: gone, values: [soon]}": "kind date",
				"{field: off, values: [\"true\"]}": "", "{field: gone, when: not null}": "", "{field: n, values: [9]}": "", "{field: word, values: [R]}": "",
			} {
				p.write("catalog.yaml", "types:\n  item: {at: items, key: [code], retired: "+retired+"}\n")
				r := p.run("catalog", "check")
				if want == "" {
					assert.Zero(t, r.code, "%s: %s%s", retired, r.out, r.err)
					continue
				}
				assert.Equal(t, 2, r.code, retired)
				assert.Contains(t, words(r.out), want, retired)
			}
		})
	}
}

// A stamp that is a person's id is shown as the name.
func TestAStampShowsThePerson(t *testing.T) {
	t.Parallel()
	for _, engine := range tries(t.Name(), allEngines...) {
		t.Run(engine, func(t *testing.T) {
			const text = "types:\n  item: {at: items, key: [code], stamp: {at: changed_at, by: changed_by, person: {at: staff, id: id, name: login}}}\n"
			p, source, target := pair(t, engine, text, "CREATE TABLE staff (id INTEGER PRIMARY KEY, login VARCHAR(20))", "CREATE TABLE items (code VARCHAR(9) PRIMARY KEY, name VARCHAR(9), changed_at TIMESTAMP NULL, changed_by INTEGER)")
			run(t, source, "INSERT INTO staff VALUES (1,'ruth'),(2,'jonas')", "INSERT INTO items VALUES ('a','x','2026-01-01 10:00:00',1)")
			run(t, target, "INSERT INTO staff VALUES (1,'ida'),(2,'mara')", "INSERT INTO items VALUES ('a','y','2026-02-01 10:00:00',2)")
			p.must(3, "match", "source", "--against", "target", "--name", "p")
			said := words(p.must(0, "review", "--full").out)
			assert.Contains(t, said, "by mara")
			assert.Contains(t, said, "by ruth")
			p.write("catalog.yaml", strings.Replace(text, "at: staff", "at: stuff", 1))
			assert.Contains(t, words(p.must(2, "catalog", "check").out), `nothing called "stuff" for the people in stamps; did you mean "staff"?`)
			p.write("catalog.yaml", strings.Replace(text, "name: login", "name: logon", 1))
			assert.Contains(t, words(p.must(2, "catalog", "check").out), `did you mean "login"?`)
		})
	}
}

func TestCompletionAndManualPages(t *testing.T) {
	t.Parallel()
	p := demoPlace(t)
	p.must(0, "export", "sandbox", "--name", "monday")
	p.must(3, "match", "monday", "--against", "production")
	for want, args := range map[string][]string{
		"sandbox":             {"export", ""},
		"monday":              {"match", ""},
		"production":          {"match", "monday", "--against", ""},
		"1":                   {"review", ""},
		"assay_range":         {"export", "sandbox", "--type", "assay"},
		"comment_code/HAEM":   {"approve", "comment_code/H"},
		"comment_code/":       {"export", "sandbox", "--record", "com"},
		"tests":               {"export", "sandbox", "--area", ""},
		"price":               {"approve", "*", "--field", "pr"},
		"conflict":            {"review", "--status", ""},
		"looks-like-id":       {"review", "--check", "looks"},
		"last-import:sandbox": {"export", "sandbox", "--changed-since", "last"},
	} {
		got := p.must(0, append([]string{"__complete"}, args...)...).out
		assert.Contains(t, strings.Split(got, "\n"), want, "%v", args)
	}
	for _, shell := range []string{"bash", "zsh", "fish"} {
		assert.Contains(t, p.must(0, "completion", shell).out, "anagram")
	}
	empty := &place{t: t, dir: t.TempDir(), user: "mara"}
	assert.NotContains(t, empty.must(0, "__complete", "review", "").out, "anagram:")
	for _, command := range []string{"env", "parcel", "catalog", "selection"} {
		assert.NotEmpty(t, p.must(0, command).out, "alone it lists")
		p.json(0, command)
	}
}

// demoPlace is the demo's workspace before anything was done in it.
func demoPlace(t *testing.T) *place {
	t.Helper()
	outer := &place{t: t, dir: t.TempDir(), user: "mara"}
	outer.must(0, "demo", "--keep", "lab", "--data-only")
	return &place{t: t, dir: outer.path("lab"), user: "mara"}
}

// What only one side has is left out and said; what is secret there stays secret.
func TestADraftOfTwoThatDiffer(t *testing.T) {
	t.Parallel()
	for _, engine := range tries(t.Name(), allEngines...) {
		t.Run(engine, func(t *testing.T) {
			p := &place{t: t, dir: t.TempDir(), user: "mara"}
			from, source := server(t, p, engine, "source")
			to, target := server(t, p, engine, "target")
			const both = "CREATE TABLE items (id INTEGER PRIMARY KEY, code VARCHAR(9) UNIQUE, name VARCHAR(9)%s)"
			run(t, source, fmt.Sprintf(both, ", extra INTEGER, api_token VARCHAR(40)"), "CREATE TABLE here (code VARCHAR(9) PRIMARY KEY)", "INSERT INTO items VALUES (1,'a','x',5,'planted-source')")
			run(t, target, fmt.Sprintf(both, ", password VARCHAR(40)"), "CREATE TABLE there (code VARCHAR(9) PRIMARY KEY)", "INSERT INTO items VALUES (9,'a','y','planted-target')")
			dir := p.path("w")
			r := p.run("init", dir, "--source", from, "--target", to)
			require.Zero(t, r.code, r.out+r.err)
			q := &place{t: t, dir: dir, user: "mara"}
			text := string(q.read("catalog.yaml"))
			for _, line := range []string{"api_token  +# guess: its name is that of a secret", "password +# guess: its name is that of a secret", "- extra +# guess: it is not in target", "(?m)^#   here +0 +-  it is in source only", "(?m)^#   there +- +0  it is in target only"} {
				assert.Regexp(t, strings.ReplaceAll(line, "  +#", " +#"), text)
			}
			q.must(0, "catalog", "check")
			q.must(3, "match", "source", "--against", "target", "--name", "p")
			said := q.must(0, "review", "--full").out + string(q.read("parcels/p.parcel"))
			assert.NotContains(t, said, "planted")
			assert.Equal(t, []string{"item/a changed"}, differing(q))
			same := p.run("init", p.path("w2"), "--source", "a="+from, "--target", "b="+from)
			assert.Equal(t, 2, same.code)
			assert.Contains(t, words(same.err), "a and b are the same place")
		})
	}
}

// What the catalog leaves out of every type is neither compared nor held against an import, and
// a type that says something of such a field is believed.
func TestFieldsThatEveryTypeLeavesOut(t *testing.T) {
	t.Parallel()
	const catalogText = "ignore: [version, name]\ntypes:\n  item: {at: items, key: [code], id: id}\n  word: {at: words, key: [name]}\n"
	tables := "CREATE TABLE items (id INTEGER PRIMARY KEY, code TEXT UNIQUE, text TEXT, version INTEGER DEFAULT 0); CREATE TABLE words (name TEXT PRIMARY KEY, text TEXT); CREATE TRIGGER moved AFTER UPDATE OF text ON items BEGIN UPDATE items SET version = version + 1 WHERE id = new.id; END; "
	p := newPlace(t, catalogText, tables+"INSERT INTO items VALUES (1,'a','new',7); INSERT INTO words VALUES ('w','x')", tables+"INSERT INTO items VALUES (5,'a','old',3); INSERT INTO words VALUES ('w','x')")
	assert.NotContains(t, p.must(0, "catalog", "check").out, "caution", "a type that has none of the fields is not warned of")
	p.must(3, "match", "source", "--against", "target")
	assert.Equal(t, []string{"item/a changed"}, differing(p))
	assert.Contains(t, words(p.must(0, "review", "--all").out), "Not compared, ignored: item.version")
	assert.Contains(t, p.must(0, "catalog", "show", "item").out, "ignored     version")
	p.must(0, "approve", "item/*")
	p.must(0, "import")
	assert.Equal(t, []string{"new 4"}, p.rows("target", "SELECT text, version FROM items"), "a trigger may move it")
}
