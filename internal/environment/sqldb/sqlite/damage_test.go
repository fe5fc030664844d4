package sqlite

import (
	"context"
	"database/sql"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A file is called damaged only where the engine's own check finds damage; else somebody
// writes, and trying again is the way.
func TestDamageIsSaidOnlyWhereTheEngineFindsIt(t *testing.T) {
	dir := t.TempDir()
	sound, broken := filepath.Join(dir, "sound.db"), filepath.Join(dir, "broken.db")
	db, err := sql.Open("sqlite", sound)
	require.NoError(t, err)
	_, err = db.Exec("CREATE TABLE items (code TEXT); WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i+1 FROM n WHERE i < 5000) INSERT INTO items SELECT 'item ' || i FROM n")
	require.NoError(t, err)
	require.NoError(t, db.Close())
	content, err := os.ReadFile(sound)
	require.NoError(t, err)
	for i := 3 * 4096; i < 9*4096; i++ {
		content[i] = 0xAA
	}
	require.NoError(t, os.WriteFile(broken, content, 0o600))
	torn, err := sql.Open("sqlite", broken)
	require.NoError(t, err)
	defer torn.Close()
	var n int
	err = torn.QueryRowContext(context.Background(), "SELECT count(code || 'x') FROM items").Scan(&n)
	require.Error(t, err)
	message, mend := dialect{path: broken}.Explain(err)
	assert.Contains(t, message, "is damaged: ")
	assert.Equal(t, "Bring it back from a backup.", mend)
	message, mend = dialect{path: sound}.Explain(err)
	assert.Equal(t, sound+" could not be read as at one moment: another program writes to it without keeping to SQLite's locks. The file itself is sound.", message)
	assert.Equal(t, "Wait until that program has finished, or close it, and try again.", mend)
}
