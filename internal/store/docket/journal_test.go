package docket

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/record"
)

// The journal stands in the chain; what was made by a run is what its links say.
func TestTheJournalOfARun(t *testing.T) {
	ctx := context.Background()
	d := open(t)
	run, err := d.StartRun(ctx, ImportRun, "mara", noon)
	require.NoError(t, err)
	require.NoError(t, d.PlanRun(ctx, Plan{Run: run, Write: []int64{1, 2, 3}, Left: []Outcome{{Finding: 4, Why: "w", Message: "m"}}}))
	whole, refused := Step{Finding: 1, Pass: "whole"}, Step{Finding: 2, Pass: "whole"}
	require.NoError(t, d.Journal(ctx, run, whole, StepBegun, ""))
	require.NoError(t, d.Journal(ctx, run, whole, StepDone, ""))
	require.NoError(t, d.JournalMade(ctx, run, After{Finding: 1, Sum: "s", ID: "7"}))
	require.NoError(t, d.Journal(ctx, run, refused, StepBegun, ""))
	require.NoError(t, d.Journal(ctx, run, refused, StepRefused, "too long"))
	require.NoError(t, d.JournalAll(ctx, run, []Step{{Finding: 3, Pass: "whole"}}, StepBegun))
	require.NoError(t, d.JournalAll(ctx, run, nil, StepDone))
	p, err := d.Progress(ctx, run)
	require.NoError(t, err)
	assert.Equal(t, map[Step]string{whole: StepDone, refused: StepRefused, {3, "whole"}: StepBegun}, p.State)
	assert.Equal(t, "too long", p.Why[refused])
	assert.Equal(t, int64(3), p.Last)
	assert.Equal(t, "m", p.Plan.Left[0].Message)
	written, planned := p.Counts()
	assert.Equal(t, [2]int{2, 3}, [2]int{written, planned})
	none, err := d.Progress(ctx, run+1)
	require.NoError(t, err)
	assert.Empty(t, none.State)
	afters, err := d.Afters(ctx, run)
	require.NoError(t, err)
	assert.Equal(t, map[int64]After{1: {1, "s", "7"}}, afters)

	runs, err := d.Runs(ctx)
	require.NoError(t, err)
	last, open := LastUnfinished(runs)
	assert.True(t, open && last.Journaled && !last.Unsettled())
	_, err = d.Verify(ctx)
	require.NoError(t, err)
	require.NoError(t, d.EndRun(ctx, Run{Seq: run, Outcome: Interrupted}, noon, nil))
	runs, err = d.Runs(ctx)
	require.NoError(t, err)
	_, open = LastUnfinished(runs)
	assert.True(t, open, "it can be gone on with")
	require.NoError(t, d.EndRun(ctx, Run{Seq: run, Outcome: Imported}, noon, nil))
	runs, err = d.Runs(ctx)
	require.NoError(t, err)
	_, open = LastUnfinished(runs)
	assert.False(t, open)
	_, open = LastUnfinished(nil)
	assert.False(t, open)

	for _, statement := range []string{"UPDATE afters SET sum = 'other'", "DELETE FROM afters", "UPDATE runs SET journaled = 0"} {
		_, err = d.db.Exec(statement)
		require.NoError(t, err)
		_, err = d.Verify(ctx)
		require.ErrorContains(t, err, "the docket was altered", statement)
		_, err = d.db.Exec("DELETE FROM afters; INSERT INTO afters VALUES (1, 1, 's', '7'); UPDATE runs SET journaled = 1")
		require.NoError(t, err)
	}
	order, err := d.Order(ctx)
	require.NoError(t, err)
	assert.Equal(t, []Happened{{"run", 1}}, order)
}

