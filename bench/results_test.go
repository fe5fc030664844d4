package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Results are kept line by line; of the same task the last one is drawn, and only those of one
// engine.
func TestResultsAreKeptAndDrawn(t *testing.T) {
	dir := t.TempDir()
	path, out := filepath.Join(dir, "results.jsonl"), filepath.Join(dir, "plot.svg")
	require.Error(t, plot(path, out), "there is nothing yet")
	for _, r := range []result{
		{"PostgreSQL", 10_000, "export", 9, 1, 1, 40 << 20},
		{"PostgreSQL", 10_000, "export", 0.1, 1, 1, 40 << 20},
		{"SQLite", 10_000, "export", 7, 1, 1, 40 << 20},
		{"PostgreSQL", 1_000_000, "export", 4, 2, 5, 110 << 20},
		{"PostgreSQL", 1_000_000, "chosen", 0.1, 0, 0.1, 30 << 20},
	} {
		require.NoError(t, r.keep(path))
	}
	all, err := results(path)
	require.NoError(t, err)
	require.Len(t, all, 4)
	assert.InDelta(t, 0.1, all[0].Anagram, 0)
	require.NoError(t, plot(path, out))
	text, err := os.ReadFile(out)
	require.NoError(t, err)
	svg := string(text)
	assert.Equal(t, 2, strings.Count(svg, `stroke-width="2"`), "one line in each panel, as one task was measured")
	assert.Contains(t, svg, "1,000,000")
	assert.NotContains(t, svg, "NaN")
	require.NoError(t, os.WriteFile(path, []byte("{"), 0o600))
	require.Error(t, plot(path, out))
}
