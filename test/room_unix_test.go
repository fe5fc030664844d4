//go:build linux

package test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A full disk is called a full disk, wherever it is, and the same command works once there is
// room. It takes a file system of its own, which only root may mount.
func TestAFullDiskIsCalledSo(t *testing.T) {
	t.Parallel()
	small := t.TempDir()
	if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=300k", "tmpfs", small).CombinedOutput(); err != nil {
		t.Skipf("no small file system can be mounted here: %s", out)
	}
	t.Cleanup(func() { _ = exec.Command("umount", small).Run() })
	p := newPlace(t, "types:\n  thing: {at: {source: thing, files: things}, key: [code]}\n",
		"CREATE TABLE thing (code TEXT PRIMARY KEY, note TEXT); WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 1500) INSERT INTO thing SELECT 'A' || i, hex(randomblob(200)) FROM n;", "CREATE TABLE x (y)")
	data := filepath.Join(small, "data")
	require.NoError(t, os.Mkdir(data, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(data, "things.csv"), []byte("code,note\nB,old\n"), 0o644))
	p.write("anagram.yaml", "environments:\n  source: {connect: \"sqlite:source.db\"}\n  files: {connect: \"folder:"+data+"\"}\n")
	p.must(3, "match", "source", "--against", "files", "--name", "s")
	p.must(0, "approve", "*")
	assert.Contains(t, words(p.must(1, "import").err), "files: there is no room left on the disk of "+data)
	content, err := os.ReadFile(filepath.Join(data, "things.csv"))
	require.NoError(t, err)
	assert.Equal(t, "code,note\nB,old\n", string(content))
	require.NoError(t, exec.Command("mount", "-o", "remount,size=8m", small).Run())
	p.must(0, "import")
	assert.Equal(t, 1502, strings.Count(string(first(os.ReadFile(filepath.Join(data, "things.csv")))), "\n"))
}

func first(content []byte, _ error) []byte { return content }
