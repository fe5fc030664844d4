package test

import (
	"fmt"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// sameBytes gives the most memory that a match takes of so many records that are the same
// on both sides, and a few that are not.
func sameBytes(t *testing.T, records int) int64 {
	t.Helper()
	rows := fmt.Sprintf("WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < %d) INSERT INTO items SELECT i, printf('C%%09d', i), 'a name of ' || i, i %% 977 FROM n", records)
	p := newPlace(t, "types:\n  item: {at: items, key: [code], id: id}\n", "CREATE TABLE items (id INTEGER PRIMARY KEY, code TEXT NOT NULL UNIQUE, name TEXT, price DECIMAL(9,2));"+rows, "")
	require.NoError(t, os.WriteFile(p.path("target.db"), p.read("source.db"), 0o600))
	p.sql("target", "UPDATE items SET price = 1 WHERE id % 1009 = 0; DELETE FROM items WHERE id = 5")
	p.must(0, "export", "source", "--name", "p")
	r := p.must(3, "match", "p", "--against", "target")
	t.Logf("%d records: %d MiB, %.1f s of processor time", records, r.peak>>20, r.seconds)
	return r.peak
}

func TestMemoryOfMatchingDoesNotFollowTheRecordsThatAreTheSame(t *testing.T) {
	inLongRun(t, "volume and memory")
	// Of what is held, not of what waits to be cleaned up: how much that is differs from run to run.
	t.Setenv("GOGC", "100")
	// Up to the budget of sorting it does; both numbers are beyond.
	few := sameBytes(t, full(150_000, 150_000))
	assert.Less(t, few, int64(200<<20))
	if many := full(0, 600_000); many > 0 {
		assert.Less(t, sameBytes(t, many), few*13/10, "four times the records")
	}
}
