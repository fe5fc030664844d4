package postgres

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"anagram/internal/environment/sqldb/engine"
)

func TestStatementsAsTheEngineWantsThem(t *testing.T) {
	query := "SELECT \"a?b\" FROM t WHERE x = " + engine.Mark + " AND y IN (" + engine.Marks(2) + ")"
	assert.Equal(t, `SELECT "a?b" FROM t WHERE x = $1 AND y IN ($2, $3)`, engine.Marked(dialect{}, query))
	assert.Equal(t, "(a, b) IN (($1, $2), ($3, $4))", engine.Marked(dialect{}, dialect{}.In([]string{"a", "b"}, 2)))
	assert.Equal(t, `"we""ird"`, dialect{}.Quote(`we"ird`))
	assert.Equal(t, `"lab"."units"`, dialect{}.Place("lab.units"))
}
