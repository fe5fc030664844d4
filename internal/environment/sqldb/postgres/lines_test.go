package postgres_test

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/environment/conformance"
	"anagram/internal/environment/sqldb/postgres"
)

const linesCatalog = `
types:
  unit: {at: units, key: [code], id: id, fold_case: [code]}
  site: {at: sites, key: [code], id: id}
  assay: {at: assays, key: [code], id: id, refers: {unit_id: unit, old_unit: {to: unit, none: [0]}, site: {to: site, by: key}, other_id: {to: unit, none: ["-1"]}}, stamp: {at: changed_at, by: changed_by}, as: {word: boolean J/N}}
  range: {at: ranges, key: [assay_id, no, day], refers: {assay_id: assay}, part_of: assay}
  deep: {at: deeps, key: [range_id], refers: {range_id: assay}}
  tree: {at: trees, key: [parent_id, code], id: id, refers: {parent_id: tree}}
  text_id: {at: text_ids, key: [code], id: id}
  heir: {at: parents, key: [code], id: id}
  of_heir: {at: of_heirs, key: [n], refers: {to_id: heir}}
  by_text: {at: by_texts, key: [n], refers: {to_id: text_id}}
`

var linesStatements = []string{
	`CREATE TYPE mood AS ENUM ('good', 'it''s bad')`,
	`CREATE TABLE units (id BIGINT PRIMARY KEY, code TEXT UNIQUE)`,
	`CREATE TABLE sites (id INT PRIMARY KEY, code VARCHAR(20) UNIQUE)`,
	`CREATE TABLE assays (id INT PRIMARY KEY, code TEXT UNIQUE, unit_id INT REFERENCES units (id), old_unit INT, site TEXT, other_id BIGINT, name TEXT, n BIGINT, d NUMERIC, f DOUBLE PRECISION, b BOOLEAN, word CHAR(1), day DATE, at TIMESTAMP, tz TIMESTAMPTZ, t TIME,
		j JSONB, list INT[], u UUID, m MOOD, pad CHAR(6), "odd ""name" TEXT, changed_at TIMESTAMPTZ, changed_by TEXT)`,
	`CREATE TABLE ranges (assay_id INT REFERENCES assays (id), no INT, day DATE, note TEXT)`,
	`CREATE TABLE deeps (range_id INT)`,
	`CREATE TABLE trees (id INT PRIMARY KEY, parent_id INT REFERENCES trees (id), code TEXT)`,
	`CREATE TABLE text_ids (id TEXT PRIMARY KEY, code TEXT)`,
	`CREATE TABLE by_texts (n INT, to_id TEXT)`,
	`INSERT INTO units VALUES (1, 'Kg'), (2, 'ML '), (9007199254740993, E'\xc3\x84'), (4, E'o\u0308'), (5, NULL)`,
	`INSERT INTO sites VALUES (1, 'N'), (2, 'Süd "x"')`,
	`INSERT INTO assays (id, code, unit_id, old_unit, site, other_id, name, n, d, f, b, word, day, at, tz, t, j, list, u, m, pad, "odd ""name", changed_at, changed_by) VALUES
		(1, 'A', 1, 0, 'N', -1, E'tab\there\nline\\back "quote" \x01', 9223372036854775807, 12.500, 1e20, true, 'J', '2024-02-29', '2026-01-02 03:04:05.120', '2026-01-02 03:04:05.5+02', '07:08:09.25', '{"b": 1, "a": [1.0, "x"]}', '{1,NULL,3}', 'A0EEBC99-9C0B-4EF8-BB6D-6BB9BD380A11', 'it''s bad', 'ab', 'o', '2026-01-02 03:04:05+00', 'mara'),
		(2, E'ü\\\t', 2, 2, 'Süd "x"', 4, '', -1, -0.50, -0.0, false, 'N', '0001-01-01', '9999-12-31 23:59:59', '2026-01-31 00:00:00+00', '00:00:00', 'null', '{}', NULL, 'good', '', E'\\N', '2026-01-02 03:04:05.123456+00', E'jo\tnas'),
		(3, '', NULL, NULL, NULL, NULL, E'\\N', 0, 0, 0.1, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL),
		(4, NULL, 4, 1, 'N', 1, 'ok', 1000000000000000, 100, 3, true, 'J', '2026-12-31', '2026-12-31 00:00:00', '2026-12-31 00:00:00+00', '12:00', '[]', '{5}', NULL, NULL, 'x     ', 'y', NULL, 'x'),
		(5, '007', 5, 5, 'N', 9007199254740993, 'ok', 1, 0.001, 3, true, 'J', NULL, NULL, NULL, NULL, '"x"', NULL, NULL, NULL, NULL, NULL, NULL, '')`,
	`INSERT INTO ranges VALUES (1, 1, '2026-01-01', 'a'), (2, NULL, NULL, NULL), (4, -5, '2026-02-28', ''), (NULL, 1, NULL, 'x')`,
	`INSERT INTO deeps VALUES (1), (3), (NULL)`,
	`INSERT INTO trees VALUES (1, NULL, 'r'), (2, 1, 'l')`,
	`INSERT INTO text_ids VALUES ('a', 'one'), ('A', 'two')`,
	`CREATE TABLE parents (id INT PRIMARY KEY, code TEXT)`, `CREATE TABLE children () INHERITS (parents)`, `CREATE TABLE of_heirs (n INT, to_id INT)`,
	`INSERT INTO parents VALUES (1, 'p')`, `INSERT INTO children VALUES (1, 'c'), (2, 'd')`, `INSERT INTO of_heirs VALUES (1, 1), (2, 2)`,
	`INSERT INTO by_texts VALUES (1, 'a'), (2, 'A'), (3, NULL)`,
}

