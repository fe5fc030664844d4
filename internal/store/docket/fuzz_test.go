package docket_test

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"anagram/internal/core/decision"
	"anagram/internal/store/docket"
)

// readAll reads everything a docket has and gives what it found by address.
func readAll(ctx context.Context, d *docket.Docket) (map[string]docket.Finding, error) {
	out := map[string]docket.Finding{}
	for f, err := range d.Found.Findings(ctx, docket.Filter{}) {
		if err != nil {
			return nil, err
		}
		out[f.Address] = f
	}
	for _, err := range d.Found.Needs(ctx, true) {
		if err != nil {
			return nil, err
		}
	}
	if _, err := d.Found.Claims(ctx); err != nil {
		return nil, err
	}
	if _, err := d.Found.Checks(ctx); err != nil {
		return nil, err
	}
	_, err := docket.Summarize(ctx, d)
	return out, err
}

// FuzzOpen opens anything as a docket. What can be read can be decided on, and the
// decision is there after it is opened again.
func FuzzOpen(f *testing.F) {
	dir, err := os.MkdirTemp("", "seed")
	require.NoError(f, err)
	defer os.RemoveAll(dir)
	path := filepath.Join(dir, "0007.docket")
	made(f, path)
	real, err := os.ReadFile(path)
	require.NoError(f, err)
	f.Add(real, uint16(0), byte(0))
	f.Add(real, uint16(5000), byte(255))
	f.Add([]byte("SQLite format 3\x00"), uint16(0), byte(0))
	f.Add([]byte{}, uint16(0), byte(0))
	f.Fuzz(func(t *testing.T, data []byte, at uint16, flip byte) {
		ctx := context.Background()
		path := filepath.Join(t.TempDir(), "0007.docket")
		if len(data) > 0 { // one byte of a real one, which random bytes hardly ever are
			data = append([]byte{}, data...)
			data[int(at)%len(data)] ^= flip
		}
		require.NoError(t, os.WriteFile(path, data, 0o600))
		d, err := docket.Open(ctx, path)
		if err != nil {
			return
		}
		all, err := readAll(ctx, d)
		var first *docket.Finding
		for _, f := range all {
			if first == nil || f.ID < first.ID {
				first = &f
			}
		}
		if err == nil && first != nil {
			err = d.Decide(ctx, "mara", "why", noon, []docket.Verdict{{Finding: first.ID, Decision: decision.Held}})
		}
		_ = d.Close()
		if err != nil || first == nil {
			return
		}
		d, err = docket.Open(ctx, path)
		require.NoError(t, err, "what could be decided on can be opened again")
		defer d.Close()
		if all, err = readAll(ctx, d); err == nil {
			require.Contains(t, []decision.Decision{decision.Held, first.Decision}, all[first.Address].Decision)
		}
	})
}
