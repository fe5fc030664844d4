package postgres_test

import (
	"context"
	"testing"

	"anagram/internal/environment"
	"anagram/internal/environment/conformance"
	"anagram/internal/environment/sqldb/postgres"
)

func TestPostgreSQLPassesTheConnectorSuite(t *testing.T) {
	conformance.Run(t, func(t *testing.T) conformance.Engine {
		url, db := conformance.Postgres(t)
		words := map[string]string{"id": "serial PRIMARY KEY", "text": "varchar(40)", "integer": "bigint", "decimal": "numeric(10,3)", "boolean": "boolean",
			"date": "date", "timestamp": "timestamp", "json": "jsonb", "bytes": "bytea"}
		return conformance.Served(words, db, func(readOnly bool) (environment.Environment, error) {
			return postgres.Open(context.Background(), "suite", url, postgres.Options{ReadOnly: readOnly})
		})
	})
}
