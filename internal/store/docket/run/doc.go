// Package run keeps what imports and rehearsals do, in the docket that they are of: that they
// begin and how they end, the before-images, what was read back of new records, what became of
// each finding, and the journal of an import without one transaction.
//
// The contract: what is kept is on disk when a function returns, and stands in the docket's chain
// or under a sum that does. Nothing here decides what is written.
package run

import (
	"context"
	"database/sql"
	"time"

	"anagram/internal/files/sqlitefile"
)

// Book is the docket that runs are kept in.
type Book interface {
	// Change does something in one transaction, and adds what link is given to the chain.
	Change(ctx context.Context, do func(tx *sql.Tx, link func(kind string, content any) error) error) error
	// Reading gives the file to read from until done is called.
	Reading() (q sqlitefile.Queryer, done func())
	// Wrap says of an error which docket it is of.
	Wrap(err error) error
	// Where tells where what happens now is done; nil where nobody said.
	Where() *Origin
}

// Origin is where a decision or a run was made, beside the name that was given for it. It is
// what the machine said, which proves no more than the name does to who owns the machine.
type Origin struct {
	Account string `json:"account"` // of the operating system
	Host    string `json:"host"`
	Named   bool   `json:"named,omitempty"` // another name than the account's was given
}

// Stamp writes a time as dockets keep it: UTC, to the second.
func Stamp(t time.Time) string { return t.UTC().Format(time.RFC3339) }

// changed is Change where a link is all there is.
func changed(ctx context.Context, b Book, kind string, content any) error {
	return b.Change(ctx, func(_ *sql.Tx, link func(string, any) error) error { return link(kind, content) })
}

// read gives what a query finds in the docket.
func read[T any](ctx context.Context, b Book, scan func(sqlitefile.Row) (T, error), query string, args ...any) ([]T, error) {
	q, done := b.Reading()
	defer done()
	out, err := sqlitefile.List(ctx, q, scan, query, args...)
	return out, b.Wrap(err)
}
