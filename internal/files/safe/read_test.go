package safe

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestOnlyPlainFilesOfAKnownSizeAreRead(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "a")
	require.NoError(t, os.WriteFile(path, []byte("12345"), 0o600))
	text, err := ReadSmall(path, 5)
	require.NoError(t, err)
	assert.Equal(t, "12345", string(text))
	_, err = ReadSmall(path, 4)
	assert.ErrorContains(t, err, "larger than 4 bytes")
	_, err = ReadSmall(dir, 4)
	assert.ErrorContains(t, err, "no plain file")
	_, err = ReadSmall(filepath.Join(dir, "none"), 4)
	assert.ErrorIs(t, err, os.ErrNotExist)
}

func TestNothingIsWrittenThroughALink(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "a")
	assert.NoError(t, NoLink(path))
	f, err := Append(path)
	require.NoError(t, err)
	_, err = f.WriteString("x")
	require.NoError(t, err)
	require.NoError(t, f.Close())
	assert.NoError(t, NoLink(path))
	link := filepath.Join(dir, "b")
	if err := os.Symlink(path, link); err != nil {
		t.Skip("this system makes no links here")
	}
	assert.ErrorContains(t, NoLink(link), "not a plain file")
	_, err = Append(link)
	assert.ErrorContains(t, err, "not a plain file")
	// Replacing puts a file in the place of the link, and leaves what it pointed at.
	require.NoError(t, Replace(dir, link, []byte("new")))
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, "x", string(text))
	// What is replaced keeps its rights.
	require.NoError(t, os.Chmod(path, 0o640))
	require.NoError(t, Replace(dir, path, []byte("new")))
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o640), info.Mode().Perm())
}
