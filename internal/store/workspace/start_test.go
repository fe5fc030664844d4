package workspace

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestStart(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "lab")
	made, err := Start(dir, []Starting{{Name: "sandbox", Connect: "sqlite:a b#.db"}, {Name: "null", Connect: "postgres://u@h/d", PasswordEnv: "LAB_PASSWORD"}})
	require.NoError(t, err)
	assert.Equal(t, []string{"anagram.yaml", ".gitignore"}, made)
	w, err := Open(dir)
	require.NoError(t, err)
	assert.Equal(t, []string{"sqlite:a b#.db", "postgres://u@h/d"}, []string{w.Environments[0].Connect, w.Environments[1].Connect})
	assert.Equal(t, []string{"sandbox", "null"}, []string{w.Environments[0].Name, w.Environments[1].Name})
	assert.Equal(t, "LAB_PASSWORD", w.Environments[1].Password.Env)
	_, err = Start(dir, []Starting{{Name: "a", Connect: "sqlite:x"}})
	assert.ErrorContains(t, err, "already exists")

	bad := filepath.Join(t.TempDir(), "bad")
	for _, connect := range []string{"postgres://u:secret@h/d", "nosuch:x", "sqlite:"} {
		_, err = Start(bad, []Starting{{Name: "a", Connect: connect}})
		require.Error(t, err, connect)
		assert.NotContains(t, err.Error(), "secret")
		assert.NoFileExists(t, filepath.Join(bad, "anagram.yaml"))
	}
	require.NoError(t, os.WriteFile(filepath.Join(bad, ".gitignore"), []byte("mine"), 0o600))
	made, err = Start(bad, []Starting{{Name: "a", Connect: "sqlite:x"}})
	require.NoError(t, err)
	assert.Equal(t, []string{"anagram.yaml"}, made)
	kept, err := os.ReadFile(filepath.Join(bad, ".gitignore"))
	require.NoError(t, err)
	assert.Equal(t, "mine", string(kept), "an ignore file of the person's own stays")
}

func TestAnotherCatalog(t *testing.T) {
	dir := t.TempDir()
	_, err := Start(dir, []Starting{{Name: "a", Connect: "sqlite:x"}})
	require.NoError(t, err)
	w, err := Open(dir)
	require.NoError(t, err)
	_, err = w.Catalog()
	assert.ErrorContains(t, err, "There is no catalog catalog.yaml")
	path := filepath.Join(t.TempDir(), "drafted.yaml")
	require.NoError(t, os.WriteFile(path, []byte("types: {item: {key: [code], odd: x}}"), 0o600))
	other := w.WithCatalog(path, "drafted.yaml")
	_, err = other.Catalog()
	assert.ErrorContains(t, err, "drafted.yaml line 1")
	assert.Equal(t, "catalog.yaml", w.CatalogName(), "the workspace's own stays")
}

func TestSettings(t *testing.T) {
	dir := t.TempDir()
	write := func(text string) (*Workspace, error) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "anagram.yaml"), []byte("environments:\n  a: {connect: \"sqlite:x\", release: {setting: s/v, field: value}}\n"+text), 0o600))
		return Open(dir)
	}
	w, err := write("must_agree: [setting/a, {setting: setting/b, field: value}]\n")
	require.NoError(t, err)
	assert.Equal(t, []Setting{{Setting: "setting/a"}, {Setting: "setting/b", Field: "value"}}, w.MustAgree)
	assert.Equal(t, []string{"setting/a", "setting/b (value)"}, []string{w.MustAgree[0].Name(), w.MustAgree[1].Name()})
	assert.Equal(t, Release{Setting: "s/v", Field: "value"}, w.Environments[0].Release)
	_, err = write("must_agree: [{field: value}]\n")
	assert.ErrorContains(t, err, "must_agree: names no setting")
}
