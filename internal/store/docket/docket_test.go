package docket_test

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
	"anagram/internal/core/decision"
	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/build"
	"anagram/internal/store/docket/form"
	"anagram/internal/store/docket/run"
	"anagram/internal/tests"
)

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func value(s string) *string { return &s }

// build makes a docket with a changed finding of two fields, a new one that refers to
// another new one, and one that only the target has.
func made(t testing.TB, path string) bool {
	t.Helper()
	ctx := context.Background()
	b, err := build.Create(ctx, t.TempDir())
	require.NoError(t, err)
	defer b.Discard()
	for i, f := range []docket.Finding{
		{Address: "u/A", Status: match.Changed, Fields: []docket.Field{{Field: "x", Source: value("1"), Target: value("2")},
			{Field: "y", Source: value("1")}}},
		{Address: "u/B", Status: match.New, Fields: []docket.Field{{Field: "x", Source: value("1")}}},
		{Address: "u/C", Status: match.New, Fields: []docket.Field{}},
		{Address: "u/D", Status: match.TargetOnly, Fields: []docket.Field{}},
	} {
		f.Type, f.Order, f.Key = "u", string(rune('A'+i)), "[]"
		id, err := b.Finding(ctx, f)
		require.NoError(t, err)
		require.EqualValues(t, i+1, id)
	}
	text, _ := record.TextValue("C")
	key := record.NewKey([]record.Value{text}, nil)
	require.NoError(t, b.Need(ctx, docket.Need{Holder: 2, Type: "u", Key: `["C"]`, Need: check.Need{Field: "x", Address: "u/C"}}, key))
	require.NoError(t, b.Check(ctx, 0, check.On{Check: check.Check{Code: check.NotOnBothSides, Level: check.Caution,
		Message: "m", Mend: "n"}}))
	require.NoError(t, b.Type(ctx, docket.Type{Name: "u", Fields: []record.Field{{Name: "x", Kind: record.Text}},
		Counts: map[match.Status]int{match.New: 2}}))
	taken, err := b.Finish(ctx, path, docket.Header{Number: 7, Target: "production"}, []byte("types:\n  u: {key: [c]}\n"), nil)
	require.NoError(t, err)
	return taken
}

func open(t *testing.T) *docket.Docket {
	t.Helper()
	path := filepath.Join(t.TempDir(), "0007.docket")
	require.False(t, made(t, path))
	d, err := docket.Open(context.Background(), path)
	require.NoError(t, err)
	t.Cleanup(func() { _ = d.Close() })
	return d
}

func findings(t *testing.T, d *docket.Docket) map[string]docket.Finding {
	t.Helper()
	out := map[string]docket.Finding{}
	for f, err := range d.Found.Findings(context.Background(), docket.Filter{}) {
		require.NoError(t, err)
		out[f.Address] = f
	}
	return out
}

func TestALaterDecisionCounts(t *testing.T) {
	ctx := context.Background()
	d := open(t)
	assert.Equal(t, decision.Undecided, findings(t, d)["u/A"].Decision)
	for _, step := range []struct {
		verdict  docket.Verdict
		approved []string
	}{
		{docket.Verdict{Finding: 1, Field: "y", Decision: decision.Approved}, []string{"y"}},
		{docket.Verdict{Finding: 1, Field: "", Decision: decision.Approved}, []string{"x", "y"}},
		{docket.Verdict{Finding: 1, Field: "x", Decision: decision.Declined}, []string{"y"}},
		{docket.Verdict{Finding: 1, Field: "", Decision: decision.Approved}, []string{"y"}}, // what was declined stays so
		{docket.Verdict{Finding: 1, Field: "", Decision: decision.TargetKept}, nil},
		{docket.Verdict{Finding: 1, Field: "", Decision: decision.Approved}, []string{"y"}},
		{docket.Verdict{Finding: 1, Field: "", Decision: decision.Held}, nil},
		{docket.Verdict{Finding: 1, Field: "x", Decision: decision.Approved}, []string{"x"}},
	} {
		require.NoError(t, d.Decide(ctx, "jonas", "because", noon, []docket.Verdict{step.verdict}))
		f := findings(t, d)["u/A"]
		assert.Equal(t, step.approved, f.ApprovedFields(), "%v", step.verdict)
		assert.Equal(t, len(step.approved) > 0, f.IsApproved())
	}
	f := findings(t, d)["u/A"]
	assert.Equal(t, decision.Held, f.Decision)
	assert.Equal(t, "approved", f.Fields[0].Decision)
	assert.Equal(t, "jonas", f.DecidedBy)
	assert.Equal(t, "2026-11-23T12:00:00Z", f.DecidedAt)
	require.NoError(t, d.Decide(ctx, "jonas", "", noon, []docket.Verdict{{Finding: 4, Field: "", Decision: decision.Approved}}))
	assert.False(t, findings(t, d)["u/D"].IsApproved(), "what only the target has is never imported")
}

