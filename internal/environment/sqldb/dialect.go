// Package sqldb reads and writes records in SQL databases. What engines have in
// common is here; what one has of its own is behind Dialect, one file each.
package sqldb

import (
	"context"
	"database/sql"
	"strings"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
	"anagram/internal/environment"
)

// Dialect is what differs between engines. Statements are made with mark where a
// value goes; Mark gives what the engine wants there.
type Dialect interface {
	// Quote makes an identifier safe to stand in a statement, Place that of a table.
	Quote(name string) string
	Place(place string) string
	Mark(n int) string // for the n-th value, from 1
	// Select gives the expression that delivers a column exactly as it is stored.
	Select(c catalog.Column) string
	// In is the condition that columns (quoted, at least one) are one of n tuples.
	In(columns []string, n int) string
	// ForUpdate follows a query whose rows are going to be written.
	ForUpdate() string
	// OneAtATime says that a connection cannot run a statement while rows are read.
	OneAtATime() bool
	// BeginRead lists the statements that start reading as at one moment.
	BeginRead() []string
	// BeginWrite starts a transaction and takes the lock against other imports.
	BeginWrite(ctx context.Context, q Queryer) error
	// EndWrite gives the lock back, after commit or rollback.
	EndWrite(ctx context.Context, q Queryer)
	// Savepoints says that a refused statement spoils its transaction, so that each is
	// guarded by a savepoint.
	Savepoints() bool
	// BeforeInserts prepares a table for records to be added, once in a unit of work.
	BeforeInserts(ctx context.Context, q Queryer, place, id string) error
	// Describe lists tables and views; About says what the environment is.
	Describe(ctx context.Context, q Queryer) (map[string]catalog.Place, error)
	About(ctx context.Context, q Queryer) (environment.Description, error)
	// Decode brings a stored value to the canonical form of a kind.
	Decode(stored any, kind record.Kind) (record.Value, error)
	// Encode gives what to store in a column for a value that is no reference.
	Encode(v record.Value, c catalog.Column) (any, error)
	// Decides reports whether the engine, asked for a column's values that compare with
	// this one, leaves out none that the canonical forms would not.
	Decides(c catalog.Column, v record.Value) bool
	// Literal writes a stored value into a statement.
	Literal(stored any) string
	// Refused reports whether an error is the engine's answer to one statement, after
	// which others may go on; a lost connection is not.
	Refused(err error) bool
	// Answered reports whether an error is the engine's answer, so that what was asked did
	// not happen; after a lost connection or a disk that fails nobody knows.
	Answered(err error) bool
	// Explain turns an error of the driver into facts and a mend for a person.
	Explain(err error) (message, mend string)
}

// Queryer runs statements over one connection.
type Queryer interface {
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
	ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error)
	PrepareContext(ctx context.Context, query string) (*sql.Stmt, error)
}

// mark stands in a statement where a value goes. No identifier can hold it.
const mark = "\x00"

// marked replaces the marks in a statement by the engine's own.
func marked(d Dialect, query string) string {
	var out strings.Builder
	for n := 1; ; n++ {
		before, after, found := strings.Cut(query, mark)
		out.WriteString(before)
		if !found {
			return out.String()
		}
		out.WriteString(d.Mark(n))
		query = after
	}
}

// marks gives n marks with commas between.
func marks(n int) string { return strings.TrimSuffix(strings.Repeat(mark+", ", n), ", ") }

// rowsIn is the condition of Dialect.In for engines that compare rows with a list of rows.
func rowsIn(columns []string, n int, list string) string {
	if len(columns) == 1 {
		return columns[0] + " IN (" + marks(n) + ")"
	}
	one := "(" + marks(len(columns)) + ")"
	return "(" + strings.Join(columns, ", ") + ") IN (" + list + strings.TrimSuffix(strings.Repeat(one+", ", n), ", ") + ")"
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
