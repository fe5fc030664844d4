package docket_test

import (
	"context"
	"fmt"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/decision"
	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/build"
	"anagram/internal/store/docket/run"
)

// builder starts a docket with findings of one type, by key and status.
func builder(t *testing.T, findings ...docket.Finding) *build.Builder {
	t.Helper()
	b, err := build.Create(context.Background(), t.TempDir())
	require.NoError(t, err)
	t.Cleanup(b.Discard)
	for i, f := range findings {
		if f.Type == "" {
			f.Type = "u"
		}
		f.Address, f.Order, f.Key = "u/"+f.Key, f.Key, `["`+f.Key+`"]`
		if f.Fields == nil {
			f.Fields = []docket.Field{}
		}
		id, err := b.Finding(context.Background(), f)
		require.NoError(t, err)
		require.EqualValues(t, i+1, id)
	}
	return b
}

func keyOf(s string) record.Key {
	v, err := record.TextValue(s)
	if err != nil {
		panic(err)
	}
	return record.NewKey([]record.Value{v}, nil)
}

func finish(t *testing.T, b *build.Builder) *docket.Docket {
	t.Helper()
	require.NoError(t, b.Type(context.Background(), docket.Type{Name: "u", Counts: map[match.Status]int{}}))
	path := filepath.Join(t.TempDir(), "0001.docket")
	taken, err := b.Finish(context.Background(), path, docket.Header{Number: 1}, []byte("types:\n  u: {key: [c]}\n"), nil)
	require.NoError(t, err)
	require.False(t, taken)
	d, err := docket.Open(context.Background(), path)
	require.NoError(t, err)
	t.Cleanup(func() { _ = d.Close() })
	return d
}

func TestWhenAConflictIsSettled(t *testing.T) {
	ctx := context.Background()
	both := []docket.Field{{Field: "x", Moved: "both"}, {Field: "y", Moved: "source"}, {Field: "z", Moved: "target"}}
	d := finish(t, builder(t,
		docket.Finding{Key: "A", Status: match.Conflict, Source: "{}", Target: "{}", Reasons: []match.Reason{match.BothMoved},
			Fields: both},
		docket.Finding{Key: "B", Status: match.Conflict, Source: "{}", Reasons: []match.Reason{match.RemovedInTarget},
			Fields: []docket.Field{{Field: "x", Moved: "source"}}},
		docket.Finding{Key: "C", Status: match.Conflict, Source: "{}", Target: "{}", Reasons: []match.Reason{match.Ambiguous}},
		docket.Finding{Key: "D", Status: match.TargetEdit, Source: "{}", Target: "{}", Fields: []docket.Field{{Field: "x",
			Moved: "target"}}}))
	state := func(id int64) string {
		for f, err := range d.Found.Findings(ctx, docket.Filter{}) {
			require.NoError(t, err)
			if f.ID == id {
				return fmt.Sprintf("settled %v, approved %v %v", f.Settled(), f.IsApproved(), f.ApprovedFields())
			}
		}
		return ""
	}
	say := func(id int64, field string, decision decision.Decision) {
		require.NoError(t, d.Decide(ctx, "mara", "", noon, []docket.Verdict{{Finding: id, Field: field, Decision: decision}}))
	}
	assert.Equal(t, "settled false, approved false []", state(1))
	say(1, "", decision.Approved)
	assert.Equal(t, "settled false, approved false [y]", state(1), "nobody chose a side for x")
	say(1, "x", decision.Declined)
	assert.Equal(t, "settled true, approved true [y]", state(1), "the target's x stays")
	say(1, "x", decision.Approved)
	assert.Equal(t, "settled true, approved true [x y]", state(1))
	say(1, "z", decision.Approved)
	assert.Equal(t, "settled true, approved true [x y z]", state(1), "what the target moved can be taken as well")
	say(1, "", decision.Declined)
	assert.Equal(t, "settled true, approved false []", state(1), "a later decision on the record counts")

	assert.Equal(t, "settled true, approved false []", state(2))
	say(2, "", decision.Approved)
	assert.Equal(t, "settled true, approved true [x]", state(2))
	say(3, "", decision.Approved)
	assert.Equal(t, "settled false, approved false []", state(3), "nothing settles what is ambiguous")
	say(4, "", decision.Approved)
	assert.Contains(t, state(4), "approved false []", "nothing is proposed for an edit of the target")
	say(4, "x", decision.Approved)
	assert.Contains(t, state(4), "approved true [x]")

	decided := map[string]bool{}
	for f, err := range d.Found.Decided(ctx) {
		require.NoError(t, err)
		decided[f.Address] = true
	}
	assert.Len(t, decided, 4)
}

func TestRunsAreRemembered(t *testing.T) {
	ctx := context.Background()
	d := finish(t, builder(t, docket.Finding{Key: "A", Status: match.New, Source: "{}"}))
	assert.False(t, run.LoadsWait(nil))
	first, err := run.Start(ctx, d, run.ImportRun, "mara", noon)
	require.NoError(t, err)
	runs, err := run.List(ctx, d)
	require.NoError(t, err)
	assert.False(t, runs[0].Unsettled() || runs[0].Done(), "one that did not come to the commit wrote nothing")
	require.NoError(t, run.AboutToCommit(ctx, d, run.Run{Seq: first, New: 1}))
	runs, err = run.List(ctx, d)
	require.NoError(t, err)
	assert.True(t, runs[0].Unsettled(), "one that came to it may have")
	require.NoError(t, run.End(ctx, d, run.Run{Seq: first, Outcome: run.Unknown, Message: "the answer was lost"}, noon, nil))
	files, err := run.Start(ctx, d, run.FilesRun, "mara", noon)
	require.NoError(t, err)
	require.NoError(t, run.End(ctx, d, run.Run{Seq: files, Outcome: run.WrittenOut, New: 1}, noon, nil))
	runs, err = run.List(ctx, d)
	require.NoError(t, err)
	assert.True(t, runs[0].Unsettled(), "nobody knows what came of it")
	assert.False(t, runs[1].Unsettled())
	assert.True(t, run.LoadsWait(runs))
	confirmed, err := run.Start(ctx, d, run.ConfirmRun, "mara", noon)
	require.NoError(t, err)
	require.NoError(t, run.End(ctx, d, run.Run{Seq: confirmed, Outcome: run.Imported, New: 1}, noon, []run.Outcome{{Finding: 1,
		Outcome: run.WasWritten}, {Finding: 2, Outcome: run.WasLeftOut, Why: "code", Message: "why"}}))
	runs, err = run.List(ctx, d)
	require.NoError(t, err)
	assert.False(t, run.LoadsWait(runs))
	assert.True(t, runs[2].Done())
	left, err := run.Outcomes(ctx, d, confirmed, run.WasLeftOut)
	require.NoError(t, err)
	assert.Equal(t, []run.Outcome{{Finding: 2, Outcome: run.WasLeftOut, Why: "code", Message: "why"}}, left)
	s, err := docket.Summarize(ctx, d)
	require.NoError(t, err)
	assert.Equal(t, decision.Tally{Open: 1}, s.Tally)
	assert.Len(t, s.Runs, 3)
}
