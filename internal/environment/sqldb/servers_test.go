package sqldb_test

import (
	"context"
	"database/sql"
	"testing"

	"github.com/stretchr/testify/require"

	"anagram/internal/environment"
	"anagram/internal/environment/sqldb"
	"anagram/internal/environment/suite"
)

func engine(words map[string]string, db *sql.DB, open func(readOnly bool) (environment.Environment, error)) suite.Engine {
	return suite.Engine{
		Words: words,
		Exec: func(t *testing.T, statement string) {
			_, err := db.Exec(statement)
			require.NoError(t, err, statement)
		},
		Open: func(t *testing.T, readOnly bool) environment.Environment {
			env, err := open(readOnly)
			require.NoError(t, err)
			return env
		},
	}
}

func TestPostgreSQLPassesTheConnectorSuite(t *testing.T) {
	suite.Run(t, func(t *testing.T) suite.Engine {
		url, db := suite.Postgres(t)
		words := map[string]string{"id": "serial PRIMARY KEY", "text": "varchar(40)", "integer": "bigint", "decimal": "numeric(10,3)", "boolean": "boolean",
			"date": "date", "timestamp": "timestamp", "json": "jsonb", "bytes": "bytea"}
		return engine(words, db, func(readOnly bool) (environment.Environment, error) {
			return sqldb.OpenPostgres(context.Background(), "suite", url, "", readOnly)
		})
	})
}

func TestMariaDBPassesTheConnectorSuite(t *testing.T) {
	suite.Run(t, func(t *testing.T) suite.Engine {
		url, db := suite.MySQL(t)
		words := map[string]string{"id": "bigint AUTO_INCREMENT PRIMARY KEY", "text": "varchar(40)", "integer": "bigint", "decimal": "decimal(10,3)", "boolean": "tinyint(1)",
			"date": "date", "timestamp": "datetime", "json": "json", "bytes": "longblob"}
		return engine(words, db, func(readOnly bool) (environment.Environment, error) {
			return sqldb.OpenMySQL(context.Background(), "suite", url, "", readOnly)
		})
	})
}
