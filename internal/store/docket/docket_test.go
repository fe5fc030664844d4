package docket

import (
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/check"
	"anagram/internal/core/match"
	"anagram/internal/core/record"
)

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func value(s string) *string { return &s }

// build makes a docket with a changed finding of two fields, a new one that refers to
// another new one, and one that only the target has.
func build(t testing.TB, path string) bool {
	t.Helper()
	ctx := context.Background()
	b, err := Create(ctx, t.TempDir())
	require.NoError(t, err)
	defer b.Discard()
	for i, f := range []Finding{
		{Address: "u/A", Status: match.Changed, Fields: []Field{{Field: "x", Source: value("1"), Target: value("2")}, {Field: "y", Source: value("1")}}},
		{Address: "u/B", Status: match.New, Fields: []Field{{Field: "x", Source: value("1")}}},
		{Address: "u/C", Status: match.New, Fields: []Field{}},
		{Address: "u/D", Status: match.TargetOnly, Fields: []Field{}},
	} {
		f.Type, f.Order, f.Key = "u", string(rune('A'+i)), "[]"
		id, err := b.Finding(ctx, f)
		require.NoError(t, err)
		require.EqualValues(t, i+1, id)
	}
	text, _ := record.TextValue("C")
	key := record.NewKey([]record.Value{text}, nil)
	require.NoError(t, b.Need(ctx, Need{Holder: 2, Type: "u", Key: `["C"]`, Need: check.Need{Field: "x", Address: "u/C"}}, key))
	require.NoError(t, b.Check(ctx, 0, Check{Check: check.Check{Code: check.NotOnBothSides, Level: check.Caution, Message: "m", Mend: "n"}}))
	require.NoError(t, b.Type(ctx, Type{Name: "u", Fields: []record.Field{{Name: "x", Kind: record.Text}}, Counts: map[match.Status]int{match.New: 2}}))
	taken, err := b.Finish(ctx, path, Header{Number: 7, Target: "production"}, []byte("types:\n  u: {key: [c]}\n"), nil)
	require.NoError(t, err)
	return taken
}

func open(t *testing.T) *Docket {
	t.Helper()
	path := filepath.Join(t.TempDir(), "0007.docket")
	require.False(t, build(t, path))
	d, err := Open(context.Background(), path)
	require.NoError(t, err)
	t.Cleanup(func() { _ = d.Close() })
	return d
}

func findings(t *testing.T, d *Docket) map[string]Finding {
	t.Helper()
	out := map[string]Finding{}
	for f, err := range d.Findings(context.Background(), Filter{}) {
		require.NoError(t, err)
		out[f.Address] = f
	}
	return out
}

func TestALaterDecisionCounts(t *testing.T) {
	ctx := context.Background()
	d := open(t)
	assert.Equal(t, Undecided, findings(t, d)["u/A"].Decision)
	for _, step := range []struct {
		verdict  Verdict
		approved []string
	}{
		{Verdict{Finding: 1, Field: "y", Decision: Approved}, []string{"y"}},
		{Verdict{Finding: 1, Field: "", Decision: Approved}, []string{"x", "y"}},
		{Verdict{Finding: 1, Field: "x", Decision: Declined}, []string{"y"}},
		{Verdict{Finding: 1, Field: "", Decision: Approved}, []string{"y"}}, // what was declined stays so
		{Verdict{Finding: 1, Field: "", Decision: TargetKept}, nil},
		{Verdict{Finding: 1, Field: "", Decision: Approved}, []string{"y"}},
		{Verdict{Finding: 1, Field: "", Decision: Held}, nil},
		{Verdict{Finding: 1, Field: "x", Decision: Approved}, []string{"x"}},
	} {
		require.NoError(t, d.Decide(ctx, "jonas", "because", noon, []Verdict{step.verdict}))
		f := findings(t, d)["u/A"]
		assert.Equal(t, step.approved, f.ApprovedFields(), "%v", step.verdict)
		assert.Equal(t, len(step.approved) > 0, f.IsApproved())
	}
	f := findings(t, d)["u/A"]
	assert.Equal(t, Held, f.Decision)
	assert.Equal(t, "approved", f.Fields[0].Decision)
	assert.Equal(t, "jonas", f.DecidedBy)
	assert.Equal(t, "2026-11-23T12:00:00Z", f.DecidedAt)
	require.NoError(t, d.Decide(ctx, "jonas", "", noon, []Verdict{{Finding: 4, Field: "", Decision: Approved}}))
	assert.False(t, findings(t, d)["u/D"].IsApproved(), "what only the target has is never imported")
}

