package query

import (
	"context"
	"database/sql"
	"fmt"
	"strings"

	"anagram/internal/core/catalog"
	"anagram/internal/environment"
	"anagram/internal/environment/sqldb/engine"
	"anagram/internal/files/spill"
)

// Conn is one connection with a transaction open, over which an engine is asked.
type Conn struct {
	Name    string
	Dialect engine.Dialect
	Can     engine.Capabilities
	Q       engine.Queryer
	Places  map[string]catalog.Place // once described
	stmts   map[string]*sql.Stmt
}

// New makes a connection one; places are what is known of it, nil where it is not described yet.
func New(name string, d engine.Dialect, q engine.Queryer, places map[string]catalog.Place) *Conn {
	return &Conn{Name: name, Dialect: d, Can: d.Can(), Q: q, Places: places, stmts: map[string]*sql.Stmt{}}
}

// Release closes the statements that were prepared. The connection is closed by who opened it.
func (s *Conn) Release() {
	for _, stmt := range s.stmts {
		_ = stmt.Close()
	}
	s.stmts = map[string]*sql.Stmt{}
}

// Described lists the places, from the database the first time.
func (s *Conn) Described(ctx context.Context) (map[string]catalog.Place, error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	if s.Places == nil {
		places, err := s.Dialect.Describe(ctx, s.Q)
		if err != nil {
			return nil, s.Explain(err)
		}
		s.Places = places
	}
	return s.Places, nil
}

// Prepare prepares a statement once.
func (s *Conn) Prepare(ctx context.Context, query string) (*sql.Stmt, error) {
	if stmt, ok := s.stmts[query]; ok {
		return stmt, nil
	}
	stmt, err := s.Q.PrepareContext(ctx, engine.Marked(s.Dialect, query))
	if err != nil {
		return nil, err
	}
	s.stmts[query] = stmt
	return stmt, nil
}

// Explain says what an error of the engine means; nil stays nil.
func (s *Conn) Explain(err error) error {
	if err == nil {
		return nil
	}
	message, mend := s.Dialect.Explain(err)
	return &environment.Error{Environment: s.Name, Message: message, Mend: mend, Conflict: s.Can.Conflict != nil &&
		s.Can.Conflict(err), Cause: err}
}

// SelectFrom begins a query for columns of a table.
func (s *Conn) SelectFrom(t Table, columns []string) string {
	out := make([]string, len(columns))
	for i, name := range columns {
		column, ok := t.Columns[name]
		if !ok {
			column.Name = name
		}
		out[i] = s.Dialect.Select(column)
	}
	return fmt.Sprintf("SELECT %s FROM %s", strings.Join(out, ", "), s.Dialect.Place(t.At))
}

// Query runs a statement and gives each row's stored values to row, which may keep
// them. Where the engine cannot do two things at a time, row is called when the
// database has delivered everything, which waits on disk if it is much.
func (s *Conn) Query(ctx context.Context, width int, row func([]any) error, query string, args ...any) error {
	if !s.Can.OneAtATime {
		return s.Scan(ctx, width, row, query, args...)
	}
	var kept spill.Rows
	defer kept.Close()
	if err := s.Scan(ctx, width, kept.Add, query, args...); err != nil {
		return err
	}
	return kept.Each(ctx, row)
}

// Stream is Query for a statement with very many rows. Binary says which of its columns are
// delivered as bytes.
func (s *Conn) Stream(ctx context.Context, binary []bool, row func([]any) error, query string, args ...any) error {
	if s.Can.CopyOut == nil || len(args) > 0 {
		return s.Query(ctx, len(binary), row, query, args...)
	}
	var kept spill.Rows
	defer kept.Close()
	if err := s.Can.CopyOut(ctx, s.Q, query, binary, kept.Add); err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return s.Explain(err)
	}
	return kept.Each(ctx, row)
}

// Scan runs a statement and gives each row's stored values to row, as they come.
func (s *Conn) Scan(ctx context.Context, width int, row func([]any) error, query string, args ...any) error {
	rows, err := s.Q.QueryContext(ctx, engine.Marked(s.Dialect, query), args...)
	if err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return s.Explain(err)
	}
	defer rows.Close()
	for rows.Next() {
		values := make([]any, width)
		into := make([]any, width)
		for i := range values {
			into[i] = &values[i]
		}
		if err := rows.Scan(into...); err != nil {
			return s.Explain(err)
		}
		if s.Can.Tidy != nil {
			for i := range values {
				values[i] = s.Can.Tidy(values[i])
			}
		}
		if err := row(values); err != nil {
			return err
		}
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return s.Explain(rows.Err())
}

// Number runs a query for one number.
func (s *Conn) Number(ctx context.Context, query string) (int, error) {
	n := 0
	err := s.Query(ctx, 1, func(row []any) error {
		_, err := fmt.Sscan(engine.StoredText(row[0]), &n)
		return err
	}, query)
	return n, err
}

// Guard runs a statement about savepoints where the engine needs them.
func (s *Conn) Guard(ctx context.Context, statement string) error {
	if !s.Can.Savepoints {
		return nil
	}
	_, err := s.Q.ExecContext(ctx, statement)
	return s.Explain(err)
}