// Whatever is changed in whatever table is noticed, or has no effect.
func TestEveryAlterationIsNoticed(t *testing.T) {
	ctx := context.Background()
	full := func() *docket.Docket {
		d := open(t)
		require.NoError(t, d.Decide(ctx, "jonas", "because", noon, []docket.Verdict{{Finding: 1, Decision: decision.Approved},
			{Finding: 2, Field: "x", Decision: decision.Held}}))
		seq, err := run.Start(ctx, d, run.ImportRun, "mara", noon)
		require.NoError(t, err)
		require.NoError(t, run.SaveImages(ctx, d, seq, []run.Image{{Finding: 1, Line: "{}", ID: "7", Kept: record.Kept{Sums: []string{"s"}}}}))
		require.NoError(t, run.ImagesKept(ctx, d, seq))
		require.NoError(t, run.AboutToCommit(ctx, d, run.Run{Seq: seq, New: 1, Changed: 0, LeftOut: 0}))
		require.NoError(t, run.End(ctx, d, run.Run{Seq: seq, Outcome: run.Imported, New: 1}, noon, []run.Outcome{{Finding: 2,
			Outcome: run.WasLeftOut, Why: "w", Message: "m"}}))
		_, err = d.Verify(ctx)
		require.NoError(t, err)
		return d
	}
	tables := func(d *docket.Docket) []string {
		rows, err := d.DB().Query("SELECT name FROM sqlite_schema WHERE type = 'table' AND name NOT LIKE 'sqlite%'")
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
		rows, err := d.DB().Query("SELECT name FROM pragma_table_info(?)", table)
		require.NoError(t, err)
		var columns []string
		for rows.Next() {
			var name string
			require.NoError(t, rows.Scan(&name))
			columns = append(columns, name)
		}
		require.NoError(t, errors.Join(rows.Err(), rows.Close()))
		var n int
		require.NoError(t, d.DB().QueryRow("SELECT count(*) FROM "+table).Scan(&n))
		statements := []string{"DELETE FROM " + table}
		for _, column := range columns {
			statements = append(statements,
				"UPDATE "+table+" SET "+column+" = CASE WHEN typeof("+column+") = 'integer' THEN "+column+" + 1 ELSE ifnull("+column+", '') || 'x' END")
		}
		if n == 0 {
			continue
		}
		for i, statement := range statements {
			if !tests.Thorough() && i%4 != len(table)%4 {
				continue
			}
			d := full()
			if _, err := d.DB().Exec(statement); err != nil {
				continue // the table itself does not take it
			}
			_, err := d.Verify(ctx)
			assert.ErrorContains(t, err, "altered", statement)
		}
	}
	var d *docket.Docket
	for _, statement := range []string{
		"INSERT OR REPLACE INTO decisions SELECT seq, at, who, finding, field, 'declined', note, carried, rule, more FROM decisions WHERE seq = 1",
		"INSERT INTO decisions SELECT 9, at, who, finding, field, decision, note, carried, rule, more FROM decisions WHERE seq = 1",
	} {
		d = full()
		_, err := d.DB().Exec(statement)
		require.NoError(t, err)
		_, err = d.Verify(ctx)
		assert.ErrorContains(t, err, "altered", statement)
	}
	for _, statement := range []string{"CREATE TRIGGER t AFTER INSERT ON decisions BEGIN DELETE FROM findings; END",
		"CREATE VIEW v AS SELECT 1", "CREATE TABLE more (x)",
		"CREATE INDEX i ON findings (title)", "DROP INDEX findings_status", "ALTER TABLE findings ADD x TEXT"} {
		d = full()
		_, err := d.DB().Exec(statement)
		require.NoError(t, err)
		_, err = docket.Open(ctx, d.Path())
		assert.ErrorContains(t, err, "it has ", statement)
	}
}