// Whatever is changed in whatever table is noticed, or has no effect.
func TestEveryAlterationIsNoticed(t *testing.T) {
	ctx := context.Background()
	full := func() *Docket {
		d := open(t)
		require.NoError(t, d.Decide(ctx, "jonas", "because", noon, []Verdict{{Finding: 1, Decision: Approved}, {Finding: 2, Field: "x", Decision: Held}}))
		run, err := d.StartRun(ctx, ImportRun, "mara", noon)
		require.NoError(t, err)
		require.NoError(t, d.SaveBackup(ctx, run, []Image{{Finding: 1, Line: "{}", ID: "7", Beside: []string{"s"}}}))
		require.NoError(t, d.ImagesKept(ctx, run))
		require.NoError(t, d.AboutToCommit(ctx, Run{Seq: run, New: 1, Changed: 0, LeftOut: 0}))
		require.NoError(t, d.EndRun(ctx, Run{Seq: run, Outcome: Imported, New: 1}, noon, []Outcome{{Finding: 2, Outcome: WasLeftOut, Why: "w", Message: "m"}}))
		_, err = d.Verify(ctx)
		require.NoError(t, err)
		return d
	}
	tables := func(d *Docket) []string {
		rows, err := d.db.Query("SELECT name FROM sqlite_schema WHERE type = 'table' AND name NOT LIKE 'sqlite%'")
		require.NoError(t, err)
		defer rows.Close()
		var out []string
		for rows.Next() {
			var name string
			require.NoError(t, rows.Scan(&name))
			out = append(out, name)
		}
		require.NoError(t, rows.Err())
		return out
	}
	for _, table := range tables(full()) {
		if table == "contents" { // told by their own sums
			continue
		}
		d := full()
		rows, err := d.db.Query("SELECT name FROM pragma_table_info(?)", table)
		require.NoError(t, err)
		var columns []string
		for rows.Next() {
			var name string
			require.NoError(t, rows.Scan(&name))
			columns = append(columns, name)
		}
		require.NoError(t, errors.Join(rows.Err(), rows.Close()))
		var n int
		require.NoError(t, d.db.QueryRow("SELECT count(*) FROM "+table).Scan(&n))
		statements := []string{"DELETE FROM " + table}
		for _, column := range columns {
			statements = append(statements, "UPDATE "+table+" SET "+column+" = CASE WHEN typeof("+column+") = 'integer' THEN "+column+" + 1 ELSE ifnull("+column+", '') || 'x' END")
		}
		if n == 0 {
			continue
		}
		for _, statement := range statements {
			d := full()
			if _, err := d.db.Exec(statement); err != nil {
				continue // the table itself does not take it
			}
			_, err := d.Verify(ctx)
			assert.ErrorContains(t, err, "altered", statement)
		}
	}
	var d *Docket
	for _, statement := range []string{
		"INSERT OR REPLACE INTO decisions SELECT seq, at, who, finding, field, 'declined', note, carried, rule FROM decisions WHERE seq = 1",
		"INSERT INTO decisions SELECT 9, at, who, finding, field, decision, note, carried, rule FROM decisions WHERE seq = 1",
	} {
		d = full()
		_, err := d.db.Exec(statement)
		require.NoError(t, err)
		_, err = d.Verify(ctx)
		assert.ErrorContains(t, err, "altered", statement)
	}
	for _, statement := range []string{"CREATE TRIGGER t AFTER INSERT ON decisions BEGIN DELETE FROM findings; END", "CREATE VIEW v AS SELECT 1", "CREATE TABLE more (x)",
		"CREATE INDEX i ON findings (title)", "DROP INDEX findings_status", "ALTER TABLE findings ADD x TEXT"} {
		d = full()
		_, err := d.db.Exec(statement)
		require.NoError(t, err)
		_, err = Open(ctx, d.Path())
		assert.ErrorContains(t, err, "it has ", statement)
	}
}

