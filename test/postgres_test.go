package test

import (
	"database/sql"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// pair makes a workspace with two databases of an engine, both with the same tables.
func pair(t *testing.T, engine, catalog string, tables ...string) (p *place, source, target *sql.DB) {
	t.Helper()
	p = &place{t: t, dir: t.TempDir(), user: "mara"}
	from, source := server(t, p, engine, "source")
	to, target := server(t, p, engine, "target")
	for _, db := range []*sql.DB{source, target} {
		for _, statement := range tables {
			_, err := db.Exec(statement)
			require.NoError(t, err, statement)
		}
	}
	p.write("catalog.yaml", catalog)
	p.write("anagram.yaml", fmt.Sprintf("environments:\n  source: {connect: %q}\n  target: {connect: %q}\n", from, to))
	trustElsewhere(p)
	return p, source, target
}

// trustElsewhere trusts a workspace whose servers are elsewhere, as the environment may say.
func trustElsewhere(p *place) {
	for _, name := range []string{"ANAGRAM_TEST_POSTGRES", "ANAGRAM_TEST_MYSQL"} {
		if os.Getenv(name) != "" {
			p.trust()
			return
		}
	}
}

func run(t *testing.T, db *sql.DB, statements ...string) {
	t.Helper()
	for _, statement := range statements {
		_, err := db.Exec(statement)
		require.NoError(t, err, statement)
	}
}

func lines(t *testing.T, db *sql.DB, query string) []string {
	t.Helper()
	rows, err := db.Query(query)
	require.NoError(t, err)
	defer rows.Close()
	out := []string{}
	columns, err := rows.Columns()
	require.NoError(t, err)
	for rows.Next() {
		cells, into := make([]sql.NullString, len(columns)), make([]any, len(columns))
		for i := range cells {
			into[i] = &cells[i]
		}
		require.NoError(t, rows.Scan(into...))
		parts := make([]string, len(cells))
		for i, cell := range cells {
			parts[i] = cell.String
		}
		out = append(out, strings.Join(parts, "|"))
	}
	require.NoError(t, rows.Err())
	return out
}

func TestPostgreSQLAsItIsMet(t *testing.T) {
	t.Parallel()
	p, source, target := pair(t, "postgres", `types:
  unit: {at: lab.units, key: [Code], id: "Unit Id"}
  assay: {at: Assays, key: [code], id: id, refers: {unit: unit}}
  seen: {at: seen, key: [code]}
`,
		`CREATE SCHEMA lab`, `CREATE DOMAIN positive AS numeric(12,4) CHECK (value > 0)`, `CREATE TYPE mood AS ENUM ('calm', 'busy')`,
		`CREATE TABLE lab.units ("Unit Id" integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY, "Code" text NOT NULL UNIQUE)`,
		`CREATE TABLE "Assays" (id uuid PRIMARY KEY DEFAULT gen_random_uuid(), code varchar(10) UNIQUE, unit integer REFERENCES lab.units ("Unit Id"), limits positive,
			tags text[], mood mood, span interval, twice numeric GENERATED ALWAYS AS (limits * 2) STORED, net inet, hidden text)`,
		`CREATE VIEW seen AS SELECT code FROM "Assays"`,
		`CREATE UNIQUE INDEX part ON "Assays" (mood) WHERE code = 'never'`)
	run(t, source, `INSERT INTO lab.units ("Code") VALUES ('mg'), ('g"/\'), ('kg')`,
		`INSERT INTO "Assays" (code, unit, limits, tags, mood, span, net, hidden) VALUES ('GLU', 2, 1.5, '{a,"b c",NULL}', 'busy', '1 day 02:03:04.5', '10.0.0.0/8', 'x'), ('NA', NULL, NULL, NULL, NULL, NULL, NULL, NULL)`)
	run(t, target, `INSERT INTO lab.units ("Code") VALUES ('other'), ('mg')`, `ALTER SEQUENCE lab."units_Unit Id_seq" RESTART WITH 1`)
	assert.Contains(t, words(p.must(0, "catalog", "check").out), "source: the catalog holds for all 3 record types")
	doc := p.json(3, "match", "source", "--against", "target", "--name", "p")
	assert.Equal(t, map[string]int{"new": 6, "target_only": 1}, totals(doc))
	p.must(0, "approve", "--type", "unit", "--type", "assay")
	p.must(0, "import")
	assert.Equal(t, []string{`GLU|g"/\|1.5000|{a,"b c",NULL}|busy|93784.500000|3.0000|10.0.0.0/8`, "NA|||||||"},
		lines(t, target, `SELECT concat_ws('|', a.code, coalesce(u."Code", ''), coalesce(limits::text, ''), coalesce(tags::text, ''), coalesce(mood::text, ''), coalesce(extract(epoch FROM span)::text, ''), coalesce(twice::text, ''), coalesce(net::text, ''))
			FROM "Assays" a LEFT JOIN lab.units u ON u."Unit Id" = a.unit ORDER BY a.code`))
	assert.Equal(t, map[string]int{"target_only": 1}, totals(p.json(0, "match", "p", "--against", "target")), "a lagging sequence was no obstacle, and the view has followed")

	// A column that the account may not read is named before anything is exported.
	run(t, source, `CREATE ROLE anagram_blind LOGIN`, `GRANT USAGE ON SCHEMA lab TO anagram_blind`, `GRANT SELECT ON lab.units, seen TO anagram_blind`,
		`GRANT SELECT (id, code, unit, limits, tags, mood, span, twice, net) ON "Assays" TO anagram_blind`)
	defer run(t, source, `DROP OWNED BY anagram_blind`, `DROP ROLE anagram_blind`)
	p.write("anagram.yaml", strings.Replace(string(p.read("anagram.yaml")), "postgres://postgres@", "postgres://anagram_blind@", 1))
	r := p.must(2, "export", "source")
	assert.Contains(t, words(r.err), "the account may not read hidden of Assays in source")
	p.write("catalog.yaml", strings.Replace(string(p.read("catalog.yaml")), "refers: {unit: unit}}", "refers: {unit: unit}, ignore: [hidden]}", 1))
	p.must(0, "export", "source", "--name", "blind")
}

func TestMariaDBAsItIsMet(t *testing.T) {
	t.Parallel()
	p, source, target := pair(t, "mysql", `types:
  unit: {at: Units, key: [code], id: id}
  rate: {at: rates, key: [code], id: id, refers: {unit: unit}}
`,
		"CREATE TABLE `Units` (id bigint unsigned AUTO_INCREMENT PRIMARY KEY, code varchar(20) COLLATE utf8mb4_general_ci NOT NULL, kind enum('a','b'), opts set('x','y'), active bit(1), f float, d double, y year, tiny tinyint(1), big bigint unsigned)",
		"CREATE TABLE rates (id int AUTO_INCREMENT PRIMARY KEY, code varchar(9) UNIQUE, unit bigint unsigned, twice int GENERATED ALWAYS AS (length(code)) STORED, changed timestamp NOT NULL DEFAULT current_timestamp() ON UPDATE current_timestamp(), FOREIGN KEY (unit) REFERENCES `Units` (id))")
	run(t, source, "INSERT INTO `Units` (code, kind, opts, active, f, d, y, tiny, big) VALUES ('mg', 'a', 'x,y', b'1', 0.5, 0.1, 2026, 1, 18446744073709551615), ('MG', 'b', '', b'0', 1e10, -1e-7, 1901, 0, 0), ('Ü', NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL)",
		"INSERT INTO rates (code, unit) VALUES ('r1', 2), ('r2', 3)")
	run(t, target, "INSERT INTO `Units` (id, code) VALUES (500, 'U')")
	p.write("catalog.yaml", strings.Replace(string(p.read("catalog.yaml")), "refers: {unit: unit}}", "refers: {unit: unit}, ignore: [changed]}", 1))
	p.must(3, "match", "source", "--against", "target", "--name", "p")
	p.must(0, "approve", "*")
	p.must(0, "import")
	assert.Equal(t, lines(t, source, "SELECT concat_ws('|', code, kind, opts, active + 0, f, d, y, tiny, big) FROM `Units` ORDER BY code COLLATE utf8mb4_bin"),
		lines(t, target, "SELECT concat_ws('|', code, kind, opts, active + 0, f, d, y, tiny, big) FROM `Units` WHERE id <> 500 ORDER BY code COLLATE utf8mb4_bin"))
	assert.Equal(t, []string{"r1 MG", "r2 Ü"}, lines(t, target, "SELECT concat(r.code, ' ', u.code) FROM rates r JOIN `Units` u ON u.id = r.unit ORDER BY 1"), "keys are told apart though the collation does not")
	assert.Equal(t, map[string]int{"target_only": 1}, totals(p.json(0, "match", "p", "--against", "target")))

	// A table without transactions is written step by step.
	run(t, target, "SET foreign_key_checks = 0; ALTER TABLE rates DROP FOREIGN KEY rates_ibfk_1; ALTER TABLE rates ENGINE = MyISAM; UPDATE rates SET unit = 500 WHERE code = 'r1'")
	p.must(matched, "match", "p", "--against", "target")
	p.must(0, "approve", "*", "--take", "source") // only the target moved
	assert.Contains(t, words(p.must(2, "import", "--rehearse").err), "its table rates has no transactions")
	p.must(0, "import")
	assert.Equal(t, lines(t, target, "SELECT id FROM `Units` WHERE code = 'MG' COLLATE utf8mb4_bin"), lines(t, target, "SELECT unit FROM rates WHERE code = 'r1'"))
}

func TestKilledInTheMiddleOfAnImportIntoAServer(t *testing.T) {
	inGate(t, "kills")
	for _, engine := range tries(t.Name(), serverEngines...) {
		t.Run(engine, func(t *testing.T) {
			p, address, db := serverPlace(t, engine)
			_ = address
			p.sql("source", "WITH RECURSIVE n(i) AS (SELECT 0 UNION ALL SELECT i+1 FROM n WHERE i < 2999) INSERT INTO units (code, name) SELECT 'u' || i, 'unit ' || i FROM n;")
			p.must(0, "export", "source", "--name", "p")
			p.must(3, "match", "p", "--against", "target")
			p.must(0, "approve", "*")
			start := time.Now()
			p.must(0, "import", "--rehearse")
			whole := time.Since(start)
			complete := false
			kills := full(3, 8)
			for i := range kills {
				cmd := p.command("import")
				require.NoError(t, cmd.Start())
				time.Sleep(whole * time.Duration(i+1) / time.Duration(kills+1))
				_ = cmd.Process.Kill()
				_ = cmd.Wait()
				require.Eventually(t, func() bool { // the server notices and takes it back
					n := lines(t, db, "SELECT count(*) FROM units")[0]
					complete = n == "3002"
					return n == "1" || complete
				}, 5*time.Second, 50*time.Millisecond, "neither as before nor complete")
			}
			require.Eventually(t, func() bool { return p.run("import").code == 0 }, 10*time.Second, 200*time.Millisecond, "a new import works")
			assert.Equal(t, "3002", lines(t, db, "SELECT count(*) FROM units")[0])
		})
	}
}

// A record that somebody changes while the import is at work is never overwritten.
func TestAChangeDuringAnImportIsNotOverwritten(t *testing.T) {
	t.Parallel()
	for _, engine := range tries(t.Name(), serverEngines...) {
		t.Run(engine, func(t *testing.T) {
			p, _, db := serverPlace(t, engine)
			p.hurry = 10
			p.must(0, "export", "source", "--name", "p")
			p.must(3, "match", "p", "--against", "target")
			p.must(0, "approve", "*")
			other, err := db.Begin()
			require.NoError(t, err)
			_, err = other.Exec("UPDATE units SET name = 'theirs' WHERE code = 'mg'")
			require.NoError(t, err)
			r := p.must(1, "import")
			assert.Contains(t, words(r.out+r.err), "somebody else is changing the same records")
			require.NoError(t, other.Commit())
			left := p.json(5, "import")["left_out"].([]any)
			assert.Equal(t, "unit/mg", left[0].(map[string]any)["address"])
			assert.Equal(t, []string{"theirs"}, lines(t, db, "SELECT name FROM units WHERE code = 'mg'"))
		})
	}
}

// What PostgreSQL holds to beside lengths: domains, enumerations, conditions of every kind.
func TestRulesOfPostgresAreKnownBefore(t *testing.T) {
	t.Parallel()
	p := &place{t: t, dir: t.TempDir(), user: "mara"}
	config := "environments:\n"
	for name, rules := range map[string][]string{
		"source": {"integer", "text", "text[]", "interval", "text", "NULL"},
		"target": {"positive", "mood", "text[] CHECK (cardinality(tags) < 3)", "interval CHECK (span < interval '1 day')", `text CHECK ("select" ~ '^[a-z]+$')`, "NULL CHECK (day <= until)"},
	} {
		address, db := server(t, p, "postgres", name)
		config += fmt.Sprintf("  %s: {connect: %q}\n", name, address)
		for _, statement := range []string{
			"CREATE DOMAIN positive AS integer CHECK (VALUE > 0)", "CREATE TYPE mood AS ENUM ('good', 'bad')",
			fmt.Sprintf(`CREATE TABLE odd (id serial PRIMARY KEY, code text UNIQUE, n %s, mood %s, tags %s, span %s, "select" %s, day date, until date %s)`, rules[0], rules[1], rules[2], rules[3], rules[4], rules[5]),
		} {
			_, err := db.Exec(statement)
			require.NoError(t, err, statement)
		}
		if name == "source" {
			_, err := db.Exec(`INSERT INTO odd (code, n, mood, tags, span, "select", day, until) VALUES
				('bad', 0, 'sad', '{a,b,c}', '2 days', 'No', '2026-02-01', '2026-01-01'), ('fine', 1, 'good', '{a}', '1 hour', 'yes', '2026-01-01', '2026-01-01'), ('null', NULL, NULL, NULL, NULL, NULL, NULL, NULL)`)
			require.NoError(t, err)
		}
	}
	p.write("anagram.yaml", config)
	p.write("catalog.yaml", "types:\n  odd: {key: [code], id: id}\n")
	p.must(3, "match", "source", "--against", "target", "--name", "p")
	f := p.review()
	assert.Empty(t, f["odd/fine"].Checks)
	assert.Empty(t, f["odd/null"].Checks)
	text := ""
	for _, c := range f["odd/bad"].Checks {
		assert.Equal(t, "value-does-not-fit", c.Code)
		text += c.Message + "\n"
	}
	for _, want := range []string{`refuses: ("n" > 0) (positive_check)`, `field mood is "sad", which is not among the allowed values (good, bad)`, "field tags has", "field span has", "field select has", "fields day, until have"} {
		assert.Contains(t, text, want)
	}
	assert.Len(t, f["odd/bad"].Checks, 6)
	p.must(0, "approve", "*")
	assert.Contains(t, words(p.must(5, "import").out), "2 new records were written")
}
