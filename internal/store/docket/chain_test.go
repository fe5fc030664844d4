package docket_test

import (
	"context"
	"database/sql"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/decision"
	"anagram/internal/core/limit"
	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/run"
)

// The witness hears of each link before it is written and after; the chain goes on from the
// digest, and what was added to it elsewhere can be taken off again.
func TestTheChainAndItsWitness(t *testing.T) {
	ctx := context.Background()
	d := open(t)
	var heard []string
	d.Witnessed(docket.Witness{
		Announced: func(s docket.Seal) error { heard = append(heard, fmt.Sprint("announced ", s.Links)); return nil },
		Written:   func(s docket.Seal) error { heard = append(heard, fmt.Sprint("written ", s.Links)); return nil },
	})
	digest, err := d.Digest(ctx)
	require.NoError(t, err)
	before, err := d.Head(ctx)
	require.NoError(t, err)
	assert.Equal(t, docket.Seal{Head: digest}, before, "without links the digest is the head")
	require.NoError(t, d.Decide(ctx, "jonas", "", noon, []docket.Verdict{{Finding: 1, Decision: decision.Approved}}))
	first, err := d.Verify(ctx)
	require.NoError(t, err)
	require.NoError(t, d.Join(ctx, "mara", "2026-11-23T13:00:00Z", []docket.LogEntry{{At: "2026-11-23T12:30:00Z", Who: "ida",
		Finding: 2, Decision: decision.Declined, Note: "no"}}))
	require.NoError(t, d.Join(ctx, "mara", "", nil), "nothing is no link")
	log, err := d.Log(ctx)
	require.NoError(t, err)
	require.Len(t, log, 2)
	assert.Equal(t, []any{"ida", "no"}, []any{log[1].Who, log[1].Note})
	at, err := d.LinkWith(ctx, first.Head)
	require.NoError(t, err)
	assert.Equal(t, 1, at)
	at, err = d.LinkWith(ctx, "none")
	require.NoError(t, err)
	assert.Equal(t, -1, at)
	assert.Equal(t, []string{"announced 1", "written 1", "announced 2", "written 2"}, heard)

	require.NoError(t, d.CutBack(ctx, 1))
	again, err := d.Verify(ctx)
	require.NoError(t, err)
	assert.Equal(t, first, again)
	assert.Equal(t, decision.Undecided, findings(t, d)["u/B"].Decision)
	_, err = run.Start(ctx, d, run.ImportRun, "mara", noon)
	require.NoError(t, err)
	assert.ErrorContains(t, d.CutBack(ctx, 1), "it was imported or rehearsed elsewhere")

	d.Witnessed(docket.Witness{Announced: func(docket.Seal) error { return assert.AnError }})
	assert.ErrorIs(t, d.Decide(ctx, "jonas", "", noon, []docket.Verdict{{Finding: 2, Decision: decision.Approved}}), assert.AnError)
	assert.Equal(t, decision.Undecided, findings(t, d)["u/B"].Decision, "what cannot be announced is not written")
}

func TestADocketAtWorkIsLeftAlone(t *testing.T) {
	ctx := limit.Hurried(context.Background(), 10)
	d := open(t)
	unlock, err := d.LockImport(ctx)
	require.NoError(t, err)
	other, err := docket.OpenNumbered(ctx, d.Path(), 7)
	require.NoError(t, err)
	defer other.Close()
	assert.ErrorIs(t, other.Decide(ctx, "jonas", "", noon, []docket.Verdict{{Finding: 1, Decision: decision.Approved}}), docket.ErrAtWork)
	stopped, stop := context.WithCancel(ctx)
	stop()
	_, err = other.LockImport(stopped)
	assert.ErrorIs(t, err, context.Canceled)
	unlock()
	assert.NoError(t, other.Decide(ctx, "jonas", "", noon, []docket.Verdict{{Finding: 1, Decision: decision.Approved}}))
	_, err = docket.OpenNumbered(ctx, d.Path(), 8)
	assert.ErrorContains(t, err, "the file holds docket 7")
}

func TestImagesAndUnsettledRuns(t *testing.T) {
	ctx := context.Background()
	d := open(t)
	seq, err := run.Start(ctx, d, run.ImportRun, "mara", noon)
	require.NoError(t, err)
	require.NoError(t, run.SaveImages(ctx, d, seq, []run.Image{{Finding: 1, Line: "{}", ID: "7", Kept: record.Kept{Sums: []string{"a", "b"}}},
		{Finding: 2}}))
	require.NoError(t, run.ImagesKept(ctx, d, seq))
	images, err := run.Images(ctx, d, seq, []int64{1, 2, 3})
	require.NoError(t, err)
	assert.Equal(t, map[int64]run.Image{1: {Finding: 1, Line: "{}", ID: "7", Kept: record.Kept{Sums: []string{"a", "b"}}}, 2: {Finding: 2,
		Kept: record.Kept{Sums: []string{}}}}, images)
	images, err = run.Images(ctx, d, seq, nil)
	require.NoError(t, err)
	assert.Empty(t, images)
	runs, err := run.List(ctx, d)
	require.NoError(t, err)
	_, open := run.LastUnsettled(runs)
	assert.False(t, open)
	require.NoError(t, run.AboutToCommit(ctx, d, run.Run{Seq: seq, New: 1, Changed: 2, LeftOut: 3}))
	runs, err = run.List(ctx, d)
	require.NoError(t, err)
	last, open := run.LastUnsettled(runs)
	assert.True(t, open)
	assert.Equal(t, []int{1, 2, 3}, []int{last.New, last.Changed, last.LeftOut})
	_, open = run.LastUnsettled(append(runs, run.Run{Kind: run.ConfirmRun, Outcome: run.Imported}))
	assert.False(t, open)
	_, open = run.LastUnsettled([]run.Run{{Kind: run.RehearsalRun}})
	assert.False(t, open)
}

func TestANameOfTheTargetCountsWhereNoFindingHasIt(t *testing.T) {
	ctx := context.Background()
	d := finish(t, builder(t, docket.Finding{Key: "A", Was: "u/B", Status: match.Changed, Source: "{}", Target: "{}"},
		docket.Finding{Key: "B", Was: "u/C", Status: match.Changed, Source: "{}", Target: "{}"}))
	for pattern, want := range map[string][]string{"u/A": {"u/A"}, "u/B": {"u/B"}, "u/C": {"u/B"}, "u/*": {"u/A", "u/B"}, "u/C*": nil} {
		p, err := record.ParsePattern(pattern)
		require.NoError(t, err)
		var got []string
		for f, err := range d.Found.Findings(ctx, docket.Filter{Patterns: []record.Pattern{p}}) {
			require.NoError(t, err)
			got = append(got, f.Address)
		}
		assert.Equal(t, want, got, pattern)
	}
}

// Whoever is stopped in the middle leaves the file as it was, and nothing beside it, when the
// change returns.
func TestAChangeThatIsStoppedIsTakenBackAtOnce(t *testing.T) {
	d := open(t)
	for range 20 {
		ctx, stop := context.WithCancel(t.Context())
		err := d.Change(ctx, func(tx *sql.Tx, link func(string, any) error) error {
			if _, err := tx.ExecContext(ctx, "INSERT INTO runs (seq, kind, who, started_at) VALUES (1, 'import', 'mara', '')"); err != nil {
				return err
			}
			stop()
			return nil
		})
		require.ErrorIs(t, err, context.Canceled)
		assert.NoFileExists(t, d.Path()+"-journal")
		runs, err := run.List(t.Context(), d)
		require.NoError(t, err)
		require.Empty(t, runs)
	}
}
