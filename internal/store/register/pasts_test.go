package register

import (
	"context"
	"errors"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/decision"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/run"
	"anagram/internal/store/workspace"
)

// What is asked without counting is what is known otherwise, whether the register knows a docket,
// knows it as it was, or does not; and one that is damaged has its error.
func TestPastsAreWhatDocketsAre(t *testing.T) {
	ctx := context.Background()
	w := &workspace.Workspace{Dir: t.TempDir()}
	addDocket(t, w, 1, 3, "a")
	addDocket(t, w, 2, 2, "b")
	same := func(what string) {
		t.Helper()
		pasts, err := Pasts(ctx, w)
		require.NoError(t, err)
		entries, err := Dockets(ctx, w)
		require.NoError(t, err)
		require.Len(t, pasts, len(entries))
		for i, e := range PastsOf(entries) {
			assert.Equal(t, e.Err == nil, pasts[i].Err == nil, what)
			assert.Equal(t, []any{e.Header.Number, e.Header.Target, len(e.Runs), e.AfterDue}, []any{pasts[i].Header.Number, pasts[i].Header.Target, len(pasts[i].Runs), pasts[i].AfterDue}, what)
		}
	}
	known := func() int {
		lines, err := read(path(w))
		require.NoError(t, err)
		return len(lines)
	}
	_, err := Pasts(ctx, w)
	require.NoError(t, err)
	assert.Equal(t, 2, known(), "what was not known is counted, and known from then on")
	same("known")
	d, err := docket.Open(ctx, w.DocketPath(2))
	require.NoError(t, err)
	require.NoError(t, d.Decide(ctx, "mara", "", noon, []docket.Verdict{{Finding: 1, Decision: decision.Held}}))
	_, err = run.Start(ctx, d, run.ImportRun, "mara", noon)
	require.NoError(t, errors.Join(err, d.Close()))
	pasts, err := Pasts(ctx, w)
	require.NoError(t, err)
	assert.Len(t, pasts[1].Runs, 1, "it is read as it is now")
	entries, err := Dockets(ctx, w)
	require.NoError(t, err)
	assert.Equal(t, decision.Tally{Open: 1, Held: 1}, entries[1].Tally, "and is not taken for counted")
	same("as it was")
	require.NoError(t, os.WriteFile(w.DocketPath(1), []byte("no docket"), 0o600))
	same("damaged")
	pasts, err = Pasts(ctx, w)
	require.NoError(t, err)
	assert.Error(t, pasts[0].Err)
	assert.Equal(t, 1, pasts[0].Header.Number)
}
