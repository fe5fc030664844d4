package docket_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"anagram/internal/store/docket"
)

func TestWhoChangedARecordLast(t *testing.T) {
	h := docket.Header{Source: "sandbox", Target: "production", Zones: map[string]string{"production": "Europe/Berlin"}}
	assert.Empty(t, h.Changes(docket.Finding{}))
	assert.Empty(t, h.Changes(docket.Finding{Source: `{"key":["A"],"values":{}}`, Target: "not JSON"}))
	f := docket.Finding{Source: `{"key":["A"],"values":{"changed_at":"no"},"changed_at":"2026-01-01T10:00:00Z","changed_by":"ida"}`,
		Target: `{"key":["A"],"values":{},"changed_at":"2026-01-01T10:00:00"}`,
		Agreed: `{"key":["A"],"values":{},"through":"{\"own\":{\"docket\":3,\"in\":\"production\",\"at\":\"2026-01-01T10:00:00\"}}"}`}
	got := h.Changes(f)
	assert.Len(t, got, 2)
	assert.Equal(t, []any{"sandbox", "ida"}, []any{got[0].Environment, got[0].By})
	assert.Nil(t, got[0].Own)
	assert.Equal(t, 3, got[1].Own.Docket)
	for i, want := range []string{"2026-01-01T10:00:00Z", "2026-01-01T09:00:00Z"} {
		at, ok := got[i].Moment()
		assert.True(t, ok)
		assert.Equal(t, want, at.UTC().Format(time.RFC3339))
	}
	_, ok := docket.Change{At: "no time"}.Moment()
	assert.False(t, ok)
}
