package workspace

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestPairsAreKeptAndForgotten(t *testing.T) {
	w := &Workspace{Dir: t.TempDir()}
	all, err := w.Pairs()
	require.NoError(t, err)
	assert.Empty(t, all)
	for _, p := range []Pair{{Old: "a/1", New: "a/2", By: "mara", At: "2026-01-02T03:04:05Z"}, {Old: "a/<&>", New: "a/ä", Note: "odd"}} {
		added, err := w.AddPair(p)
		require.NoError(t, err)
		assert.True(t, added)
	}
	added, err := w.AddPair(Pair{Old: "a/2", New: "a/1"})
	require.NoError(t, err)
	assert.False(t, added, "in either order it is the same pair")
	removed, err := w.RemovePair("a/2", "a/1")
	require.NoError(t, err)
	assert.True(t, removed)
	removed, err = w.RemovePair("a/2", "a/1")
	require.NoError(t, err)
	assert.False(t, removed)
	text, err := os.ReadFile(filepath.Join(w.Dir, PairsName))
	require.NoError(t, err)
	assert.Equal(t, `{"old":"a/<&>","new":"a/ä","by":"","at":"","note":"odd"}`+"\n", string(text))
}

func TestAPairsFileThatCannotBeRead(t *testing.T) {
	for text, why := range map[string]string{
		"{\"old\":\"a/1\"}\n": "line 1 cannot be read: old and new are both needed",
		"\n\n{":               "line 3 cannot be read",
		"{\"old\":\"a/1\",\"new\":\"a/2\",\"x\":1}\n":   `unknown field "x"`,
		"{\"old\":\"a/1\",\"new\":\"a/2\"}\nnot json\n": "line 2",
	} {
		w := &Workspace{Dir: t.TempDir()}
		require.NoError(t, os.WriteFile(filepath.Join(w.Dir, PairsName), []byte(text), 0o600))
		_, err := w.Pairs()
		assert.ErrorContains(t, err, why)
		_, err = w.AddPair(Pair{Old: "b/1", New: "b/2"})
		assert.Error(t, err, "nothing is written over what cannot be read")
	}
}
