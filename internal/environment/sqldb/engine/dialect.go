package engine

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
	Can() Capabilities
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
	// BeginRead lists the statements that start reading as at one moment.
	BeginRead() []string
	// BeginWrite takes the lock against other imports and starts a transaction; one is not
	// asked for where a table has none.
	BeginWrite(ctx context.Context, q Queryer, transaction bool) error
	// EndWrite gives the lock back, after commit or rollback.
	EndWrite(ctx context.Context, q Queryer)
	// BeforeInserts prepares a table for records to be added, once in a unit of work.
	BeforeInserts(ctx context.Context, q Queryer, place, id string) error
	// Referring lists the foreign keys that point at a table, from wherever.
	Referring(ctx context.Context, q Queryer, place string) ([]Referring, error)
	// Describe lists tables and views; About says what the environment is.
	Describe(ctx context.Context, q Queryer) (map[string]catalog.Place, error)
	About(ctx context.Context, q Queryer) (environment.Description, error)
	// Decode brings what a column holds to the canonical form of a kind.
	Decode(stored any, kind record.Kind, c catalog.Column) (record.Value, error)
	// Encode gives what to store in a column for a value that is no reference.
	Encode(v record.Value, c catalog.Column) (any, error)
	// Decides reports whether the engine, asked for a column's values that compare with
	// this one, leaves out none that the canonical forms would not.
	Decides(c catalog.Column, v record.Value) bool
	// Literal writes a stored value into a statement, in signs that no setting of a client or a
	// session takes for others.
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

// ScriptFrame begins and ends a text of statements. It has a table anagram_script with one row: n
// counts the steps that were done, the other columns refuse null and are named for what went
// wrong where one of them is to get it.
type ScriptFrame struct {
	Begin string
	// End makes what was done lasting where all of so many steps were, and else takes it back.
	End  func(steps int) string
	From string // what stands after the values of a select from nowhere, such as " FROM DUAL"
}

// Words are the columns of anagram_script that refuse null.
const (
	RunBefore     = "this_script_was_run_before"
	NotAsExpected = "record_is_not_as_it_was"
	NotReferred   = "referred_record_is_not_there"
	NotAsWritten  = "record_is_not_as_approved"
)

// ScriptTable creates the table of a script; kind is what stands before TABLE.
func ScriptTable(kind, conflict, end string) string {
	out := "CREATE " + kind + " TABLE anagram_script (n INTEGER NOT NULL" + conflict
	for _, name := range []string{RunBefore, NotAsExpected, NotReferred, NotAsWritten} {
		out += ", " + name + " INTEGER NOT NULL" + conflict
	}
	return out + ")" + end + ";\nINSERT INTO anagram_script VALUES (0, 1, 1, 1, 1);"
}

// Plain reports whether a text has only signs that mean the same everywhere: printable ASCII
// without the backslash.
func Plain(text string) bool {
	return !strings.ContainsFunc(text, func(r rune) bool { return r < 0x20 || r > 0x7e || r == '\\' })
}

// Capabilities are what an engine can do beyond the least, or needs beyond it. Functions
// are nil where it has no way of its own.
type Capabilities struct {
	// OneAtATime says that a connection cannot run a statement while rows are read.
	OneAtATime bool
	// Conflict reports whether an error says that somebody else changed the same records at the
	// same time, so that nothing of the transaction remains.
	Conflict func(err error) bool
	// SumOf gives the expression for the SHA-256 of a column of bytes, in lower-case hexadecimal.
	SumOf func(column string) string
	// Append gives the expression for a column of bytes with more bytes after it.
	Append func(column, more string) string
	// SlowTuples says that the engine finds rows by several columns together only by looking at
	// all of them, unless it is told the values of one as well.
	SlowTuples bool
	// Pooled says that what a session has lasts for one transaction only, as a pooler stands
	// between: nothing is asked outside of one.
	Pooled bool
	// Savepoints says that a refused statement spoils its transaction, so that each is
	// guarded by a savepoint.
	Savepoints bool
	// NoIDs says that the engine does not give ids to new records.
	NoIDs bool
	// WordsOnly says that the declared type of a column is a word that binds nobody.
	WordsOnly bool
	// Insert and Update are the words that begin such statements, where the usual ones could
	// remove rows that are in the way; "" are the usual ones.
	Insert, Update string
	// Script is how a text of statements is framed that somebody else runs.
	Script ScriptFrame
	// Same is a condition that a column holds just this value, whatever its collation takes for
	// the same; literal is what Literal gives for it.
	Same func(column string, c catalog.Column, stored any, literal string) string
	// Defer is the statement that puts off to the commit what can be put off in a transaction;
	// "" where nothing can.
	Defer string
	// LongestStatement tells how many bytes a statement with its values may have.
	LongestStatement func(ctx context.Context, q Queryer) (int, error)
	// AfterInserts moves the counters of columns into which numbers were written.
	AfterInserts func(ctx context.Context, q Queryer, place string, columns []string) error
	// Settle makes all happen that is deferred to the commit. Where an engine cannot, Broken
	// lists what does not hold at a moment, by what it is: what is new there would be refused.
	Settle func(ctx context.Context, q Queryer) error
	Broken func(ctx context.Context, q Queryer) (map[string]string, error)
	// CopyOut reads all that a query without values gives, faster. Columns of bytes are those
	// marked in binary.
	CopyOut func(ctx context.Context, q Queryer, query string, binary []bool, add func([]any) error) error
	// Cells is CopyOut for a query of texts alone: it gives each row's texts, nil for null, in
	// memory that is used again for the next row. An error of row does not end the connection.
	Cells func(ctx context.Context, q Queryer, query string, width int, row func(cells [][]byte)) error
	// Bulk carries out many statements, each of which must touch one row. An error leaves the
	// transaction as after any refused statement.
	Bulk func(ctx context.Context, q Queryer, run []Statement) error
	// Trial gives values the types of columns: rows of them as a table to select from, with
	// its number from 0, anagram_row, before each.
	Trial func(place string, columns []catalog.Column, rows int) string
	// Tidy brings a value that the driver delivers in a form of its own to nil, text, bytes,
	// an int64 or a float64.
	Tidy func(stored any) any
	// Aside opens a place of its own in which values are tried, away from all data; nil tries
	// them on the connection itself.
	Aside func(ctx context.Context) (*sql.DB, error)
	// Breaks reports whether a value was refused by itself, as it breaks the rule of a domain.
	Breaks func(err error) bool
}
