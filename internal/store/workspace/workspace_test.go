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

func TestWhereThingsAre(t *testing.T) {
	w := with(t, "catalog: about/records.yaml\nenvironments:\n  a:\n    connect: postgres://h/db\n    release: {setting: version}\n    password: {env: PW}\n  b: {connect: \"folder:x\", release: \"1.2\"}\n")
	assert.Equal(t, "about/records.yaml", w.CatalogName())
	assert.Equal(t, []string{"postgres", "//h/db"}, []string{w.Environments[0].Scheme(), w.Environments[0].Address()})
	assert.Equal(t, Release{Setting: "version"}, w.Environments[0].Release)
	assert.Equal(t, Release{Text: "1.2"}, w.Environments[1].Release)
	assert.Equal(t, "/x/y", w.Path("/x/y"))
	assert.Equal(t, filepath.Join(w.Dir, "y"), w.Path("y"))
	for name, folder := range map[string]func() (string, error){
		"parcels": w.Parcels, "dockets": w.Dockets, ".anagram/scratch": w.Scratch, ".anagram/agreed": w.Agreed,
	} {
		dir, err := folder()
		require.NoError(t, err)
		assert.Equal(t, filepath.Join(w.Dir, filepath.FromSlash(name)), dir)
		assert.DirExists(t, dir)
	}
	_, err := w.Catalog()
	require.ErrorContains(t, err, "There is no catalog about/records.yaml")
	require.NoError(t, os.Mkdir(w.Path("about"), 0o755))
	require.NoError(t, os.WriteFile(w.Path("about/records.yaml"), []byte("types:\n  unit: {key: [code]}\n"), 0o600))
	c, err := w.Catalog()
	require.NoError(t, err)
	assert.Len(t, c.Types, 1)
	_, err = w.Environment("c")
	require.ErrorContains(t, err, `describes no environment "c"`)
	inner := filepath.Join(w.Dir, "parcels")
	found, err := Find(inner)
	require.NoError(t, err)
	assert.Equal(t, w.Dir, found, "the nearest one upwards")
	_, err = Open(inner)
	require.ErrorContains(t, err, "There is no anagram.yaml")
}

func TestAWorkspaceThatIsNotAsItHasToBe(t *testing.T) {
	for text, why := range map[string]string{
		"environments:\n  a: {}\n":                                                   "environment a has no connect:",
		"environments:\n  a: {connect: sqlit:x}\n":                                   `did you mean "sqlite:"?`,
		"environments:\n  a: {connect: \"sqlite:\"}\n":                               "nothing follows sqlite:",
		"environments:\n  a: {connect: \"postgres://u:pw@h/db\"}\n":                  "a password must not stand in anagram.yaml",
		"environments:\n  a: {connect: \"postgres://h/db?sslpassword=x\"}\n":         "a password must not stand in anagram.yaml",
		"environments:\n  a: {connect: sqlite:x, guard: {release: exakt}}\n":         `did you mean "exact"?`,
		"environments:\n  a: {connect: sqlite:x, password: {env: A, file: b}}\n":     "names more than one way",
		"environments:\n  a: {connect: sqlite:x, release: [1]}\n":                    "anagram.yaml line 2",
		"environments:\n  a: {connect: sqlite:x}\n  a: {connect: sqlite:y}\n":        "anagram.yaml line 3",
		"environments: {a: {connect: sqlite:x}}\nselections: {s: {area: [tests]}}\n": `line 2: the key "area" is not known here`,
	} {
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(dir, ConfigName), []byte(text), 0o600))
		_, err := Open(dir)
		if assert.ErrorContains(t, err, why, text) {
			assert.NotContains(t, err.Error(), "pw")
		}
	}
}
