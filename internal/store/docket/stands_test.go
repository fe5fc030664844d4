package docket_test

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/decision"
	"anagram/internal/core/match"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/run"
)

// TestCountingWithoutReading holds what is counted by the index, and read in part, against the
// findings read as a whole, whatever was decided on them and on their fields.
func TestCountingWithoutReading(t *testing.T) {
	ctx := t.Context()
	random := rand.New(rand.NewPCG(1, 2))
	var list []docket.Finding
	for _, status := range match.Statuses() {
		if status == match.Same {
			continue
		}
		reasons := [][]match.Reason{nil}
		switch status { // no others have any
		case match.Conflict:
			reasons = append(reasons, []match.Reason{match.Ambiguous}, []match.Reason{match.BothMoved},
				[]match.Reason{match.HeldOutside, match.Taken})
		case match.TargetOnly:
			reasons = append(reasons, []match.Reason{match.CreatedHere})
		}
		for _, target := range []string{"", "{}"} {
			for _, reasons := range reasons {
				for _, moved := range []match.Moved{match.MovedUnknown, match.MovedSource, match.MovedBoth} {
					list = append(list, docket.Finding{Key: fmt.Sprintf("K%03d", len(list)), Status: status, Source: "{}",
						Target: target, Reasons: reasons,
						Fields: []docket.Field{{Field: "a", Moved: string(moved)}, {Field: "b", Moved: string(match.MovedSource)}}})
				}
			}
		}
	}
	d := finish(t, builder(t, list...))
	same := func(after int) {
		t.Helper()
		var want decision.Tally
		whole := map[int64]docket.Finding{}
		for f, err := range d.Found.Findings(ctx, docket.Filter{}) {
			require.NoError(t, err)
			want.Count(f.Of())
			whole[f.ID] = f
		}
		got, err := d.Found.Tally(ctx)
		require.NoError(t, err)
		require.Equal(t, want, got, "after %d decisions", after)
		decided := 0
		for f, err := range d.Found.Stands(ctx) {
			require.NoError(t, err)
			full := whole[f.ID]
			require.Equal(t, full.Stand(), f.Stand(), "%s after %d decisions", full.Address, after)
			assert.Equal(t, full.Standing, f.Standing)
			assert.Equal(t, []any{full.Address, full.Type, full.Status, full.Reasons, full.Fields, full.Adds()},
				[]any{f.Address, f.Type, f.Status, f.Reasons, f.Fields, f.Adds()})
			decided++
		}
		all := 0
		for f, err := range d.Found.Decided(ctx) {
			require.NoError(t, err)
			require.Equal(t, whole[f.ID], f)
			all++
		}
		assert.Equal(t, all, decided)
	}
	same(0)
	for after := range 60 {
		var verdicts []docket.Verdict
		for range 1 + random.IntN(6) {
			v := docket.Verdict{Finding: 1 + random.Int64N(int64(len(list))), Decision: []decision.Decision{decision.Approved,
				decision.Declined, decision.Held, decision.TargetKept, decision.Undecided}[random.IntN(5)]}
			if random.IntN(3) == 0 {
				v.Field, v.Decision = []string{"a", "b"}[random.IntN(2)], []decision.Decision{decision.Approved,
					decision.Declined, decision.Held, decision.TargetKept, decision.Reopened}[random.IntN(5)]
			}
			verdicts = append(verdicts, v)
		}
		require.NoError(t, d.Decide(ctx, []string{"mara", "jonas"}[random.IntN(2)], "",
			noon.Add(time.Duration(after)*time.Minute), verdicts))
		if after%10 == 9 {
			same(after + 1)
		}
	}
	keys := 0
	for k, err := range d.Found.Keys(ctx) {
		require.NoError(t, err)
		f := list[k.ID-1]
		assert.Equal(t, []any{f.Key, f.Target != ""}, []any{k.Order, k.InTarget}, "the order form of findings here is the key itself")
		keys++
	}
	assert.Len(t, list, keys)
}

// Who reads a docket while another one of the program writes it waits, whoever takes long.
func TestReadingWhileItIsWritten(t *testing.T) {
	ctx := t.Context()
	d := open(t)
	seq, err := run.Start(ctx, d, run.ImportRun, "mara", noon)
	require.NoError(t, err)
	written := make(chan error)
	go func() {
		var err error
		for id := int64(1); id <= 300 && err == nil; id++ {
			err = run.SaveImages(ctx, d, seq, []run.Image{{Finding: id, Line: "{}", ID: fmt.Sprint(id)}})
		}
		written <- err
	}()
	for {
		lines, err := d.Found.Sides(ctx, []int64{1, 2, 3})
		require.NoError(t, err)
		require.Len(t, lines, 3)
		images, err := run.Images(ctx, d, seq, []int64{1, 2, 3, 300})
		require.NoError(t, err)
		select {
		case err := <-written:
			require.NoError(t, err)
			return
		default:
			assert.LessOrEqual(t, len(images), 4)
		}
	}
}
