package spill

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

func TestRowsGiveBackWhatItWasGiven(t *testing.T) {
	long := strings.Repeat("x", 10_000)
	for _, n := range []int{0, 1, 10, 2000} { // the last does not stay in memory
		var s Rows
		for i := range n {
			require.NoError(t, s.Add([]any{int64(i), nil, fmt.Sprint(i), []byte{byte(i), 0}, float64(i) / 3, long, ""}))
		}
		assert.Equal(t, n == 2000, s.file != nil)
		at := 0
		require.NoError(t, s.Each(context.Background(), func(row []any) error {
			require.Equal(t, []any{int64(at), nil, fmt.Sprint(at), []byte{byte(at), 0}, float64(at) / 3, long, ""}, row)
			at++
			return nil
		}))
		assert.Equal(t, n, at)
		stop := errors.New("stop")
		if n > 0 {
			assert.ErrorIs(t, s.Each(context.Background(), func([]any) error { return stop }), stop)
		}
		name := ""
		if s.file != nil {
			name = s.file.Name()
		}
		s.Close()
		if name != "" {
			_, err := os.Stat(name)
			assert.ErrorIs(t, err, os.ErrNotExist)
		}
	}
	var s Rows
	defer s.Close()
	require.NoError(t, s.Add([]any{"a"}))
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	assert.ErrorIs(t, s.Each(ctx, func([]any) error { return nil }), context.Canceled)
}
