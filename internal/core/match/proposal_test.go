package match

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestWhatAFindingProposes holds the table of rules: what is written where nobody chooses.
func TestWhatAFindingProposes(t *testing.T) {
	moves := []Moved{MovedUnknown, MovedSource, MovedTarget, MovedBoth}
	for status, want := range map[Status][]Proposal{
		New:        {Write, Write, Write, Write},
		Changed:    {Write, Write, Keep, Keep},
		Conflict:   {Choose, Write, Keep, Choose},
		TargetEdit: {Keep, Keep, Keep, Keep},
		TargetOnly: {Keep, Keep, Keep, Keep},
		Same:       {Keep, Keep, Keep, Keep},
	} {
		for i, moved := range moves {
			assert.Equal(t, want[i], Propose(status, moved), "%s, moved %q", status, moved)
		}
	}
}

func TestWhatMakesARecordNewInTheTarget(t *testing.T) {
	for _, c := range []struct {
		status   Status
		inTarget bool
		reasons  []Reason
		adds     bool
	}{
		{New, false, nil, true},
		{Conflict, false, []Reason{RemovedInTarget}, true},
		{Conflict, true, []Reason{BothMoved}, false},
		{Conflict, false, []Reason{Ambiguous}, false},
		{Changed, true, nil, false},
		{TargetOnly, true, nil, false},
	} {
		assert.Equal(t, c.adds, Adds(c.status, c.inTarget, c.reasons), "%v", c)
	}
	assert.True(t, Hopeless([]Reason{BothMoved, Ambiguous}))
	for _, status := range Statuses() {
		assert.Equal(t, status == Conflict || status == Changed || status == New, Asks(status), status)
	}
}
