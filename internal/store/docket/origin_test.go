package docket

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWhereItWasDone(t *testing.T) {
	ctx := context.Background()
	d := open(t)
	require.NoError(t, d.Decide(ctx, "nobody knows where", "", noon, []Verdict{{Finding: 1, Decision: Held}}))
	d.From(Origin{Account: "jonas", Host: "lab-3"})
	for range 2 {
		require.NoError(t, d.Decide(ctx, "jonas", "", noon, []Verdict{{Finding: 1, Decision: Approved}}))
	}
	d.From(Origin{Account: "mara", Host: "lab-1", Named: true})
	require.NoError(t, d.Join(ctx, "ida", "2026-11-23T13:00:00Z", []LogEntry{{At: "2026-11-23T12:30:00Z", Who: "somebody", Finding: 2, Decision: Declined}}))
	_, err := d.StartRun(ctx, RehearsalRun, "mara", noon)
	require.NoError(t, err)
	people, err := d.People(ctx)
	require.NoError(t, err)
	assert.Equal(t, []Acted{{"jonas", Origin{"jonas", "lab-3", false}}, {"ida", Origin{"mara", "lab-1", true}}, {"mara", Origin{"mara", "lab-1", true}}}, people)
	_, err = d.Verify(ctx)
	assert.NoError(t, err, "it is part of the chain")
}
