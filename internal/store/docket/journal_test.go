package docket_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/decision"
	"anagram/internal/core/record"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/run"
)

// The journal stands in the chain; what was made by a run is what its links say.
func TestTheJournalOfARun(t *testing.T) {
	ctx := context.Background()
	d := open(t)
	seq, err := run.Start(ctx, d, run.ImportRun, "mara", noon)
	require.NoError(t, err)
	require.NoError(t, run.Planned(ctx, d, run.Plan{Run: seq, Write: []int64{1, 2, 3}, Left: []run.Outcome{{Finding: 4,
		Why: "w", Message: "m"}}}))
	whole, refused := run.Step{Finding: 1, Pass: "whole"}, run.Step{Finding: 2, Pass: "whole"}
	require.NoError(t, run.Journal(ctx, d, seq, whole, run.StepBegun, ""))
	require.NoError(t, run.Journal(ctx, d, seq, whole, run.StepDone, ""))
	require.NoError(t, run.JournalMade(ctx, d, seq, run.After{Finding: 1, Sum: "s", ID: "7"}))
	require.NoError(t, run.Journal(ctx, d, seq, refused, run.StepBegun, ""))
	require.NoError(t, run.Journal(ctx, d, seq, refused, run.StepRefused, "too long"))
	require.NoError(t, run.JournalAll(ctx, d, seq, []run.Step{{Finding: 3, Pass: "whole"}}, run.StepBegun))
	require.NoError(t, run.JournalAll(ctx, d, seq, nil, run.StepDone))
	p, err := run.ProgressOf(ctx, d, seq)
	require.NoError(t, err)
	assert.Equal(t, map[run.Step]string{whole: run.StepDone, refused: run.StepRefused, {Finding: 3, Pass: "whole"}: run.StepBegun}, p.State)
	assert.Equal(t, "too long", p.Why[refused])
	assert.Equal(t, int64(3), p.Last)
	assert.Equal(t, "m", p.Plan.Left[0].Message)
	written, planned := p.Counts()
	assert.Equal(t, [2]int{2, 3}, [2]int{written, planned})
	none, err := run.ProgressOf(ctx, d, seq+1)
	require.NoError(t, err)
	assert.Empty(t, none.State)
	afters, err := run.Afters(ctx, d, seq)
	require.NoError(t, err)
	assert.Equal(t, map[int64]run.After{1: {Finding: 1, Sum: "s", ID: "7"}}, afters)

	runs, err := run.List(ctx, d)
	require.NoError(t, err)
	last, open := run.LastUnfinished(runs)
	assert.True(t, open && last.Journaled && !last.Unsettled())
	_, err = d.Verify(ctx)
	require.NoError(t, err)
	require.NoError(t, run.End(ctx, d, run.Run{Seq: seq, Outcome: run.Interrupted}, noon, nil))
	runs, err = run.List(ctx, d)
	require.NoError(t, err)
	_, open = run.LastUnfinished(runs)
	assert.True(t, open, "it can be gone on with")
	require.NoError(t, run.End(ctx, d, run.Run{Seq: seq, Outcome: run.Imported}, noon, nil))
	runs, err = run.List(ctx, d)
	require.NoError(t, err)
	_, open = run.LastUnfinished(runs)
	assert.False(t, open)
	_, open = run.LastUnfinished(nil)
	assert.False(t, open)

	for _, statement := range []string{"UPDATE afters SET sum = 'other'", "DELETE FROM afters", "UPDATE runs SET journaled = 0"} {
		_, err = d.DB().Exec(statement)
		require.NoError(t, err)
		_, err = d.Verify(ctx)
		require.ErrorContains(t, err, "the docket was altered", statement)
		_, err = d.DB().Exec("DELETE FROM afters; INSERT INTO afters VALUES (1, 1, 's', '7'); UPDATE runs SET journaled = 1")
		require.NoError(t, err)
	}
	order, err := d.Order(ctx)
	require.NoError(t, err)
	assert.Equal(t, []docket.Happened{{"run", 1}}, order)
}