func TestWhatADocketRemembers(t *testing.T) {
	ctx := context.Background()
	d := open(t)
	assert.Equal(t, 7, d.Header.Number)
	assert.Equal(t, 2, d.Types[0].Counts[match.New])
	checks, err := d.Found.Checks(ctx)
	require.NoError(t, err)
	assert.Equal(t, check.NotOnBothSides, checks[0][0].Code)
	seq, err := run.Start(ctx, d, run.ImportRun, "mara", noon)
	require.NoError(t, err)
	require.NoError(t, run.SaveImages(ctx, d, seq, []run.Image{{Finding: 1, Line: "{}"}, {Finding: 2}}))
	large := record.BytesValue([]byte(strings.Repeat("old", form.PartSize)))
	require.NoError(t, d.SaveContents(ctx, []record.Value{large, record.BytesValue(nil), record.NullValue()}))
	back, err := d.Found.WithContent(large)
	require.NoError(t, err)
	in, err := back.Content().Open()
	require.NoError(t, err)
	read, err := io.ReadAll(in)
	require.NoError(t, err)
	assert.Equal(t, int64(3*form.PartSize), back.Content().Size())
	assert.Len(t, read, 3*form.PartSize)
	_, err = d.DB().Exec("UPDATE contents SET data = 'x' WHERE part = 1")
	require.NoError(t, err)
	in, err = back.Content().Open()
	require.NoError(t, err)
	_, err = io.ReadAll(in)
	require.ErrorContains(t, err, "it holds something else as the attachment")
	var images string
	require.NoError(t, d.DB().QueryRow("SELECT group_concat(finding || ' ' || ifnull(image, 'null'), '; ') FROM backup").Scan(&images))
	assert.Equal(t, "1 {}; 2 null", images)
	require.NoError(t, run.End(ctx, d, run.Run{Seq: seq, Outcome: "imported", New: 1, LeftOut: 1}, noon,
		[]run.Outcome{{Finding: 2, Outcome: "left-out", Why: "w", Message: "m"}}))
	runs, err := run.List(ctx, d)
	require.NoError(t, err)
	assert.Equal(t, []run.Run{{Seq: 1, Kind: "import", Who: "mara", StartedAt: "2026-11-23T12:00:00Z",
		EndedAt: "2026-11-23T12:00:00Z", Outcome: "imported", New: 1, LeftOut: 1}}, runs)
	left, err := run.Outcomes(ctx, d, seq, "left-out")
	require.NoError(t, err)
	assert.Equal(t, []run.Outcome{{Finding: 2, Outcome: "left-out", Why: "w", Message: "m"}}, left)
}

func TestFilesThatAreNoDockets(t *testing.T) {
	ctx := context.Background()
	dir := t.TempDir()
	path := filepath.Join(dir, "0001.docket")
	_, err := docket.Open(ctx, path)
	assert.ErrorContains(t, err, "no such docket")
	require.NoError(t, os.WriteFile(path,
		[]byte("this is text, and long enough to be looked at as a database file, is it not; well, one more line then, to be sure of that"), 0o600))
	_, err = docket.Open(ctx, path)
	assert.ErrorContains(t, err, "not a docket")
	d := open(t)
	_, err = d.DB().Exec("PRAGMA user_version = 99")
	require.NoError(t, err)
	_, err = docket.Open(ctx, d.Path())
	assert.ErrorContains(t, err, "version 99")
	assert.True(t, made(t, d.Path()), "a docket's place is never taken twice")
}