// What a transaction read back of new records is sealed before it is made lasting.
func TestWhatWasReadBackIsSealed(t *testing.T) {
	ctx := context.Background()
	d := open(t)
	run, err := d.StartRun(ctx, ImportRun, "mara", noon)
	require.NoError(t, err)
	require.NoError(t, d.SaveBackup(ctx, run, []Image{{Finding: 1, Line: "{}", Writes: []string{"a"}, Stored: map[string]record.Stored{"a": {Kind: "text", Text: "x"}}}, {Finding: 2}}))
	require.NoError(t, d.ImagesKept(ctx, run))
	ids, err := d.ImageIDs(ctx, run)
	require.NoError(t, err)
	assert.Equal(t, []int64{1, 2}, ids)
	images, err := d.Images(ctx, run, ids)
	require.NoError(t, err)
	assert.Equal(t, record.Stored{Kind: "text", Text: "x"}, images[1].Stored["a"])
	assert.Equal(t, []string{"a"}, images[1].Writes)
	require.NoError(t, d.SaveAfters(ctx, run, []After{{2, "sum", "9"}}))
	require.NoError(t, d.AboutToCommit(ctx, Run{Seq: run, New: 1, Removed: 2}))
	require.NoError(t, d.EndRun(ctx, Run{Seq: run, Outcome: Imported, New: 1, Removed: 2}, noon, []Outcome{{Finding: 2, Outcome: WasWritten}}))
	runs, err := d.Runs(ctx)
	require.NoError(t, err)
	assert.Equal(t, 2, runs[0].Removed)
	_, err = d.Verify(ctx)
	require.NoError(t, err)
	_, err = d.db.Exec("UPDATE afters SET internal_id = '8'")
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
	}{{"", false}, {AroundBegins, true}, {AroundEnds, false}, {AroundBegins, true}} {
		if step.state != "" {
			require.NoError(t, d.Surround(ctx, step.state, "mara", noon, []string{"sign out"}))
		}
		due, err := d.AfterDue(ctx)
		require.NoError(t, err)
		assert.Equal(t, step.due, due)
		s, err := Summarize(ctx, d)
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
	one := record.Record{Key: record.NewKey([]record.Value{text("A")}, nil), Values: []record.Value{text("x")}, Beside: []string{"b"}, ChangedAt: "2026-01-01"}
	sum := SumOf(fields, one)
	stamped := one
	stamped.ChangedAt, stamped.ChangedBy = "2027-01-01", "ida"
	assert.Equal(t, sum, SumOf(fields, stamped))
	other := one
	other.Beside = []string{"c"}
	assert.NotEqual(t, sum, SumOf(fields, other))
	other = one
	other.Values = []record.Value{text("y")}
	assert.NotEqual(t, sum, SumOf(fields, other))
}

// The order in which things were said is that of the chain, whatever their times are.
func TestTheOrderOfWhatHappened(t *testing.T) {
	ctx := context.Background()
	d := open(t)
	require.NoError(t, d.Decide(ctx, "jonas", "", noon, []Verdict{{Finding: 1, Decision: Approved}, {Finding: 2, Decision: Declined}}))
	_, err := d.StartRun(ctx, RehearsalRun, "mara", noon)
	require.NoError(t, err)
	require.NoError(t, d.Comment(ctx, "mara", noon, []Comment{{At: Stamp(noon), Who: "mara", Finding: 1, Text: "why?"}}))
	require.NoError(t, d.Decide(ctx, "jonas", "", noon, []Verdict{{Finding: 2, Decision: Approved}}))
	order, err := d.Order(ctx)
	require.NoError(t, err)
	assert.Equal(t, []Happened{{"decided", 2}, {"run", 1}, {"commented", 1}, {"decided", 1}}, order)
	ids, err := d.Named(ctx, "u/A")
	require.NoError(t, err)
	assert.Len(t, ids, 1)
	ids, err = d.Named(ctx, "u/none")
	require.NoError(t, err)
	assert.Empty(t, ids)
	backs, err := d.Backs(ctx, []int64{1})
	require.NoError(t, err)
	assert.Empty(t, backs, "it restores nothing")
}