func TestWhatADocketRemembers(t *testing.T) {
	ctx := context.Background()
	d := open(t)
	assert.Equal(t, 7, d.Header.Number)
	assert.Equal(t, 2, d.Types[0].Counts[match.New])
	checks, err := d.Checks(ctx)
	require.NoError(t, err)
	assert.Equal(t, check.NotOnBothSides, checks[0][0].Code)
	run, err := d.StartRun(ctx, ImportRun, "mara", noon)
	require.NoError(t, err)
	require.NoError(t, d.SaveBackup(ctx, run, []Image{{Finding: 1, Line: "{}"}, {Finding: 2}}))
	large := record.BytesValue([]byte(strings.Repeat("old", partSize)))
	require.NoError(t, d.SaveContents(ctx, []record.Value{large, record.BytesValue(nil), record.NullValue()}))
	back, err := d.WithContent(large)
	require.NoError(t, err)
	in, err := back.Content().Open()
	require.NoError(t, err)
	read, err := io.ReadAll(in)
	require.NoError(t, err)
	assert.Equal(t, int64(3*partSize), back.Content().Size())
	assert.Len(t, read, 3*partSize)
	_, err = d.db.Exec("UPDATE contents SET data = 'x' WHERE part = 1")
	require.NoError(t, err)
	in, err = back.Content().Open()
	require.NoError(t, err)
	_, err = io.ReadAll(in)
	require.ErrorContains(t, err, "it holds something else as the attachment")
	var images string
	require.NoError(t, d.db.QueryRow("SELECT group_concat(finding || ' ' || ifnull(image, 'null'), '; ') FROM backup").Scan(&images))
	assert.Equal(t, "1 {}; 2 null", images)
	require.NoError(t, d.EndRun(ctx, Run{Seq: run, Outcome: "imported", New: 1, LeftOut: 1}, noon, []Outcome{{Finding: 2, Outcome: "left-out", Why: "w", Message: "m"}}))
	runs, err := d.Runs(ctx)
	require.NoError(t, err)
	assert.Equal(t, []Run{{Seq: 1, Kind: "import", Who: "mara", StartedAt: "2026-11-23T12:00:00Z", EndedAt: "2026-11-23T12:00:00Z", Outcome: "imported", New: 1, LeftOut: 1}}, runs)
	left, err := d.Outcomes(ctx, run, "left-out")
	require.NoError(t, err)
	assert.Equal(t, []Outcome{{Finding: 2, Outcome: "left-out", Why: "w", Message: "m"}}, left)
}

func TestFilesThatAreNoDockets(t *testing.T) {
	ctx := context.Background()
	dir := t.TempDir()
	path := filepath.Join(dir, "0001.docket")
	_, err := Open(ctx, path)
	assert.ErrorContains(t, err, "no such docket")
	require.NoError(t, os.WriteFile(path, []byte("this is text, and long enough to be looked at as a database file, is it not; well, one more line then, to be sure of that"), 0o600))
	_, err = Open(ctx, path)
	assert.ErrorContains(t, err, "not a docket")
	d := open(t)
	_, err = d.db.Exec("PRAGMA user_version = 99")
	require.NoError(t, err)
	_, err = Open(ctx, d.Path())
	assert.ErrorContains(t, err, "version 99")
	assert.True(t, build(t, d.Path()), "a docket's place is never taken twice")
}
