package engine

import (
	"context"
	"database/sql"
	"errors"
	"strings"
)

// Statement is one change as the database gets it.
type Statement struct {
	Query   string // with marks
	Place   string // of an insert, to which Columns are added; "" of an update
	Columns []string
	NoBulk  bool // it is carried out as it stands, not by a way of the engine's own
	Args    []any
	One     *OneRow // of an update that could be carried out together with others like it
}

// OneRow says how an update finds its row: the values of By stand after those of the columns.
type OneRow struct {
	Place    string
	By       []string // quoted
	Declared []string // types: of the columns, then of By
}

// Queryer runs statements over one connection.
type Queryer interface {
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
	ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error)
	PrepareContext(ctx context.Context, query string) (*sql.Stmt, error)
}

// Mark stands in a statement where a value goes. No identifier can hold it.
const Mark = "\x00"

// Marked replaces the marks in a statement by the engine's own.
func Marked(d Dialect, query string) string {
	var out strings.Builder
	for n := 1; ; n++ {
		before, after, found := strings.Cut(query, Mark)
		out.WriteString(before)
		if !found {
			return out.String()
		}
		out.WriteString(d.Mark(n))
		query = after
	}
}

// Marks gives n marks with commas between.
func Marks(n int) string { return strings.TrimSuffix(strings.Repeat(Mark+", ", n), ", ") }

// RowsIn is the condition of Dialect.In for engines that compare rows with a list of rows.
func RowsIn(columns []string, n int, list string) string {
	if len(columns) == 1 {
		return columns[0] + " IN (" + Marks(n) + ")"
	}
	one := "(" + Marks(len(columns)) + ")"
	return "(" + strings.Join(columns, ", ") + ") IN (" + list + strings.TrimSuffix(strings.Repeat(one+", ", n), ", ") + ")"
}

// EachRow runs a query and calls row on each of its rows.
func EachRow(ctx context.Context, q Queryer, row func(*sql.Rows) error, query string, args ...any) error {
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

// ErrRows is a statement that did not touch as many rows as it should.
var ErrRows = errors.New("another number of rows was written than expected")
