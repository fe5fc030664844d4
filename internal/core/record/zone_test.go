package record

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTimesWithoutAZone(t *testing.T) {
	for _, c := range []struct{ zone, local, instant, wrong string }{
		{zone: "Europe/Vienna", local: "2026-01-15T10:00:00", instant: "2026-01-15T09:00:00Z"},
		{zone: "Europe/Vienna", local: "2026-07-15T10:00:00.25", instant: "2026-07-15T08:00:00.25Z"},
		{zone: "Europe/Vienna", local: "2026-03-29T02:30:00", wrong: "there is no 2026-03-29T02:30:00 in the zone Europe/Vienna"},
		{zone: "Europe/Vienna", local: "2026-10-25T02:30:00", instant: "2026-10-25T00:30:00Z", wrong: "occurs twice in the zone Europe/Vienna"},
		{zone: "Europe/Vienna", local: "2026-10-25T01:59:59", instant: "2026-10-24T23:59:59Z"},
		{zone: "Europe/Vienna", local: "2026-10-25T03:00:00", instant: "2026-10-25T02:00:00Z"},
		{zone: "Australia/Lord_Howe", local: "2026-04-05T01:45:00", instant: "2026-04-04T15:15:00Z", wrong: "occurs twice"},
		{zone: "Pacific/Apia", local: "2011-12-30T12:00:00", wrong: "there is no"},
		{zone: "UTC", local: "0001-01-01T00:00:00", instant: "0001-01-01T00:00:00Z"},
		{zone: "Asia/Tokyo", local: "0001-01-01T00:00:00", wrong: "outside the years"},
	} {
		zone, err := time.LoadLocation(c.zone)
		require.NoError(t, err)
		local, err := Parse(LocalTimestamp, c.local)
		require.NoError(t, err)
		got, err := local.AtZone(zone)
		if c.wrong != "" {
			assert.ErrorContains(t, err, c.wrong, c.local)
		} else {
			require.NoError(t, err, c.local)
			assert.Equal(t, c.instant, got.Text())
		}
		if c.instant == "" {
			continue
		}
		instant, err := Parse(Timestamp, c.instant)
		require.NoError(t, err)
		back, err := instant.InZone(zone)
		if c.wrong != "" {
			assert.ErrorContains(t, err, c.wrong)
			continue
		}
		require.NoError(t, err)
		assert.Equal(t, c.local, back.Text())
	}
	late, err := Parse(Timestamp, "9999-12-31T23:30:00Z")
	require.NoError(t, err)
	_, err = late.InZone(time.FixedZone("+05:00", 5*3600))
	assert.ErrorContains(t, err, "outside the years")
	_, err = late.InZone(time.UTC)
	assert.NoError(t, err)
	text, err := TextValue("2026")
	require.NoError(t, err)
	same, err := text.AtZone(time.UTC)
	require.NoError(t, err)
	assert.Equal(t, text, same)
}
