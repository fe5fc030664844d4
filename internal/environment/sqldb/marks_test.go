package sqldb

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

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
