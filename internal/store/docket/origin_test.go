package docket_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/decision"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/run"
)

func TestWhereItWasDone(t *testing.T) {
	ctx := context.Background()
	d := open(t)
	require.NoError(t, d.Decide(ctx, "nobody knows where", "", noon, []docket.Verdict{{Finding: 1, Decision: decision.Held}}))
	d.From(docket.Origin{Account: "jonas", Host: "lab-3"})
	for range 2 {
		require.NoError(t, d.Decide(ctx, "jonas", "", noon, []docket.Verdict{{Finding: 1, Decision: decision.Approved}}))
	}
	d.From(docket.Origin{Account: "mara", Host: "lab-1", Named: true})
	require.NoError(t, d.Join(ctx, "ida", "2026-11-23T13:00:00Z", []docket.LogEntry{{At: "2026-11-23T12:30:00Z",
		Who: "somebody", Finding: 2, Decision: decision.Declined}}))
	_, err := run.Start(ctx, d, run.RehearsalRun, "mara", noon)
	require.NoError(t, err)
	people, err := d.People(ctx)
	require.NoError(t, err)
	assert.Equal(t, []docket.Acted{{"jonas", docket.Origin{Account: "jonas", Host: "lab-3", Named: false}}, {"ida",
		docket.Origin{Account: "mara", Host: "lab-1", Named: true}}, {"mara", docket.Origin{Account: "mara", Host: "lab-1",
		Named: true}}}, people)
	_, err = d.Verify(ctx)
	assert.NoError(t, err, "it is part of the chain")
}