// What a transaction read back of new records is sealed before it is made lasting.
func TestWhatWasReadBackIsSealed(t *testing.T) {
	ctx := context.Background()
	d := open(t)
	seq, err := run.Start(ctx, d, run.ImportRun, "mara", noon)
	require.NoError(t, err)
	require.NoError(t, run.SaveImages(ctx, d, seq, []run.Image{{Finding: 1, Line: "{}", Writes: []string{"a"},
		Kept: record.Kept{Stored: map[string]record.Stored{"a": {Kind: "text", Text: "x"}}}}, {Finding: 2}}))
	require.NoError(t, run.ImagesKept(ctx, d, seq))
	ids, err := run.ImageIDs(ctx, d, seq)
	require.NoError(t, err)
	assert.Equal(t, []int64{1, 2}, ids)
	images, err := run.Images(ctx, d, seq, ids)
	require.NoError(t, err)
	assert.Equal(t, record.Stored{Kind: "text", Text: "x"}, images[1].Stored["a"])
	assert.Equal(t, []string{"a"}, images[1].Writes)
	require.NoError(t, run.SaveAfters(ctx, d, seq, []run.After{{Finding: 2, Sum: "sum", ID: "9"}}))
	require.NoError(t, run.AboutToCommit(ctx, d, run.Run{Seq: seq, New: 1, Removed: 2}))
	require.NoError(t, run.End(ctx, d, run.Run{Seq: seq, Outcome: run.Imported, New: 1, Removed: 2}, noon,
		[]run.Outcome{{Finding: 2, Outcome: run.WasWritten}}))
	runs, err := run.List(ctx, d)
	require.NoError(t, err)
	assert.Equal(t, 2, runs[0].Removed)
	_, err = d.Verify(ctx)
	require.NoError(t, err)
	_, err = d.DB().Exec("UPDATE afters SET internal_id = '8'")
	require.NoError(t, err)
	_, err = d.Verify(ctx)
	assert.ErrorContains(t, err, "what was read back of the new records of run 1")
}

// What is run around an import is due until it is said to have ended.
func TestWhatComesAfterIsDue(t *testing.T) {
	ctx := context.Background()
	d := open(t)
	for _, step := range []struct {
		state string
		due   bool
	}{{"", false}, {run.AroundBegins, true}, {run.AroundEnds, false}, {run.AroundBegins, true}} {
		if step.state != "" {
			require.NoError(t, run.Surround(ctx, d, step.state, "mara", noon, []string{"sign out"}))
		}
		due, err := run.AfterDue(ctx, d)
		require.NoError(t, err)
		assert.Equal(t, step.due, due)
		s, err := docket.Summarize(ctx, d)
		require.NoError(t, err)
		assert.Equal(t, step.due, s.AfterDue)
	}
	_, err := d.Verify(ctx)
	assert.NoError(t, err)
}

// Records are told apart by all that they hold, stamps left out.
func TestTheSumOfARecord(t *testing.T) {
	fields := []record.Field{{Name: "name", Kind: record.Text}}
	text := func(s string) record.Value {
		v, err := record.TextValue(s)
		require.NoError(t, err)
		return v
	}
	one := record.Record{Key: record.NewKey([]record.Value{text("A")}, nil), Values: []record.Value{text("x")},
		Kept: &record.Kept{Sums: []string{"b"}}, ChangedAt: "2026-01-01"}
	sum := docket.SumOf(fields, one)
	stamped := one
	stamped.ChangedAt, stamped.ChangedBy = "2027-01-01", "ida"
	assert.Equal(t, sum, docket.SumOf(fields, stamped))
	other := one
	other.Kept = &record.Kept{Sums: []string{"c"}}
	assert.NotEqual(t, sum, docket.SumOf(fields, other))
	other = one
	other.Values = []record.Value{text("y")}
	assert.NotEqual(t, sum, docket.SumOf(fields, other))
}

// The order in which things were said is that of the chain, whatever their times are.
func TestTheOrderOfWhatHappened(t *testing.T) {
	ctx := context.Background()
	d := open(t)
	require.NoError(t, d.Decide(ctx, "jonas", "", noon, []docket.Verdict{{Finding: 1, Decision: decision.Approved}, {Finding: 2,
		Decision: decision.Declined}}))
	_, err := run.Start(ctx, d, run.RehearsalRun, "mara", noon)
	require.NoError(t, err)
	require.NoError(t, d.Comment(ctx, "mara", noon, []docket.Comment{{At: run.Stamp(noon), Who: "mara", Finding: 1, Text: "why?"}}))
	require.NoError(t, d.Decide(ctx, "jonas", "", noon, []docket.Verdict{{Finding: 2, Decision: decision.Approved}}))
	order, err := d.Order(ctx)
	require.NoError(t, err)
	assert.Equal(t, []docket.Happened{{"decided", 2}, {"run", 1}, {"commented", 1}, {"decided", 1}}, order)
	ids, err := d.Found.Named(ctx, "u/A")
	require.NoError(t, err)
	assert.Len(t, ids, 1)
	ids, err = d.Found.Named(ctx, "u/none")
	require.NoError(t, err)
	assert.Empty(t, ids)
	backs, err := d.Found.Backs(ctx, []int64{1})
	require.NoError(t, err)
	assert.Empty(t, backs, "it restores nothing")
}
