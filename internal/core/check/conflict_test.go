package check

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestConflictsSayWhoChangedWhatWhen(t *testing.T) {
	source := Side{Environment: "sandbox", At: "2026-10-28T13:30:00", By: "build"}
	target := Side{Environment: "production", At: "2026-10-30T02:14:00Z"}
	for reason, want := range map[string]string{
		"both-moved":        "Field high of r/1 was changed on both sides since they last agreed: in sandbox on 2026-10-28 13:30:00 by build, in production on 2026-10-30 02:14:00 UTC.",
		"target-newer":      "r/1 was changed later in production than in sandbox, and it is not known what both last agreed on: in sandbox on 2026-10-28 13:30:00 by build, in production on 2026-10-30 02:14:00 UTC.",
		"retired-in-target": "r/1 was taken out of use in production and is in use in sandbox: in sandbox on 2026-10-28 13:30:00 by build, in production on 2026-10-30 02:14:00 UTC.",
		"removed-in-target": "r/1 was in production before and is no longer there; somebody removed it. Last changed: in sandbox on 2026-10-28 13:30:00 by build.",
	} {
		c, ok := Conflict(reason, "r/1", []string{"high"}, source, target)
		assert.True(t, ok)
		assert.Equal(t, want, c.Message)
		assert.Equal(t, Caution, c.Level)
		assert.Contains(t, c.Mend, "--take source")
	}
	c, _ := Conflict("both-moved", "r/1", []string{"low", "high"}, Side{Environment: "sandbox"}, target)
	assert.Equal(t, "Fields low, high of r/1 were changed on both sides since they last agreed: in sandbox it is not known when, in production on 2026-10-30 02:14:00 UTC.", c.Message)
	_, ok := Conflict("ambiguous", "r/1", nil, source, target)
	assert.False(t, ok)
}
