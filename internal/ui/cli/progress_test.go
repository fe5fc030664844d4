package cli

import (
	"testing"
	"time"

	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
)

func TestProgressIsOneLineOfTheScreen(t *testing.T) {
	for _, c := range []struct {
		done, total int
		since       time.Duration
		width       int
		want        string
	}{
		{0, 0, 0, 80, "reading assay  0 records"},
		{1, 0, time.Second, 80, "reading assay  1 record, 1 a second"},
		{500, 2000, 5 * time.Second, 80, "reading assay  ███░░░░░░░░░   25 %  500 of 2000 records, 100 a second, 15s left"},
		{720382, 900000, 5 * time.Second, 80, "reading assay  ██████████████████░░░░   80 %  720382 of 900000 records, 1s left"},
		{2000, 2000, 5 * time.Second, 120,
			"reading assay  ████████████████████████████████████████  100 %  2000 of 2000 records, 400 a second"},
		{500, 2000, 5 * time.Second, 40, "reading assay   25 %  500 of 2000 reco…"},
	} {
		got := progressLine("reading assay", c.done, c.total, c.since, c.width)
		assert.Equal(t, c.want, got)
		assert.Less(t, ansi.StringWidth(got), c.width)
	}
}
