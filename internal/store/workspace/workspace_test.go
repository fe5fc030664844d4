package workspace

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestInitMakesExamplesThatHold(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "deep", "new")
	made, err := Init(dir)
	require.NoError(t, err)
	assert.Equal(t, []string{"anagram.yaml", "catalog.yaml", ".gitignore"}, made)
	w, err := Open(dir)
	require.NoError(t, err)
	assert.Equal(t, "sandbox", w.Environments[0].Name)
	assert.Equal(t, "sqlite", w.Environments[0].Scheme())
	assert.Equal(t, "data/sandbox.db", w.Environments[0].Address())
	c, err := w.Catalog()
	require.NoError(t, err)
	assert.Equal(t, []string{"price_list", "price_line"}, c.Names())

	inside := filepath.Join(dir, "parcels", "x")
	require.NoError(t, os.MkdirAll(inside, 0o755))
	found, err := Find(inside)
	require.NoError(t, err)
	assert.Equal(t, dir, found)
}

func TestInitNeverOverwrites(t *testing.T) {
	for _, name := range []string{"anagram.yaml", "catalog.yaml"} {
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte("mine"), 0o600))
		_, err := Init(dir)
		assert.ErrorContains(t, err, "nothing was changed")
		entries, err := os.ReadDir(dir)
		require.NoError(t, err)
		assert.Len(t, entries, 1)
	}
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, ".gitignore"), []byte("mine"), 0o600))
	made, err := Init(dir)
	require.NoError(t, err)
	assert.NotContains(t, made, ".gitignore")
}

func TestPathsAndDockets(t *testing.T) {
	dir := t.TempDir()
	_, err := Init(dir)
	require.NoError(t, err)
	w, err := Open(dir)
	require.NoError(t, err)
	assert.Equal(t, "/abs/x.db", w.Path("/abs/x.db"))
	assert.Equal(t, filepath.Join(dir, "data/x.db"), w.Path("data/x.db"))
	numbers, err := w.DocketNumbers()
	require.NoError(t, err)
	assert.Empty(t, numbers)
	folder, err := w.Dockets()
	require.NoError(t, err)
	for _, name := range []string{"0002.docket", "0001.docket", "12345.docket", "notes.txt", "old.docket"} {
		require.NoError(t, os.WriteFile(filepath.Join(folder, name), nil, 0o600))
	}
	numbers, err = w.DocketNumbers()
	require.NoError(t, err)
	assert.Equal(t, []int{1, 2, 12345}, numbers)
	assert.Equal(t, filepath.Join(dir, "dockets", "0002.docket"), w.DocketPath(2))
	_, err = w.Environment("prodction")
	assert.ErrorContains(t, err, `did you mean "production"?`)
}
