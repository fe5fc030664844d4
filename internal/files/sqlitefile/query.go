package sqlitefile

import (
	"context"
	"database/sql"
	"errors"
	"iter"
)

// Queryer runs queries, within a transaction or without.
type Queryer interface {
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
}

// Row is one row of an answer.
type Row interface{ Scan(into ...any) error }

// Rows runs a query and gives what scan makes of each row, in their order. The first error ends
// it.
func Rows[T any](ctx context.Context, q Queryer, scan func(Row) (T, error), query string, args ...any) iter.Seq2[T, error] {
	return func(yield func(T, error) bool) {
		rows, err := q.QueryContext(ctx, query, args...)
		var none T
		if err != nil {
			yield(none, err)
			return
		}
		defer rows.Close()
		for rows.Next() {
			value, err := scan(rows)
			if !yield(value, err) || err != nil {
				return
			}
		}
		if err := errors.Join(rows.Err(), rows.Close()); err != nil {
			yield(none, err)
		}
	}
}

// List gives all that Rows gives; nil where there is nothing.
func List[T any](ctx context.Context, q Queryer, scan func(Row) (T, error), query string, args ...any) ([]T, error) {
	var out []T
	for value, err := range Rows(ctx, q, scan, query, args...) {
		if err != nil {
			return nil, err
		}
		out = append(out, value)
	}
	return out, nil
}

// By gives all that Rows gives by a key.
func By[K comparable, T any](ctx context.Context, q Queryer, key func(T) K, scan func(Row) (T, error), query string,
	args ...any) (map[K]T, error) {
	out := map[K]T{}
	for value, err := range Rows(ctx, q, scan, query, args...) {
		if err != nil {
			return nil, err
		}
		out[key(value)] = value
	}
	return out, nil
}

// One scans rows of a single column.
func One[T any](row Row) (value T, err error) { return value, row.Scan(&value) }

// Marks is a list of as many marks as there are values, for IN, and the values as arguments.
func Marks[T any](values []T) (string, []any) {
	text, args := []byte{'('}, make([]any, len(values))
	for i, v := range values {
		if args[i] = v; i > 0 {
			text = append(text, ", "...)
		}
		text = append(text, '?')
	}
	return string(append(text, ')')), args
}
