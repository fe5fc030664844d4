package sqlitefile

import (
	"context"
	"errors"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWhatAQueryGives(t *testing.T) {
	ctx := t.Context()
	db, err := Open(filepath.Join(t.TempDir(), "a.db"), Options{Create: true})
	require.NoError(t, err)
	defer db.Close()
	_, err = db.Exec("CREATE TABLE t (n INTEGER, s TEXT); INSERT INTO t VALUES (1, 'a'), (2, 'b'), (3, 'c')")
	require.NoError(t, err)
	type row struct {
		n int
		s string
	}
	scan := func(r Row) (out row, err error) { return out, r.Scan(&out.n, &out.s) }

	all, err := List(ctx, db, scan, "SELECT n, s FROM t ORDER BY n")
	require.NoError(t, err)
	assert.Equal(t, []row{{1, "a"}, {2, "b"}, {3, "c"}}, all)
	none, err := List(ctx, db, One[string], "SELECT s FROM t WHERE n > 9")
	require.NoError(t, err)
	assert.Nil(t, none)

	marks, args := Marks([]int{1, 3})
	assert.Equal(t, "(?, ?)", marks)
	by, err := By(ctx, db, func(r row) string { return r.s }, scan, "SELECT n, s FROM t WHERE n IN "+marks, args...)
	require.NoError(t, err)
	assert.Equal(t, map[string]row{"a": {1, "a"}, "c": {3, "c"}}, by)

	// It ends where nobody wants more, and at the first error.
	seen := 0
	for range Rows(ctx, db, scan, "SELECT n, s FROM t") {
		if seen++; seen == 2 {
			break
		}
	}
	assert.Equal(t, 2, seen)
	odd := errors.New("odd")
	_, err = List(ctx, db, func(r Row) (row, error) {
		out, err := scan(r)
		if out.n == 2 {
			err = odd
		}
		return out, err
	}, "SELECT n, s FROM t ORDER BY n")
	require.ErrorIs(t, err, odd)
	_, err = By(ctx, db, func(n int) int { return n }, One[int], "SELECT s FROM t")
	require.Error(t, err, "a text is no number")
	_, err = List(ctx, db, scan, "SELECT n FROM nowhere")
	require.Error(t, err)
	gone, stop := context.WithCancel(ctx)
	stop()
	_, err = List(gone, db, scan, "SELECT n, s FROM t")
	require.Error(t, err)
}
