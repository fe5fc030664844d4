package mysql_test

import (
	"context"
	"testing"

	"anagram/internal/environment"
	"anagram/internal/environment/conformance"
	"anagram/internal/environment/sqldb/mysql"
)

func TestMariaDBPassesTheConnectorSuite(t *testing.T) {
	conformance.Run(t, func(t *testing.T) conformance.Engine {
		url, db := conformance.MySQL(t)
		words := map[string]string{"id": "bigint AUTO_INCREMENT PRIMARY KEY", "text": "varchar(40)", "integer": "bigint", "decimal": "decimal(10,3)", "boolean": "tinyint(1)",
			"date": "date", "timestamp": "datetime", "json": "json", "bytes": "longblob"}
		return conformance.Served(words, db, func(readOnly bool) (environment.Environment, error) {
			return mysql.Open(context.Background(), "suite", url, mysql.Options{ReadOnly: readOnly})
		})
	})
}
