package memory

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// What is held has room beside it, so that memory is never cleaned up without end.
func TestThereIsAlwaysRoom(t *testing.T) {
	for _, held := range []uint64{0, 1, 40 << 20, 100 << 20, 160 << 20, 1 << 30, 1 << 40} {
		limit := limitFor(held)
		assert.GreaterOrEqual(t, limit, int64(roomBytes))
		assert.GreaterOrEqual(t, limit, int64(held)/2*3, "%d bytes", held)
	}
	assert.EqualValues(t, roomBytes, limitFor(30<<20), "little is held as a rule")
}
