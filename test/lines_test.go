package test

import (
	"archive/zip"
	"fmt"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const linesCatalog = `types:
  unit: {at: units, key: [code], id: id}
  assay: {at: assays, key: [code], id: id, refers: {unit_id: unit}, stamp: {at: changed_at, by: changed_by}}
  range: {at: ranges, key: [assay_id, no], refers: {assay_id: assay}, part_of: assay}
  link: {at: links, key: [code], refers: {assay_id: assay, unit_id: unit}}
`

func linesData(n int) string {
	series := fmt.Sprintf("(WITH RECURSIVE s(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM s WHERE i < %d) SELECT i FROM s) s", n)
	return "CREATE TABLE units (id INTEGER PRIMARY KEY, code VARCHAR(9) UNIQUE, name VARCHAR(40)); CREATE TABLE assays (id INTEGER PRIMARY KEY, code VARCHAR(20) UNIQUE, unit_id INTEGER REFERENCES units (id), name VARCHAR(80), price DECIMAL(9,2), active BOOLEAN, changed_at TIMESTAMP, changed_by VARCHAR(9));" +
		"CREATE TABLE ranges (assay_id INTEGER REFERENCES assays (id), no INTEGER, note VARCHAR(40), PRIMARY KEY (assay_id, no)); CREATE TABLE links (code VARCHAR(20) PRIMARY KEY, assay_id INTEGER, unit_id INTEGER);" +
		"INSERT INTO units VALUES (1, 'g', 'gram'), (2, 'µl', NULL), (3, 'none', 'of use');" +
		"INSERT INTO assays SELECT i, 'A' || (i * 7919 % 1000003), CASE WHEN i % 5 > 0 THEN 1 + i % 2 END, 'it''s \"' || i || '\" Ä', i / 4.0, i % 2 = 0, '2026-01-' || (10 + i % 18) || ' 03:04:05', 'mara' FROM " + series + ";" +
		"INSERT INTO ranges SELECT i, i % 3, 'note ' || i FROM " + series + " WHERE i % 4 = 0; INSERT INTO links SELECT 'L' || i, i, 3 FROM " + series + " WHERE i % 10 = 0"
}

// recordsOf gives the records that a parcel holds, file by file.
func recordsOf(p *place, name string) map[string]string {
	p.t.Helper()
	z, err := zip.OpenReader(p.path("parcels/" + name + ".parcel"))
	require.NoError(p.t, err)
	defer z.Close()
	out := map[string]string{}
	for _, f := range z.File {
		if !strings.HasSuffix(f.Name, ".jsonl") {
			continue
		}
		in, err := f.Open()
		require.NoError(p.t, err)
		text, err := io.ReadAll(in)
		require.NoError(p.t, err)
		require.NoError(p.t, in.Close())
		out[f.Name] = string(text)
	}
	return out
}

// What is read by lines and what is read by values makes the same parcel, whatever of it is
// asked for, and so does what is picked one by one and what is picked in very large numbers.
func TestTheSameParcelFromEveryEngine(t *testing.T) {
	t.Parallel()
	inGate(t, "every engine")
	n := full(3_000, 50_000) // in the long run more than is picked in memory
	p := newPlace(t, linesCatalog, linesData(n), "CREATE TABLE units (id INTEGER PRIMARY KEY)")
	config := "environments:\n  source: {connect: \"sqlite:source.db\"}\n"
	for _, engine := range []string{"postgres", "mysql"} {
		url, db := server(t, p, engine, "source")
		db.SetMaxOpenConns(1)
		data := strings.Replace(strings.Replace(linesData(n), "i % 2 = 0, '2026", "i % 2 = 0, CAST('2026", 1), "' 03:04:05'", "' 03:04:05' AS TIMESTAMP)", 1)
		if engine == "mysql" {
			data = "SET SESSION sql_mode = 'PIPES_AS_CONCAT', max_recursive_iterations = 1000000;" + strings.ReplaceAll(data, "TIMESTAMP", "DATETIME")
		}
		for statement := range strings.SplitSeq(data, ";") {
			_, err := db.Exec(statement)
			require.NoError(t, err, statement)
		}
		config += fmt.Sprintf("  %s: {connect: %q}\n", engine, url)
	}
	p.write("anagram.yaml", config)
	for i, args := range [][]string{{}, {"--type", "assay"}, {"--type", "link"}, {"--where", "assay: active"}, {"--where", "assay: price < 100"}, {"--where", "assay: active", "--leave-out", "range/*/0"}, {"--type", "assay", "--leave-out", "unit/g"},
		{"--record", "assay/A7919"}, {"--type", "link", "--related", "none"}} {
		var first map[string]string
		for _, engine := range []string{"source", "postgres", "mysql"} {
			name := fmt.Sprintf("%s%d", engine, i)
			p.must(0, append([]string{"export", engine, "--name", name}, args...)...)
			records := recordsOf(p, name)
			if first == nil {
				first = records
				require.NotEmpty(t, first)
				continue
			}
			require.Len(t, records, len(first), "%s %v", engine, args)
			for file, text := range first {
				assert.Equal(t, len(text), len(records[file]), "%s of %s %v", file, engine, args)
				assert.True(t, text == records[file], "%s of %s %v is other", file, engine, args)
			}
		}
	}
}
