package docket

import (
	"context"
	"fmt"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/limit"

	"anagram/internal/core/check"
	"anagram/internal/core/match"
	"anagram/internal/core/record"
)

// The witness hears of each link before it is written and after; the chain goes on from the
// digest, and what was added to it elsewhere can be taken off again.
func TestTheChainAndItsWitness(t *testing.T) {
	ctx := context.Background()
	d := open(t)
	var heard []string
	d.Witnessed(Witness{
		Announced: func(s Seal) error { heard = append(heard, fmt.Sprint("announced ", s.Links)); return nil },
		Written:   func(s Seal) error { heard = append(heard, fmt.Sprint("written ", s.Links)); return nil },
	})
	digest, err := d.Digest(ctx)
	require.NoError(t, err)
	before, err := d.Head(ctx)
	require.NoError(t, err)
	assert.Equal(t, Seal{Head: digest}, before, "without links the digest is the head")
	require.NoError(t, d.Decide(ctx, "jonas", "", noon, []Verdict{{Finding: 1, Decision: Approved}}))
	first, err := d.Verify(ctx)
	require.NoError(t, err)
	require.NoError(t, d.Join(ctx, "mara", "2026-11-23T13:00:00Z", []LogEntry{{At: "2026-11-23T12:30:00Z", Who: "ida", Finding: 2, Decision: Declined, Note: "no"}}))
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
	assert.Equal(t, Undecided, findings(t, d)["u/B"].Decision)
	_, err = d.StartRun(ctx, ImportRun, "mara", noon)
	require.NoError(t, err)
	assert.ErrorContains(t, d.CutBack(ctx, 1), "it was imported or rehearsed elsewhere")

	d.Witnessed(Witness{Announced: func(Seal) error { return assert.AnError }})
	assert.ErrorIs(t, d.Decide(ctx, "jonas", "", noon, []Verdict{{Finding: 2, Decision: Approved}}), assert.AnError)
	assert.Equal(t, Undecided, findings(t, d)["u/B"].Decision, "what cannot be announced is not written")
}

func TestADocketAtWorkIsLeftAlone(t *testing.T) {
	ctx := limit.Hurried(context.Background(), 10)
	d := open(t)
	unlock, err := d.LockImport(ctx)
	require.NoError(t, err)
	other, err := OpenNumbered(ctx, d.Path(), 7)
	require.NoError(t, err)
	defer other.Close()
	assert.ErrorIs(t, other.Decide(ctx, "jonas", "", noon, []Verdict{{Finding: 1, Decision: Approved}}), ErrAtWork)
	stopped, stop := context.WithCancel(ctx)
	stop()
	_, err = other.LockImport(stopped)
	assert.ErrorIs(t, err, context.Canceled)
	unlock()
	assert.NoError(t, other.Decide(ctx, "jonas", "", noon, []Verdict{{Finding: 1, Decision: Approved}}))
	_, err = OpenNumbered(ctx, d.Path(), 8)
	assert.ErrorContains(t, err, "the file holds docket 7")
}

func TestImagesAndUnsettledRuns(t *testing.T) {
	ctx := context.Background()
	d := open(t)
	run, err := d.StartRun(ctx, ImportRun, "mara", noon)
	require.NoError(t, err)
	require.NoError(t, d.SaveBackup(ctx, run, []Image{{Finding: 1, Line: "{}", ID: "7", Beside: []string{"a", "b"}}, {Finding: 2}}))
	require.NoError(t, d.ImagesKept(ctx, run))
	images, err := d.Images(ctx, run, []int64{1, 2, 3})
	require.NoError(t, err)
	assert.Equal(t, map[int64]Image{1: {Finding: 1, Line: "{}", ID: "7", Beside: []string{"a", "b"}}, 2: {Finding: 2, Beside: []string{}}}, images)
	images, err = d.Images(ctx, run, nil)
	require.NoError(t, err)
	assert.Empty(t, images)
	runs, err := d.Runs(ctx)
	require.NoError(t, err)
	_, open := LastUnsettled(runs)
	assert.False(t, open)
	require.NoError(t, d.AboutToCommit(ctx, Run{Seq: run, New: 1, Changed: 2, LeftOut: 3}))
	runs, err = d.Runs(ctx)
	require.NoError(t, err)
	last, open := LastUnsettled(runs)
	assert.True(t, open)
	assert.Equal(t, []int{1, 2, 3}, []int{last.New, last.Changed, last.LeftOut})
	_, open = LastUnsettled(append(runs, Run{Kind: ConfirmRun, Outcome: Imported}))
	assert.False(t, open)
	_, open = LastUnsettled([]Run{{Kind: RehearsalRun}})
	assert.False(t, open)
}

