package test

import (
	"database/sql"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Columns and values as real servers have them. Each engine's table is a copy of the
// same things, so that what one exports the others take.
var oddColumns = map[string]string{
	"sqlite":   `code TEXT PRIMARY KEY, "Mixed Case" TEXT, flag TEXT, truth INTEGER, padded CHAR(8), huge DECIMAL(30,10), whole BIGINT, early DATE, local DATETIME, zoned TIMESTAMP WITH TIME ZONE, at TIME, doc JSON, raw BLOB, kind TEXT`,
	"postgres": `code varchar(20) PRIMARY KEY, "Mixed Case" text, flag char(1), truth boolean, padded char(8), huge numeric(30,10), whole bigint, early date, local timestamp(6), zoned timestamptz, at time, doc jsonb, raw bytea, kind odd_kind`,
	"mysql":    "code varchar(20) COLLATE utf8mb4_bin PRIMARY KEY, `Mixed Case` text, flag char(1), truth tinyint(1), padded char(8), huge decimal(30,10), whole bigint, early date, local datetime(6), zoned timestamp(6) NULL, at time, doc json, raw longblob, kind enum('red','green')",
}

var oddRows = []string{
	`'a', 'naïve 😀 \ '' " %', 'Y', TRUE, 'ab', 12345678901234567890.0123456789, 9223372036854775807, '1066-10-14', '1899-12-31 23:59:59.123456', ZONED, '23:59:59', '{"z":[1,2.50,"é"],"a":null}', RAW, 'red'`,
	`'b', '', 'N', FALSE, NULL, -0.0000000001, -9223372036854775808, '2026-02-28', '2026-06-01 12:00:00', NULL, '00:00:00', '[]', NULL, 'green'`,
	`'c', NULL, NULL, NULL, '', 0, 0, NULL, NULL, NULL, NULL, NULL, NULL, NULL`,
}

var oddWords = map[string]*strings.Replacer{
	"sqlite":   strings.NewReplacer("ZONED", "'2026-03-29 01:30:00.5Z'", "RAW", "x'00ff27'", "TRUE", "1", "FALSE", "0", "12345678901234567890.0123456789", "'12345678.5'"),
	"postgres": strings.NewReplacer("ZONED", "'2026-03-29 02:30:00.5+01'", "RAW", `'\x00ff27'`, "12345678901234567890.0123456789", "12345678.5"),
	"mysql":    strings.NewReplacer("ZONED", "'2026-03-29 01:30:00.5'", "RAW", "x'00ff27'", `\ `, `\\ `, "12345678901234567890.0123456789", "12345678.5"),
}

const oddCatalog = `types:
  odd: {at: odds, key: [code], as: {flag: boolean Y/N, truth: boolean}}
  child: {at: children, key: [odd_code, no], refers: {odd_code: {to: odd, by: key}}}
`

func makeOdds(t *testing.T, engine string, db *sql.DB, fill bool) {
	t.Helper()
	exec := func(statement string) {
		_, err := db.Exec(statement)
		require.NoError(t, err, statement)
	}
	db.SetMaxOpenConns(1)
	switch engine {
	case "postgres":
		exec("CREATE TYPE odd_kind AS ENUM ('red', 'green')")
	case "mysql":
		exec("SET time_zone = '+00:00'")
	}
	exec("CREATE TABLE odds (" + oddColumns[engine] + ")")
	exec("CREATE TABLE children (odd_code varchar(20), no integer, note varchar(20))")
	exec("CREATE VIEW seen AS SELECT code FROM odds")
	if !fill {
		return
	}
	for _, row := range oddRows {
		exec("INSERT INTO odds VALUES (" + oddWords[engine].Replace(row) + ")")
	}
	exec("INSERT INTO children VALUES ('a', 1, 'of a'), ('c', 1, 'of c')")
}

func TestOddValuesBetweenEngines(t *testing.T) {
	t.Parallel()
	records := map[string]string{}
	for _, source := range []string{"sqlite", "postgres", "mysql"} {
		for _, target := range []string{"sqlite", "postgres", "mysql"} {
			if !inRing(source, target) {
				continue
			}
			t.Run(source+" to "+target, func(t *testing.T) {
				p := &place{t: t, dir: t.TempDir(), user: "mara"}
				from, fromDB := server(t, p, source, "source")
				to, toDB := server(t, p, target, "target")
				makeOdds(t, source, fromDB, true)
				makeOdds(t, target, toDB, false)
				p.write("catalog.yaml", oddCatalog)
				p.write("anagram.yaml", fmt.Sprintf("environments:\n  source: {connect: %q}\n  target: {connect: %q}\n", from, to))
				p.must(0, "export", "source", "--name", "p", "--as-folder")
				records[source] = string(p.read("parcels/p/records/odd.jsonl")) + string(p.read("parcels/p/records/child.jsonl"))
				assert.Equal(t, map[string]int{"new": 5}, totals(p.json(3, "match", "p", "--against", "target")))
				p.must(0, "approve", "*")
				p.must(0, "import")
				assert.Empty(t, totals(p.json(0, "match", "p", "--against", "target")))
				p.must(0, "export", "target", "--name", "back", "--as-folder")
				assert.Equal(t, records[source], string(p.read("parcels/back/records/odd.jsonl"))+string(p.read("parcels/back/records/child.jsonl")), "what arrives is what was sent, byte for byte")
			})
		}
	}
	all := sameOfAll(t, records)
	for _, want := range []string{`"early":"1066-10-14"`, `"zoned":"2026-03-29T01:30:00.5Z"`, `"whole":"9223372036854775807"`} {
		if all != "" {
			assert.Contains(t, all, want)
		}
	}
}

// What an engine holds and no other form can is named, never changed in silence.
func TestValuesThatCannotBeCarriedAreNamed(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ engine, column, value, why string }{
		{"mysql", "day date", "'0000-00-00'", `odd/x, field day: "0000-00-00" is not a date`},
		{"mysql", "span time", "'300:00:00'", "field span"},
		{"postgres", "n numeric", "'NaN'", `field n: "NaN" is not a number`},
		{"postgres", "day date", "'infinity'", `field day: "infinity" is not a date`},
		{"postgres", "day date", "'0044-03-15 BC'", "field day"},
		{"sqlite", "n INTEGER", "'seven'", `field n: "seven" is not an integer`},
	} {
		p := &place{t: t, dir: t.TempDir(), user: "mara"}
		address, db := server(t, p, c.engine, "source")
		db.SetMaxOpenConns(1)
		if c.engine == "mysql" {
			_, err := db.Exec("SET sql_mode = ''")
			require.NoError(t, err)
		}
		for _, statement := range []string{"CREATE TABLE odds (code varchar(9) PRIMARY KEY, " + c.column + ")", "INSERT INTO odds VALUES ('x', " + c.value + ")"} {
			_, err := db.Exec(statement)
			require.NoError(t, err, statement)
		}
		p.write("catalog.yaml", "types:\n  odd: {at: odds, key: [code]}\n")
		p.write("anagram.yaml", fmt.Sprintf("environments:\n  source: {connect: %q}\n", address))
		assert.Contains(t, words(p.must(0, "export", "source").out), c.why, c.value)
	}
}
