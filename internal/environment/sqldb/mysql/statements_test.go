package mysql

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"anagram/internal/environment/sqldb/engine"
)

func TestStatementsAsTheEngineWantsThem(t *testing.T) {
	query := "SELECT \"a?b\" FROM t WHERE x = " + engine.Mark + " AND y IN (" + engine.Marks(2) + ")"
	assert.Equal(t, `SELECT "a?b" FROM t WHERE x = ? AND y IN (?, ?)`, engine.Marked(dialect{}, query))
	assert.Equal(t, "a IN (?)", engine.Marked(dialect{}, dialect{}.In([]string{"a"}, 1)))
	assert.Equal(t, "`we``ird`", dialect{}.Quote("we`ird"))
	assert.Equal(t, "`lab.units`", dialect{}.Place("lab.units"))
}
