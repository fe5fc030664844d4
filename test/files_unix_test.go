//go:build unix

package test

import (
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Whatever is written into a workspace is the person's own, whatever the umask.
func TestFilesAreReadableByTheirPersonAlone(t *testing.T) {
	old := syscall.Umask(0)
	defer syscall.Umask(old)
	p := plainPlace(t)
	p.alone = true
	require.NoError(t, os.RemoveAll(p.path(".anagram")))
	for _, name := range []string{"anagram.yaml", "catalog.yaml", "source.db", "target.db"} {
		require.NoError(t, os.Chmod(p.path(name), 0o640))
	}
	p.must(0, "export", "source", "--name", "p", "--as-folder")
	p.must(0, "export", "source", "--name", "q")
	p.must(3, "match", "p", "--against", "target")
	p.must(0, "approve", "*")
	p.must(0, "import", "--into-files", "load")
	p.must(0, "import")
	p.must(0, "history")
	p.must(0, "parcel", "table", "p", "assay", "--out", "out.csv")
	seen := 0
	require.NoError(t, filepath.WalkDir(p.dir, func(path string, entry os.DirEntry, err error) error {
		require.NoError(t, err)
		info, err := entry.Info()
		require.NoError(t, err)
		name, _ := filepath.Rel(p.dir, path)
		switch {
		case path == p.dir:
		case name == "anagram.yaml" || name == "catalog.yaml" || name == "source.db" || name == "target.db":
			assert.Equal(t, os.FileMode(0o640), info.Mode().Perm(), "%s keeps its rights", name)
		default:
			seen++
			assert.Zero(t, info.Mode().Perm()&0o077, "%s is %v", name, info.Mode())
		}
		return nil
	}))
	assert.Greater(t, seen, 10)
}

// A link that stands where something is going to be written leads nowhere.
func TestNoLinkIsFollowed(t *testing.T) {
	t.Parallel()
	for i, name := range []string{"parcels", "dockets", ".anagram", ".anagram/scratch", ".anagram/agreed", ".anagram/register.jsonl", ".anagram/.register.lock", ".anagram/decided.db", "dockets/.0001.docket.lock", "parcels/p.parcel", "parcels/p", "target/.anagram-lock", "target/.anagram-new", "target/items.csv", "pairs.jsonl", ".anagram/pairs.jsonl", "load", "out.csv"} {
		if skips(i) {
			continue
		}
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p := &place{t: t, dir: t.TempDir(), user: "mara"}
			elsewhere := t.TempDir()
			p.write("anagram.yaml", "environments:\n  source: {connect: \"folder:source\"}\n  target: {connect: \"folder:target\"}\n")
			p.write("catalog.yaml", "types:\n  item: {at: items, key: [code]}\n")
			p.write("source/items.csv", "code,name\nA,a\nB,new\nC,c\n")
			p.write("target/items.csv", "code,name\nA,a\nB,old\nD,c\n")
			if name == "target/items.csv" {
				require.NoError(t, os.Rename(p.path(name), filepath.Join(elsewhere, "items.csv")))
				require.NoError(t, os.Symlink(filepath.Join(elsewhere, "items.csv"), p.path(name)))
			} else {
				to := filepath.Join(elsewhere, "there")
				if !strings.Contains(filepath.Base(name)[1:], ".") && name != "parcels/p" {
					require.NoError(t, os.Mkdir(to, 0o700))
				}
				require.NoError(t, os.MkdirAll(filepath.Dir(p.path(name)), 0o700))
				require.NoError(t, os.Symlink(to, p.path(name)))
			}
			before := (&place{t: t, dir: elsewhere}).files()
			p.run("export", "source", "--name", "p")
			p.run("export", "source", "--name", "q")
			p.run("match", "q", "--against", "target")
			p.run("pair", "item/D", "item/C")
			p.run("approve", "*")
			p.run("import", "--into-files", "load")
			p.run("parcel", "table", "q", "item", "--out", "out.csv")
			p.run("import")
			p.run("history")
			assert.Equal(t, before, (&place{t: t, dir: elsewhere}).files(), "nothing is written through a link")
		})
	}
}
