package sqlite

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"anagram/internal/environment/sqldb/engine"
)

func TestStatementsAsTheEngineWantsThem(t *testing.T) {
	assert.Equal(t, "(a, b) IN (VALUES (?, ?), (?, ?))", engine.Marked(dialect{}, dialect{}.In([]string{"a", "b"}, 2)))
	assert.Equal(t, `"we""ird"`, dialect{}.Quote(`we"ird`))
	assert.Equal(t, `"lab.units"`, dialect{}.Place("lab.units"))
}
