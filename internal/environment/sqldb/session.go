package sqldb

import (
	"context"
	"database/sql"
	"fmt"
	"strings"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
	"anagram/internal/environment"
)

// session reads and writes over one connection that has a transaction open.
type session struct {
	name    string
	dialect Dialect
	q       Queryer

	keys    map[string]map[string]record.Key // type -> internal id -> key
	cached  int
	located map[string]map[string][]identity // type -> key order -> records with it
	odd     map[string]map[string][]identity // see locate.go
	stmts   map[string]*sql.Stmt
}

// identity is how an environment itself tells a record: its internal id, or the
// stored values of its key.
type identity []any

// maxCached bounds the ids and keys that a session remembers between batches.
const maxCached = 200_000

// batch is how many records are read, translated and looked up at a time.
const batch = 500

func newSession(name string, d Dialect, q Queryer) *session {
	s := &session{name: name, dialect: d, q: q, stmts: map[string]*sql.Stmt{}}
	s.forget()
	return s
}

func (s *session) forget() {
	s.keys = map[string]map[string]record.Key{}
	s.located = map[string]map[string][]identity{}
	s.cached = 0
}

func (s *session) close() {
	for _, stmt := range s.stmts {
		_ = stmt.Close()
	}
}

func (s *session) prepare(ctx context.Context, query string) (*sql.Stmt, error) {
	if stmt, ok := s.stmts[query]; ok {
		return stmt, nil
	}
	stmt, err := s.q.PrepareContext(ctx, query)
	if err != nil {
		return nil, s.explain(err)
	}
	s.stmts[query] = stmt
	return stmt, nil
}

func (s *session) explain(err error) error {
	if err == nil {
		return nil
	}
	message, mend := s.dialect.Explain(err)
	return &environment.Error{Environment: s.name, Message: message, Mend: mend, Cause: err}
}

// table is one record type as this environment has it.
type table struct {
	*catalog.Type
	place    string
	identity []string // columns that tell a record: the internal id, else the key
}

func (s *session) table(m *environment.Model, typ string) (table, error) {
	t, ok := m.Catalog.Type(typ)
	if !ok {
		return table{}, fmt.Errorf("the record type %q is not in the catalog", typ)
	}
	tab := table{Type: t, place: t.Place(m.Environment), identity: t.Key}
	if t.ID != "" {
		tab.identity = []string{t.ID}
	}
	return tab, nil
}

// from gives the quoted table name; a schema may stand before a dot.
func (s *session) from(t table) string { return s.dialect.Quote(t.place) }

func (s *session) selectList(columns []string) string {
	out := make([]string, len(columns))
	for i, column := range columns {
		out[i] = s.dialect.Select(column)
	}
	return strings.Join(out, ", ")
}

// query runs a statement and gives each row's stored values to row, which may keep them.
func (s *session) query(ctx context.Context, width int, row func([]any) error, query string, args ...any) error {
	rows, err := s.q.QueryContext(ctx, query, args...)
	if err != nil {
		return s.explain(err)
	}
	defer rows.Close()
	for rows.Next() {
		values := make([]any, width)
		into := make([]any, width)
		for i := range values {
			into[i] = &values[i]
		}
		if err := rows.Scan(into...); err != nil {
			return s.explain(err)
		}
		if err := row(values); err != nil {
			return err
		}
	}
	return s.explain(rows.Err())
}

// idText gives an internal id as text, for maps and messages.
func idText(stored any) string {
	switch v := stored.(type) {
	case []byte:
		return fmt.Sprintf("%x", v)
	case nil:
		return ""
	default:
		return fmt.Sprint(v)
	}
}

func (id identity) text() string {
	parts := make([]string, len(id))
	for i, stored := range id {
		parts[i] = idText(stored)
	}
	return strings.Join(parts, ", ")
}
