package sqldb

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestSpoolGivesBackWhatItWasGiven(t *testing.T) {
	long := strings.Repeat("x", 10_000)
	for _, n := range []int{0, 1, 10, 2000} { // the last does not stay in memory
		var s spool
		for i := range n {
			require.NoError(t, s.add([]any{int64(i), nil, fmt.Sprint(i), []byte{byte(i), 0}, float64(i) / 3, long, ""}))
		}
		assert.Equal(t, n == 2000, s.file != nil)
		at := 0
		require.NoError(t, s.each(context.Background(), func(row []any) error {
			require.Equal(t, []any{int64(at), nil, fmt.Sprint(at), []byte{byte(at), 0}, float64(at) / 3, long, ""}, row)
			at++
			return nil
		}))
		assert.Equal(t, n, at)
		stop := errors.New("stop")
		if n > 0 {
			assert.ErrorIs(t, s.each(context.Background(), func([]any) error { return stop }), stop)
		}
		name := ""
		if s.file != nil {
			name = s.file.Name()
		}
		s.close()
		if name != "" {
			_, err := os.Stat(name)
			assert.ErrorIs(t, err, os.ErrNotExist)
		}
	}
	var s spool
	defer s.close()
	require.NoError(t, s.add([]any{"a"}))
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	assert.ErrorIs(t, s.each(ctx, func([]any) error { return nil }), context.Canceled)
}

func TestMarksBecomeWhatTheEngineWants(t *testing.T) {
	query := "SELECT \"a?b\" FROM t WHERE x = " + mark + " AND y IN (" + marks(2) + ")"
	assert.Equal(t, `SELECT "a?b" FROM t WHERE x = $1 AND y IN ($2, $3)`, marked(postgresDialect{}, query))
	assert.Equal(t, `SELECT "a?b" FROM t WHERE x = ? AND y IN (?, ?)`, marked(mysqlDialect{}, query))
	assert.Equal(t, "(a, b) IN (VALUES (?, ?), (?, ?))", marked(sqliteDialect{}, sqliteDialect{}.In([]string{"a", "b"}, 2)))
	assert.Equal(t, "(a, b) IN (($1, $2), ($3, $4))", marked(postgresDialect{}, postgresDialect{}.In([]string{"a", "b"}, 2)))
	assert.Equal(t, "a IN (?)", marked(mysqlDialect{}, mysqlDialect{}.In([]string{"a"}, 1)))
	for given, want := range map[string]string{"plain": `"plain"`, `we"ird`: `"we""ird"`} {
		assert.Equal(t, want, postgresDialect{}.Quote(given))
		assert.Equal(t, want, sqliteDialect{}.Quote(given))
	}
	assert.Equal(t, "`we``ird`", mysqlDialect{}.Quote("we`ird"))
	assert.Equal(t, `"lab"."units"`, postgresDialect{}.Place("lab.units"))
	assert.Equal(t, `"lab.units"`, sqliteDialect{}.Place("lab.units"))
}

func TestRightsInWords(t *testing.T) {
	assert.Equal(t, "read and write all tables", rightsText(3, 3, 3))
	assert.Equal(t, "read all tables, write no table", rightsText(3, 3, 0))
	assert.Equal(t, "read 2 of 3 tables, write 1 of 3 tables", rightsText(3, 2, 1))
}
