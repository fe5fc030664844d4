package register

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/decision"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/build"
	"anagram/internal/store/workspace"
)

// known makes a docket that the register knows.
func known(t *testing.T, w *workspace.Workspace, number int) {
	t.Helper()
	addDocket(t, w, number, 3, "a")
	d, err := docket.Open(context.Background(), w.DocketPath(number))
	require.NoError(t, err)
	digest, err := d.Digest(context.Background())
	require.NoError(t, errors.Join(err, d.Close()))
	require.NoError(t, Add(w, number, digest))
}

func TestOnlyTheWorkspacesOwnDocketsAreKnown(t *testing.T) {
	ctx := context.Background()
	w := &workspace.Workspace{Dir: t.TempDir()}
	addDocket(t, w, 1, 3, "a")
	d, err := Open(ctx, w, 1)
	require.NoError(t, err, "it can be read")
	assert.ErrorContains(t, Known(w, d), "this workspace did not make it")
	require.NoError(t, d.Close())

	known(t, w, 2)
	d, err = Open(ctx, w, 2)
	require.NoError(t, err)
	assert.NoError(t, Known(w, d))
	require.NoError(t, d.Close())
	text, err := os.ReadFile(w.DocketPath(2))
	require.NoError(t, err)
	elsewhere := filepath.Join(t.TempDir(), "copy.docket")
	require.NoError(t, os.WriteFile(elsewhere, text, 0o600))
	d, err = docket.Open(ctx, elsewhere)
	require.NoError(t, err)
	assert.ErrorContains(t, Known(w, d), "it is a copy. Read its decisions in with: anagram decide 2 --from")

	// It goes on elsewhere and is put over one's own.
	require.NoError(t, d.Decide(ctx, "ida", "", noon, []docket.Verdict{{Finding: 1, Decision: decision.Approved}}))
	require.NoError(t, d.Close())
	text, err = os.ReadFile(elsewhere)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(w.DocketPath(2), text, 0o600))
	_, err = Open(ctx, w, 2)
	var strange *StrangeError
	require.ErrorAs(t, err, &strange)
	assert.Equal(t, 0, strange.After)

	// Another docket under its number.
	known(t, w, 3)
	require.NoError(t, os.Remove(w.DocketPath(3)))
	addDocket(t, w, 3, 2, "b")
	_, err = Open(ctx, w, 3)
	assert.ErrorContains(t, err, "what the match found differs")
	stopped, stop := context.WithCancel(ctx)
	stop()
	_, err = Open(stopped, w, 3)
	assert.Error(t, err)
}

func TestTheRegisterIsLocked(t *testing.T) {
	ctx := context.Background()
	w := &workspace.Workspace{Dir: t.TempDir()}
	unlock, err := Lock(ctx, w)
	require.NoError(t, err)
	stopped, stop := context.WithCancel(ctx)
	stop()
	_, err = Lock(stopped, w)
	assert.Error(t, err)
	unlock()
	unlock, err = Lock(ctx, w)
	require.NoError(t, err)
	unlock()
}

func TestExportsAreKnownByTheirSeal(t *testing.T) {
	w := &workspace.Workspace{Dir: t.TempDir()}
	own := Export{Seal: "sha256:1", Source: "sandbox", At: "2026-11-23T12:00:00Z"}
	is := func(e Export) bool {
		found, err := Exported(w, e)
		require.NoError(t, err)
		return found
	}
	assert.False(t, is(own))
	require.NoError(t, AddExport(w, "june", own))
	assert.True(t, is(own))
	for _, other := range []Export{{Seal: "sha256:2", Source: "sandbox", At: own.At}, {Seal: own.Seal, Source: "production", At: own.At}, {Seal: own.Seal, Source: own.Source, At: "2027"}, {}} {
		assert.False(t, is(other), "%v", other)
	}
}

func TestWhatWasSaidOnAFieldIsKept(t *testing.T) {
	ctx := context.Background()
	w := &workspace.Workspace{Dir: t.TempDir()}
	text := func(s string) *string { return &s }
	make2 := func(number int, target string) {
		scratch, err := w.Scratch()
		require.NoError(t, err)
		_, err = w.Dockets()
		require.NoError(t, err)
		b, err := build.Create(ctx, scratch)
		require.NoError(t, err)
		defer b.Discard()
		_, err = b.Finding(ctx, docket.Finding{Type: "u", Address: "u/K", Key: `["K"]`, Order: "K", Status: "changed", Source: "s", Target: target,
			Fields: []docket.Field{{Field: "x", Source: text("1"), Target: text(target), Moved: "source"}, {Field: "y", Source: text("1"), Moved: "source"}}})
		require.NoError(t, err)
		require.NoError(t, b.Type(ctx, docket.Type{Name: "u"}))
		_, err = b.Finish(ctx, w.DocketPath(number), docket.Header{Number: number, Source: "a", Target: "b", MatchedAt: string(rune('0' + number))}, []byte("types:\n  u: {key: [c]}\n"), nil)
		require.NoError(t, err)
	}
	make2(1, "t")
	d, err := docket.Open(ctx, w.DocketPath(1))
	require.NoError(t, err)
	require.NoError(t, d.Decide(ctx, "ida", "no", noon, []docket.Verdict{{Finding: 1, Decision: decision.Declined}}))
	require.NoError(t, d.Decide(ctx, "ida", "yes", noon, []docket.Verdict{{Finding: 1, Field: "x", Decision: decision.Approved}}))
	require.NoError(t, d.Close())
	said := func(before int, target string) map[string]string {
		all, err := OpenDecided(ctx, w, before)
		require.NoError(t, err)
		defer all.Close()
		f := docket.Finding{Type: "u", Order: "K", Source: "s", Target: target, Fields: []docket.Field{{Field: "x", Source: text("1"), Target: text(target)}, {Field: "y", Source: text("1")}}}
		list, err := all.Find(ctx, "a", "b", f)
		require.NoError(t, err)
		out := map[string]string{}
		for _, s := range list {
			if s.On(f) {
				out[s.Field] = string(s.Decision) + " by " + s.Who
			}
		}
		return out
	}
	assert.Equal(t, map[string]string{"x": "approved by ida", "y": "declined by ida"}, said(2, "t"))
	assert.Equal(t, map[string]string{"y": "declined by ida"}, said(2, "other"), "another value is another question")
}