func TestANameOfTheTargetCountsWhereNoFindingHasIt(t *testing.T) {
	ctx := context.Background()
	d := finish(t, builder(t, Finding{Key: "A", Was: "u/B", Status: match.Changed, Source: "{}", Target: "{}"}, Finding{Key: "B", Was: "u/C", Status: match.Changed, Source: "{}", Target: "{}"}))
	for pattern, want := range map[string][]string{"u/A": {"u/A"}, "u/B": {"u/B"}, "u/C": {"u/B"}, "u/*": {"u/A", "u/B"}, "u/C*": nil} {
		p, err := record.ParsePattern(pattern)
		require.NoError(t, err)
		var got []string
		for f, err := range d.Findings(ctx, Filter{Patterns: []record.Pattern{p}}) {
			require.NoError(t, err)
			got = append(got, f.Address)
		}
		assert.Equal(t, want, got, pattern)
	}
}

func TestNewFindingsThatRequireEachOther(t *testing.T) {
	ctx := context.Background()
	b := builder(t, Finding{Key: "A", Status: match.New, Source: "{}"}, Finding{Key: "B", Status: match.New, Source: "{}"}, Finding{Key: "C", Status: match.New, Source: "{}"}, Finding{Key: "D", Status: match.New, Source: "{}"})
	need := func(from int64, to string, required bool) {
		require.NoError(t, b.Need(ctx, Need{Holder: from, Required: required, Type: "u", Key: `["` + to + `"]`, Need: check.Need{Field: "x", Address: "u/" + to}}, keyOf(to)))
	}
	need(1, "B", true)
	need(2, "A", true)
	need(3, "A", true)
	need(4, "D", true)
	need(3, "D", false)
	// Orders of keys in this test are their letters.
	_, err := b.tx.Exec("UPDATE needs SET key_order = CAST(substr(address, 3) AS BLOB)")
	require.NoError(t, err)
	_, err = b.tx.Exec("UPDATE findings SET key_order = CAST(substr(address, 3) AS BLOB)")
	require.NoError(t, err)
	require.NoError(t, b.LinkNeeds(ctx, func(Need) error { return nil }))
	circles, err := b.Circles(ctx, func(typ, _ string) bool { return typ == "none" })
	require.NoError(t, err)
	assert.Equal(t, [][]int64{{1, 2}, {4}}, circles)
	circles, err = b.Circles(ctx, func(_, field string) bool { return field == "x" })
	require.NoError(t, err)
	assert.Empty(t, circles)
	require.NoError(t, b.Type(ctx, Type{Name: "u", Counts: map[match.Status]int{match.New: 4}}))
	require.NoError(t, b.Counts(ctx, Type{Name: "u", Counts: map[match.Status]int{match.Conflict: 4}}))
	path := filepath.Join(t.TempDir(), "0001.docket")
	_, err = b.Finish(ctx, path, Header{Number: 1}, []byte("types:\n  u: {key: [c]}\n"), func(string) error { return assert.AnError })
	assert.ErrorIs(t, err, assert.AnError)
	assert.NoFileExists(t, path, "what the register does not hear of is not there")
}
