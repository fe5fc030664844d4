package safe

import (
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func put(t *testing.T, dir string, files map[string]string) {
	t.Helper()
	for name, text := range files {
		path := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	}
}

// tree gives the files of a folder with their content.
func tree(t *testing.T, dir string) map[string]string {
	t.Helper()
	out := map[string]string{}
	require.NoError(t, filepath.WalkDir(dir, func(path string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return err
		}
		text, err := os.ReadFile(path)
		name, _ := filepath.Rel(dir, path)
		out[filepath.ToSlash(name)] = string(text)
		return err
	}))
	return out
}

func write(t *testing.T, r *Replacement, name, text string) {
	t.Helper()
	f, err := r.Create(name)
	require.NoError(t, err)
	_, err = f.WriteString(text)
	require.NoError(t, errors.Join(err, f.Close()))
}

func all(string) bool { return true }

func TestWhatIsThereIsNeverOpened(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a")
	require.NoError(t, WriteNew(path, func(w io.Writer) error { _, err := w.Write([]byte("1")); return err }))
	assert.ErrorIs(t, WriteNew(path, func(io.Writer) error { return nil }), fs.ErrExist)
	link := path + "-link"
	require.NoError(t, os.Symlink(path, link))
	_, err := CreateNew(link)
	assert.ErrorIs(t, err, fs.ErrExist)
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, "1", string(text))
	broken := errors.New("broken")
	assert.ErrorIs(t, WriteNew(path+"-new", func(io.Writer) error { return broken }), broken)
	assert.NoFileExists(t, path+"-new")
}

func TestReplaceOneFile(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "a")
	for _, text := range []string{"one", "", "three"} {
		require.NoError(t, Replace(dir, path, []byte(text)))
		assert.Equal(t, map[string]string{"a": text}, tree(t, dir))
	}
}

func TestReplaceSeveralFiles(t *testing.T) {
	for _, keep := range []string{"", ".before"} {
		dir := t.TempDir()
		put(t, dir, map[string]string{"a": "old a", "b": "old b", "sub/c": "old c", "stays": "s"})
		r, err := Begin(dir, keep)
		require.NoError(t, err)
		write(t, r, "a", "new a")
		write(t, r, "sub/c", "new c")
		write(t, r, "deep/er/d", "new d")
		r.Remove("b")
		assert.Equal(t, "old a", tree(t, dir)["a"], "nothing happens before Commit")
		require.NoError(t, r.Commit())
		require.NoError(t, r.Close())
		want := map[string]string{"a": "new a", "sub/c": "new c", "deep/er/d": "new d", "stays": "s"}
		if keep != "" {
			want["a.before"], want["sub/c.before"] = "old a", "old c"
		}
		assert.Equal(t, want, tree(t, dir))
		info, err := os.Stat(filepath.Join(dir, "a"))
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), "the mode stays")
	}
}

func TestWhatIsNotCommittedDidNotHappen(t *testing.T) {
	dir := t.TempDir()
	put(t, dir, map[string]string{"a": "old"})
	r, err := Begin(dir, "")
	require.NoError(t, err)
	write(t, r, "a", "new")
	require.NoError(t, r.Close())
	require.NoError(t, Finish(dir, all))
	assert.Equal(t, map[string]string{"a": "old"}, tree(t, dir))
	_, err = r.Create("../a")
	assert.Error(t, err)
}

