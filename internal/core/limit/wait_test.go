package limit

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestWhoIsInAHurryWaitsLess(t *testing.T) {
	ctx := context.Background()
	assert.Equal(t, 3*time.Second, Wait(ctx, 3*time.Second))
	assert.Equal(t, 300*time.Millisecond, Wait(Hurried(ctx, 10), 3*time.Second))
	for _, parts := range []int{-1, 0, 1} {
		assert.Equal(t, time.Second, Wait(Hurried(ctx, parts), time.Second))
	}
}
