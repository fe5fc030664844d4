package engine

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestRightsInWords(t *testing.T) {
	assert.Equal(t, "read and write all tables", RightsText(3, 3, 3))
	assert.Equal(t, "read all tables, write no table", RightsText(3, 3, 0))
	assert.Equal(t, "read 2 of 3 tables, write 1 of 3 tables", RightsText(3, 2, 1))
}
