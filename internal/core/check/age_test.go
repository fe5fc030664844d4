package check

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestChecksOfTime(t *testing.T) {
	now := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	_, old := Age("may", now.Add(-OldAfter+time.Second), now)
	assert.False(t, old)
	c, old := Age("may", now.Add(-40*24*time.Hour), now)
	assert.True(t, old)
	assert.Equal(t, Check{OldParcel, Caution, "Parcel may was exported 40 days ago.", "Export again and match that, unless it is meant to be as it was then.", nil}, worded(c))

	_, moved := Source("may", "sandbox", nil)
	assert.False(t, moved)
	c, _ = Source("may", "sandbox", []Moved{{"assay", 1}})
	assert.Equal(t, "1 record of its scope was changed in sandbox since parcel may was exported (assay 1).", c.Message)
	c, _ = Source("may", "sandbox", []Moved{{"assay", 2}, {"unit", 3}})
	assert.Equal(t, "5 records of its scope were changed in sandbox since parcel may was exported (assay 2, unit 3).", c.Message)

	assert.Equal(t, "Docket 3 for production has an approved record that is not imported.", Open(3, "production", 1).Message)
	assert.Equal(t, "Docket 3 for production has 2 approved records that are not imported.", Open(3, "production", 2).Message)
	assert.Equal(t, "Another parcel of sandbox, exported after may, was matched with production since (assay, unit). What differs may be older here, not changed.", Overtaken("may", "sandbox", "production", []string{"assay", "unit"}).Message)
	assert.Equal(t, Blocker, Unfinished(3, "production").Level)
	assert.Contains(t, Unfinished(3, "production").Mend, "anagram import 3")
}
