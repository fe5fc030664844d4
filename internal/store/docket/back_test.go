package docket_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/store/docket"
)

func TestWhatAFindingTakesBack(t *testing.T) {
	ctx := t.Context()
	b := builder(t,
		docket.Finding{Key: "A", Status: match.Changed, Source: "{}", Target: "{}", Fields: []docket.Field{{Field: "name"}}},
		docket.Finding{Key: "B", Status: match.TargetOnly, Target: "{}", Reasons: []match.Reason{match.CreatedHere}},
		docket.Finding{Key: "C", Status: match.Conflict, Source: "{}", Target: "{}", Reasons: []match.Reason{match.Ambiguous},
			Fields: []docket.Field{{Field: "name"}}},
		docket.Finding{Key: "D", Status: match.TargetOnly, Target: "{}", Fields: []docket.Field{{Field: "name"}}})
	for _, c := range []struct {
		key, field string
		finding    int64
		gives      bool
	}{
		{"A", "name", 1, true},   // gets another value
		{"A", "price", 1, false}, // which does not differ
		{"B", "name", 2, true},   // is removed
		{"C", "name", 3, false},  // nothing of it can be approved
		{"D", "name", 4, false},  // stays
		{"E", "name", 0, false},  // is not in the docket
	} {
		finding, gives, err := b.GivesUp(ctx, "u", c.key, c.field)
		require.NoError(t, err)
		assert.Equal(t, []any{c.finding, c.gives}, []any{finding, gives}, "%s %s", c.key, c.field)
	}
	want := map[int64]docket.Back{1: {Finding: 7, Stored: map[string]record.Stored{}}, 2: {Finding: 9, Sum: "s", ID: "12"}}
	for id, back := range want {
		require.NoError(t, b.Back(ctx, id, back))
	}
	d := finish(t, b)
	got, err := d.Found.Backs(ctx, []int64{1, 2, 3})
	require.NoError(t, err)
	require.Len(t, got, 2)
	assert.EqualValues(t, 7, got[1].Finding)
	assert.Equal(t, want[2], got[2])
}