// TestAnInterruptionIsMadeGood stops a replacement after each of its steps and finishes it.
func TestAnInterruptionIsMadeGood(t *testing.T) {
	for done := range 4 {
		dir := t.TempDir()
		put(t, dir, map[string]string{"a": "old a", "b": "old b", "c": "old c", ".anagram-new/a": "new a", ".anagram-new/b": "new b"})
		text, err := json.Marshal(note{Files: []string{"a", "b"}, Remove: []string{"c"}, Keep: ".was"})
		require.NoError(t, err)
		put(t, dir, map[string]string{noteName: string(text)})
		assert.True(t, Pending(dir))
		for i, name := range []string{"a", "b"} {
			if done > i {
				require.NoError(t, os.Link(filepath.Join(dir, name), filepath.Join(dir, name+".was")))
				require.NoError(t, os.Rename(filepath.Join(dir, ".anagram-new", name), filepath.Join(dir, name)))
			}
		}
		if done > 2 {
			require.NoError(t, os.Remove(filepath.Join(dir, "c")))
		}
		require.NoError(t, Finish(dir, all))
		assert.Equal(t, map[string]string{"a": "new a", "b": "new b", "a.was": "old a", "b.was": "old b"}, tree(t, dir), "after %d steps", done)
		assert.False(t, Pending(dir))
	}
}

func TestANoteIsNotBelieved(t *testing.T) {
	for name, text := range map[string]string{
		"a path outside":   `{"files":["../evil"]}`,
		"an absolute path": `{"files":["/etc/passwd"]}`,
		"a foreign name":   `{"files":["other"]}`,
		"a removal":        `{"remove":["../evil"]}`,
		"an odd suffix":    `{"files":["a"],"keep":"/../x"}`,
		"no JSON":          `{`,
	} {
		parent := t.TempDir()
		dir := filepath.Join(parent, "in")
		put(t, parent, map[string]string{"evil": "e", "in/a": "a", "in/.anagram-new/a": "new", "in/other": "o", "in/.anagram-new/other": "new", "in/" + noteName: text})
		before := tree(t, parent)
		var refused *Error
		assert.ErrorAs(t, Finish(dir, func(name string) bool { return name == "a" }), &refused, name)
		assert.Equal(t, before, tree(t, parent), name)
	}
}

func TestLinksAreNotFollowedOutside(t *testing.T) {
	parent := t.TempDir()
	dir := filepath.Join(parent, "in")
	put(t, parent, map[string]string{"out/a": "theirs", "in/.anagram-new/sub/a": "new", "in/" + noteName: `{"files":["sub/a"]}`})
	require.NoError(t, os.Symlink(filepath.Join(parent, "out"), filepath.Join(dir, "sub")))
	assert.Error(t, Finish(dir, all))
	assert.Equal(t, "theirs", tree(t, filepath.Join(parent, "out"))["a"])
}

func TestPublishNeverReplaces(t *testing.T) {
	dir := t.TempDir()
	made, path := filepath.Join(dir, "made"), filepath.Join(dir, "path")
	put(t, dir, map[string]string{"made": "new"})
	require.NoError(t, Publish(made, path))
	assert.NoFileExists(t, made)
	put(t, dir, map[string]string{"made": "other"})
	require.ErrorIs(t, Publish(made, path), fs.ErrExist)
	assert.FileExists(t, made, "it can be published under another name")
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, "new", string(text))
}

func TestAnInterruptedReplacementDoesNotOverwriteALaterEdit(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "a.csv")
	require.NoError(t, os.WriteFile(file, []byte("old"), 0o600))
	r, err := Begin(dir, "")
	require.NoError(t, err)
	f, err := r.Create("a.csv")
	require.NoError(t, err)
	_, err = f.WriteString("new")
	require.NoError(t, errors.Join(err, f.Close()))
	require.NoError(t, r.begin()) // and then it was interrupted
	known := func(string) bool { return true }
	require.NoError(t, os.WriteFile(file, []byte("edited since"), 0o600))
	assert.ErrorContains(t, Finish(dir, known), "is about a.csv, which was changed since")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, "edited since", string(text))
	require.NoError(t, os.WriteFile(file, []byte("old"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, stageName, "a.csv"), []byte("somebody else's"), 0o600))
	assert.ErrorContains(t, Finish(dir, known), "is about a.csv, which was changed since")
	require.NoError(t, os.WriteFile(filepath.Join(dir, stageName, "a.csv"), []byte("new"), 0o600))
	require.NoError(t, Finish(dir, known))
	text, err = os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, "new", string(text))
}
