package odata_test

import (
	"context"
	"database/sql"
	"net/http/httptest"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"anagram/internal/demo/service"
	"anagram/internal/environment"
	"anagram/internal/environment/conformance"
	"anagram/internal/environment/odata"
	"anagram/internal/environment/web"
	"anagram/internal/tests"
)

// fresh gives a service over an empty file.
func fresh(o service.Options, batch string) func(t *testing.T) conformance.Engine {
	return func(t *testing.T) conformance.Engine {
		path := filepath.Join(t.TempDir(), "suite.db")
		db, err := sql.Open("sqlite", "file:"+path+"?_pragma=busy_timeout(5000)")
		require.NoError(t, err)
		t.Cleanup(func() { _ = db.Close() })
		return conformance.Engine{
			Catalog: "ignore: [row_id]\n",
			Words: map[string]string{"id": "INTEGER PRIMARY KEY", "text": "VARCHAR(40)", "integer": "INTEGER", "decimal": "DECIMAL(10,3)", "boolean": "BOOLEAN",
				"date": "DATE", "timestamp": "TEXT", "json": "JSON", "bytes": "BLOB"},
			Exec: func(t *testing.T, statement string) {
				_, err := db.Exec(statement)
				require.NoError(t, err, statement)
			},
			Open: func(t *testing.T, readOnly bool) environment.Environment {
				o := o
				o.File = path
				s, err := service.Open(context.Background(), o)
				require.NoError(t, err)
				t.Cleanup(func() { _ = s.Close() })
				server := httptest.NewServer(s)
				t.Cleanup(server.Close)
				env, err := odata.Open(context.Background(), odata.Options{ReadOnly: readOnly, Batch: batch, Web: web.Options{Name: "suite", Base: server.URL, Pace: web.Pace{PerSecond: 10000}}})
				require.NoError(t, err)
				return env
			},
		}
	}
}

func TestTheStandInPassesTheConnectorSuite(t *testing.T) {
	t.Parallel()
	for name, o := range map[string]service.Options{
		"as it is":                        {},
		"without batches":                 {NoBatch: true},
		"with pages of two":               {Page: 2},
		"without versions":                {NoTags: true},
		"with short filters and answers":  {InOne: 1, Ignores: []string{"representation"}},
		"that ignores filters":            {Ignores: []string{"filter"}},
		"that ignores counts and selects": {Ignores: []string{"count", "select"}, Page: 3},
	} {
		if !tests.Thorough() && name != "as it is" && name != "with short filters and answers" {
			continue
		}
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			conformance.RunService(t, fresh(o, ""))
		})
	}
	if !tests.Thorough() {
		return
	}
	t.Run("with batches in parts", func(t *testing.T) {
		t.Parallel()
		conformance.RunService(t, fresh(service.Options{}, "parts"))
	})
}
