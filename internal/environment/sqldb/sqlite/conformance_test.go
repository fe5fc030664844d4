package sqlite_test

import (
	"context"
	"database/sql"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"anagram/internal/environment"
	"anagram/internal/environment/conformance"
	"anagram/internal/environment/sqldb/sqlite"
)

func TestSQLitePassesTheConnectorSuite(t *testing.T) {
	conformance.Run(t, func(t *testing.T) conformance.Engine {
		path := filepath.Join(t.TempDir(), "a file?#%.db")
		db, err := sql.Open("sqlite", "file:"+filepath.Dir(path)+"/a file%3F%23%25.db")
		require.NoError(t, err)
		t.Cleanup(func() { _ = db.Close() })
		return conformance.Engine{
			Words: map[string]string{"id": "INTEGER PRIMARY KEY", "text": "VARCHAR(40)", "integer": "INTEGER", "decimal": "DECIMAL(10,3)", "boolean": "BOOLEAN",
				"date": "DATE", "timestamp": "DATETIME", "json": "JSON", "bytes": "BLOB"},
			Exec: func(t *testing.T, statement string) {
				_, err := db.Exec(statement)
				require.NoError(t, err, statement)
			},
			Open: func(t *testing.T, readOnly bool) environment.Environment {
				env, err := sqlite.Open(context.Background(), "suite", path, readOnly)
				require.NoError(t, err)
				return env
			},
		}
	})
}
