package docket_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/decision"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/form"
	"anagram/internal/store/docket/run"
)

// Everybody's word is kept with what it overrules, and comes back as it was said; whoever alters
// what stands beside it is found out.
func TestWordsComeBackAsTheyWereSaid(t *testing.T) {
	d := open(t)
	ctx := t.Context()
	say := func(who, note string, at time.Time, v docket.Verdict) {
		v.Finding = 1
		require.NoError(t, d.Decide(ctx, who, note, at, []docket.Verdict{v}))
	}
	say("ida", "no", noon, docket.Verdict{Decision: decision.Declined})
	say("mara", "yes", noon.Add(time.Second), docket.Verdict{Decision: decision.Approved, Overrules: true})
	f := findings(t, d)["u/A"]
	assert.Equal(t, decision.Approved, f.Decision)
	assert.Equal(t, []decision.Overruled{{Who: "ida", By: "mara", At: run.Stamp(noon.Add(time.Second))}}, f.Overruled)
	log, err := d.Log(ctx)
	require.NoError(t, err)
	assert.True(t, log[1].Overrules)
	_, err = d.Verify(ctx)
	require.NoError(t, err)

	require.NoError(t, d.Comment(ctx, "", noon, []docket.Comment{{At: run.Stamp(noon), Who: "mara", Finding: 1, Text: "?", To: "ida"},
		{At: run.Stamp(noon), Who: "mara", Finding: 1, Text: "withdrawn", Withdraws: true}}))
	said, err := d.Comments(ctx)
	require.NoError(t, err)
	assert.Equal(t, "ida", said[0].To)
	assert.True(t, said[1].Withdraws)
	_, err = d.Verify(ctx)
	require.NoError(t, err)
	for statement, why := range map[string]string{
		`UPDATE decisions SET more = '{}' WHERE seq = 2`:                         "decision 2 is not as its log says",
		`UPDATE decisions SET more = '{"x":1}' WHERE seq = 1`:                    "a decision holds more than was written",
		`UPDATE comments SET more = '{"to":"otto"}' WHERE seq = 1`:               "its comments are not as its log says",
		`UPDATE comments SET more = '{"to":"ida","y":1}' WHERE seq = 1`:          "more than was written",
		`UPDATE comments SET more = 'none' WHERE seq = 1`:                        "more than was written",
		`UPDATE comments SET more = '{"to":"ida"}' WHERE seq = 2`:                "its comments are not as its log says",
		`UPDATE decisions SET more = '{"overrules":true}', rule = 0 WHERE seq=1`: "decision 1 is not as its log says",
	} {
		tx, err := d.DB().BeginTx(ctx, nil)
		require.NoError(t, err)
		_, err = tx.Exec(statement)
		require.NoError(t, err)
		require.NoError(t, tx.Commit())
		_, err = d.Verify(ctx)
		require.ErrorContains(t, err, why, statement)
		_, err = d.DB().ExecContext(ctx, `UPDATE decisions SET more = iif(seq = 2, '{"overrules":true}', '{}'); UPDATE comments SET more = iif(seq = 1, '{"to":"ida"}', '{"withdraws":true}')`)
		require.NoError(t, err)
	}
	_, err = d.Verify(ctx)
	require.NoError(t, err)
	assert.Equal(t, "0", form.Overrules(6))
	assert.Equal(t, "'{}'", form.More(6))
}

// What an import wrote is used up as far as it was approved by then.
func TestWhatAnImportUsedUp(t *testing.T) {
	d := open(t)
	ctx := t.Context()
	approve := func(finding int64) {
		require.NoError(t, d.Decide(ctx, "mara", "", noon, []docket.Verdict{{Finding: finding, Decision: decision.Approved}}))
	}
	approve(1)
	approve(2)
	seq, err := run.Start(ctx, d, run.ImportRun, "mara", noon)
	require.NoError(t, err)
	require.NoError(t, run.End(ctx, d, run.Run{Seq: seq, Outcome: run.Imported, New: 1}, noon, []run.Outcome{{Finding: 1, Outcome: run.WasWritten},
		{Finding: 2, Outcome: run.WasLeftOut}}))
	approve(1)
	used, err := run.Used(ctx, d)
	require.NoError(t, err)
	assert.Equal(t, map[int64]int64{1: 2}, used, "the two decisions before the end; what was left out is not used")
	seq, err = run.Start(ctx, d, run.RehearsalRun, "mara", noon)
	require.NoError(t, err)
	require.NoError(t, run.End(ctx, d, run.Run{Seq: seq, Outcome: run.Rehearsed, New: 1}, noon, []run.Outcome{{Finding: 1, Outcome: run.WasWritten}}))
	used, err = run.Used(ctx, d)
	require.NoError(t, err)
	assert.Equal(t, map[int64]int64{1: 2}, used, "a rehearsal uses up nothing")
}

// A docket that an earlier version made stands as it stood then: by the last word of its log.
func TestAnEarlierDocketStandsAsItDid(t *testing.T) {
	whole, err := os.ReadFile("../../../test/testdata/earlier/0.1/dockets/0001.docket")
	require.NoError(t, err)
	path := filepath.Join(t.TempDir(), "0001.docket")
	require.NoError(t, os.WriteFile(path, whole, 0o600))
	d, err := docket.Open(t.Context(), path)
	require.NoError(t, err)
	defer d.Close()
	_, err = d.Verify(t.Context())
	require.NoError(t, err)
	log, err := d.Log(t.Context())
	require.NoError(t, err)
	last := map[int64]decision.Decision{}
	for _, e := range log {
		if e.Field == "" {
			last[e.Finding] = e.Decision
		}
	}
	require.NotEmpty(t, last)
	for f, err := range d.Found.Decided(t.Context()) {
		require.NoError(t, err)
		if want, said := last[f.ID]; said {
			assert.Equal(t, want, f.Decision, f.Address)
		}
		assert.Empty(t, f.Said(), "nobody's word is told apart in it")
	}
	_, err = d.Comments(t.Context())
	require.NoError(t, err)
}
