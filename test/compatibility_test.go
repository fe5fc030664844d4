package test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/store/docket"
	runs "anagram/internal/store/docket/run"
)

// earlier gives a workspace that an earlier version left: docket 1 was decided and imported.
func earlier(t *testing.T, version string) *place {
	t.Helper()
	p := &place{t: t, dir: t.TempDir(), user: "mara"}
	require.NoError(t, os.CopyFS(p.dir, os.DirFS(filepath.Join("testdata", "earlier", version))))
	return p
}

// What an earlier version kept is read by its own rules: reviewed, proved, taken back and heard.
// Only deciding and importing anew need a new docket.
func TestADocketOfAnEarlierVersion(t *testing.T) {
	t.Parallel()
	p := earlier(t, "0.1")
	p.write("dockets/.0001.docket.lock", "")
	said := p.must(0, "review", "1", "--print").out
	assert.Contains(t, words(said), "item/B bean changed, declined by mara, 2026-12-01 15:41 UTC: as it is")
	assert.Contains(t, words(p.must(0, "history", "1").out), "Digest d6684c66ab84e6d5")
	assert.Contains(t, words(p.must(0, "status").out), "a new match, as an earlier Anagram made it")
	assert.Contains(t, p.must(0, "status").err, "Next: anagram match first --against production")
	p.must(0, "parcel", "verify", "first")
	p.must(0, "history", "item/A")

	mend := "Match again with: anagram match first --against production. What was declined or held in it is remembered"
	p.refused(mend, "approve", "1", "item/D")
	p.refused(mend, "comment", "1", "item/D", "Which?")
	p.refused(mend, "import", "1")
	p.refused(mend, "import", "1", "--rehearse")
	p.refused(mend, "import", "1", "--into-files", "load", "--form", "sql")
	assert.Equal(t, said, p.must(0, "review", "1", "--print").out, "nothing was added")

	// The mend, and what was said is heard.
	p.must(3, "match", "first", "--against", "production")
	assert.Contains(t, words(p.must(0, "review", "2", "--print").out), "carried over from docket 1: as it is")
	p.must(0, "approve", "2", "item/D")
	p.must(0, "import", "2")

	// Its import is taken back; what came later is taken back first.
	p.must(3, "restore", "2")
	p.must(0, "approve", "3", "*", "--take", "source")
	p.must(0, "import", "3")
	p.must(3, "restore", "1")
	p.must(0, "approve", "4", "*", "--take", "source")
	p.must(0, "import", "4")
	assert.Equal(t, "A|Apple|1|7 B|bean|9|7 Z|zest|0|7", strings.Join(p.rows("production", "SELECT code || '|' || name || '|' || size || '|' || unit_id FROM items ORDER BY code"), " "))
}

// An import that an earlier version journaled is gone on with in its own docket.
func TestAJournalOfAnEarlierVersion(t *testing.T) {
	t.Parallel()
	p, ctx := earlier(t, "0.1"), t.Context()
	d, err := docket.Open(ctx, filepath.Join(p.dir, "dockets", "0001.docket"))
	require.NoError(t, err)
	defer d.Close()
	step := runs.Step{Finding: 1, Pass: "whole"}
	require.NoError(t, runs.Planned(ctx, d, runs.Plan{Run: 1, Write: []int64{1}}))
	require.NoError(t, runs.Journal(ctx, d, 1, step, runs.StepDone, ""))
	progress, err := runs.ProgressOf(ctx, d, 1)
	require.NoError(t, err)
	assert.Equal(t, runs.StepDone, progress.State[step])
	_, err = d.Verify(ctx)
	require.NoError(t, err)
	require.ErrorIs(t, d.Current(), docket.ErrEarlier)
	require.ErrorIs(t, d.Decide(ctx, "mara", "", time.Now(), []docket.Verdict{{Finding: 1}}), docket.ErrEarlier)
}

func TestADocketOfALaterVersion(t *testing.T) {
	t.Parallel()
	p := earlier(t, "0.1")
	p.docket(1, "PRAGMA user_version = 99")
	p.refused("the docket has version 99; this program knows versions up to 7. Use a newer anagram", "review", "1", "--print")
	p.docket(1, "PRAGMA user_version = 5")
	p.refused("the docket has version 5; this program reads version 6 and later. Match again, or use the anagram that made it", "review", "1", "--print")
}
