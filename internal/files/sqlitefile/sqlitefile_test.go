package sqlitefile

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestOddPathsAreTakenAsTheyAre(t *testing.T) {
	for _, folder := range []string{"plain", "w?x", "a#b", "50%", "%41", "with space", "ünï", "a&mode=memory", "q?mode=memory&x=1"} {
		dir := filepath.Join(t.TempDir(), folder)
		require.NoError(t, os.Mkdir(dir, 0o755))
		path := filepath.Join(dir, "x?.db")
		_, err := os.Stat(path)
		require.Error(t, err)
		db, err := Open(path, Options{Create: true, Wait: time.Second, Pragmas: []string{"foreign_keys(1)"}})
		require.NoError(t, err)
		_, err = db.Exec("CREATE TABLE a (b); INSERT INTO a VALUES (7)")
		require.NoError(t, err, folder)
		var on, wait int
		require.NoError(t, db.QueryRow("PRAGMA foreign_keys").Scan(&on))
		require.NoError(t, db.QueryRow("PRAGMA busy_timeout").Scan(&wait))
		assert.Equal(t, []int{1, 1000}, []int{on, wait})
		require.NoError(t, db.Close())
		entries, err := os.ReadDir(filepath.Dir(dir))
		require.NoError(t, err)
		assert.Len(t, entries, 1, "nothing is written beside %s", folder)

		db, err = Open(path, Options{ReadOnly: true})
		require.NoError(t, err)
		var b int
		require.NoError(t, db.QueryRow("SELECT b FROM a").Scan(&b), folder)
		assert.Equal(t, 7, b)
		_, err = db.Exec("INSERT INTO a VALUES (8)")
		assert.ErrorContains(t, err, "readonly")
		require.NoError(t, db.Close())
	}
}

func TestAFileIsOnlyMadeWhereThatIsAskedFor(t *testing.T) {
	path := filepath.Join(t.TempDir(), "none.db")
	db, err := Open(path, Options{})
	require.NoError(t, err)
	defer db.Close()
	assert.Error(t, db.Ping())
	_, err = os.Stat(path)
	assert.ErrorIs(t, err, os.ErrNotExist)
}

// No connection reaches another file, whatever it is asked.
func TestNoOtherFileIsReached(t *testing.T) {
	dir := t.TempDir()
	db, err := Open(filepath.Join(dir, "a.db"), Options{Create: true})
	require.NoError(t, err)
	defer db.Close()
	db.SetMaxOpenConns(4)
	memory := Memory()
	defer memory.Close()
	for _, statement := range []string{"ATTACH '" + filepath.Join(dir, "b.db") + "' AS b", "VACUUM INTO '" + filepath.Join(dir, "c.db") + "'", "SELECT 1; ATTACH ':memory:' AS m"} {
		for range 6 {
			_, err := db.Exec(statement)
			assert.Error(t, err, statement)
			_, err = memory.Exec(statement)
			assert.Error(t, err, statement)
		}
	}
	other, err := Open(filepath.Join(dir, "a.db"), Options{Attach: true})
	require.NoError(t, err)
	defer other.Close()
	_, err = other.Exec("ATTACH ':memory:' AS m")
	assert.NoError(t, err)
}
