package docket

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestALineIsTakenApart(t *testing.T) {
	var l Line
	assert.Error(t, l.read("u\x1fnew"))
	assert.Error(t, l.read("u\x1fconflict\x1f[\x1fu/A\x1f"))
	require.NoError(t, l.read("u\x1fconflict\x1f[\"taken\"]\x1fu/A\x1fa\x1fb"))
	assert.Equal(t, "a\x1fb", l.Title)
}
