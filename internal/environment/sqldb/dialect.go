// Package sqldb reads and writes records in SQL databases. What engines have in
// common is here; what one has of its own is behind Dialect, one file each.
package sqldb

import (
	"context"
	"database/sql"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
)

// Dialect is what differs between engines.
type Dialect interface {
	// Quote makes an identifier safe to stand in a statement.
	Quote(name string) string
	// Select gives the expression that delivers a column as it is stored.
	Select(column string) string
	// Describe lists tables and views.
	Describe(ctx context.Context, q Queryer) (map[string]catalog.Place, error)
	// Decode brings a stored value to the canonical form of a kind.
	Decode(stored any, kind record.Kind) (record.Value, error)
	// Encode gives what to store for a value that is no reference.
	Encode(v record.Value) (any, error)
	// Explain turns an error of the driver into facts and a mend for a person.
	Explain(err error) (message, mend string)
}

// Queryer runs statements; a connection or a transaction.
type Queryer interface {
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
	ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error)
	PrepareContext(ctx context.Context, query string) (*sql.Stmt, error)
}

// eachRow runs a query and calls row on each of its rows.
func eachRow(ctx context.Context, q Queryer, row func(*sql.Rows) error, query string, args ...any) error {
	rows, err := q.QueryContext(ctx, query, args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		if err := row(rows); err != nil {
			return err
		}
	}
	return rows.Err()
}
