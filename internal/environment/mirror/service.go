package mirror

import (
	"context"
	"time"

	"anagram/internal/core/condition"
	"anagram/internal/environment"
)

// Rights says what may be done with a service that may be written.
const Rights = "read and write, each record by itself: no transactions"

// Service is what a protocol offers. Stored values are nil, int64, string and []byte: texts
// for everything that is no whole number that fits, booleans as 0 and 1, instants, dates and
// decimals in canonical form, JSON as its text.
type Service interface {
	// Describe says what the service is and which sets it has.
	Describe(ctx context.Context) (environment.Description, error)
	// Count counts the rows of a set; -1 where the service does not tell.
	Count(ctx context.Context, set string) (int, error)
	// Fetch gives rows of a set. Of those asked for none is left out; others may come too.
	Fetch(ctx context.Context, q Query, give func(Row) error) error
	// Narrows reports whether the service can be asked for rows by the values of a column.
	Narrows(ctx context.Context, set, column string) (bool, error)
	// Requests tells how many requests it takes to fetch a whole set of so many rows, and the
	// rows with so many values in a column.
	Requests(ctx context.Context, rows, values int) (whole, narrowed int, err error)
	// Send sends edits, whose order is kept, and gives an outcome for each. The error is for
	// what leaves nothing known of any of them but that none was sent.
	Send(ctx context.Context, edits []Edit) ([]Outcome, error)
	// Together is how many edits one Send takes in one request.
	Together(ctx context.Context) (int, error)
	Close() error
}

// Query asks for rows.
type Query struct {
	Set     string
	Columns []string          // that are wanted; others may stay nil
	By      string            // with In: of the rows with one of these values in a column
	In      []any             // nil is all rows
	Refs    []string          // of the rows with these references
	Where   []*condition.Term // may be used to leave out rows that do not fulfil all of them
	Most    int               // rows that are enough; 0 is all
}

// Row is a row as the service has it.
type Row struct {
	Ref    string // how the service names it
	Tag    string // its version, "" where there is none
	Values map[string]any
}

// Kind is what an edit does.
type Kind int

// The kinds of edits.
const (
	Add Kind = iota
	Change
	Remove
)

// Edit is one row to be written.
type Edit struct {
	Kind   Kind
	Set    string
	Ref    string // of a row that is there
	Tag    string // the version it must still have, "" where there is none
	Values map[string]any
	Key    []string // columns by which a new row is found again
	Loose  []string // columns in which the service may keep something else than was sent
	ID     string   // tells this edit from all others, however often it is sent
}

// Outcome is what came of an edit.
type Outcome struct {
	Row     *Row          // as it is now, nil where the service does not tell
	Refused error         // the service's own words
	Moved   bool          // the row is not in the version that was given
	Lost    error         // nobody knows whether it took effect
	After   time.Duration // the service asks to be left alone for so long
}