// What is read by lines is what is read by values, and what is wrong is said in the same words.
func TestLinesAreWhatValuesWouldBe(t *testing.T) {
	t.Parallel()
	url, db := conformance.Postgres(t)
	ctx := context.Background()
	for _, statement := range linesStatements {
		_, err := db.Exec(statement)
		require.NoError(t, err, statement)
	}
	read := func() map[string][2][]string {
		env, err := postgres.Open(ctx, "source", url, postgres.Options{ReadOnly: true})
		require.NoError(t, err)
		defer env.Close()
		about, err := env.Describe(ctx)
		require.NoError(t, err)
		c, err := catalog.Parse("lines", []byte(linesCatalog))
		require.NoError(t, err)
		fit := c.Fits("source", about.Places, nil)
		require.Empty(t, fit.Problems)
		m := &environment.Model{Environment: "source", Catalog: c, Shapes: fit.Shapes}
		out := map[string][2][]string{}
		for _, of := range c.Types {
			var both [2][]string
			for i, lines := range []bool{false, true} {
				for rec, err := range env.Read(ctx, m, environment.Reading{Type: of.Name, Fields: fit.Fields[of.Name], Lines: lines}) {
					if err != nil {
						both[i] = append(both[i], err.Error())
						continue
					}
					line := rec.Line
					if rec.Load == nil {
						line = record.AppendLine(nil, fit.Fields[of.Name], record.Record{Key: rec.Key, Values: rec.Values})
						unreadable := record.AnyUnreadable(line) // those alone are read the long way
						assert.False(t, !unreadable && lines && slices.Contains([]string{"unit", "site", "assay", "range", "deep"}, of.Name), "%s was read the long way", of.Name)
					}
					both[i] = append(both[i], fmt.Sprintf("%q %s %q %q %q", rec.Key.Order(), line, rec.ID, rec.ChangedAt, rec.ChangedBy))
				}
				slices.Sort(both[i])
			}
			out[of.Name] = both
		}
		return out
	}
	for typ, both := range read() {
		assert.NotEmpty(t, both[0], typ)
		assert.Equal(t, both[0], both[1], typ)
	}
	for _, wrong := range []string{`UPDATE assays SET d = 'NaN' WHERE id = 2`, `UPDATE assays SET d = 1, old_unit = 77 WHERE id = 2`, `UPDATE assays SET old_unit = 1, word = 'x' WHERE id = 2`, `UPDATE assays SET word = 'J', day = 'infinity' WHERE id = 1`,
		`UPDATE assays SET day = '0044-03-15 BC' WHERE id = 1`, `UPDATE assays SET day = NULL, f = 'Infinity' WHERE id = 1`} {
		_, err := db.Exec(wrong)
		require.NoError(t, err)
		both := read()["assay"]
		assert.Equal(t, both[0], both[1], wrong)
		assert.Contains(t, strings.Join(both[0], "\n"), `"unreadable":{`, wrong)
	}
}
