package rows

import (
	"context"
	"database/sql"
	"fmt"
	"strings"
	"time"

	"anagram/internal/core/catalog"
	"anagram/internal/core/condition"
	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/environment/sqldb/engine"
	"anagram/internal/files/spill"
)

// session reads and writes over one connection that has a transaction open.
type session struct {
	name    string
	dialect engine.Dialect
	can     engine.Capabilities
	q       engine.Queryer
	aside   *sql.DB                  // where values are tried, nil before one is
	places  map[string]catalog.Place // once described

	keys     map[string]map[string]record.Key // see learnedBy: internal id -> key
	outside  map[string]map[string]bool       // the same for records that are left out
	cached   int
	located  map[string]map[string][]identity // type -> key order -> records with it
	odd      map[string]map[string][]identity // see locate.go
	stmts    map[string]*sql.Stmt
	ready    map[string]bool // places to which records may be added
	lastIDs  map[string]int  // by place, of those that are made here
	counters map[string]catalog.Counter
	deferred bool                // what can be put off to the commit is
	standIns int                 // values given for references that get theirs later
	touched  map[string]*stamped // records that were changed, by type
	asked    time.Time           // when the clock was asked
	clock    time.Time
	zone     *time.Location                 // of times without zone
	longest  int                            // bytes of a statement that the server takes, 0 before it was asked
	locking  bool                           // rows read by key are going to be written
	inserted map[string]map[string]bool     // columns of places into which something was added
	met      map[string]map[string]identity // records read while locking, by type and ID

	conditions map[string]*condition.Condition // of types that leave records out
	outsiders  map[string]bool                 // types that can have records left out
	referrers  map[string][]engine.Referring   // that point at a place
	names      map[string]map[string]string    // of people, see people.go
}

// identity is how an environment itself tells a record: its internal id, or the
// stored values of its key.
type identity []any

// maxCached bounds the ids and keys that a session remembers between batches.
const maxCached = 200_000

// batch is how many records are read, translated and looked up at a time.
const batch = 500

func newSession(name string, d engine.Dialect, q engine.Queryer, places map[string]catalog.Place) *session {
	s := &session{name: name, dialect: d, can: d.Can(), q: q, places: places, stmts: map[string]*sql.Stmt{}, touched: map[string]*stamped{}, inserted: map[string]map[string]bool{}, met: map[string]map[string]identity{}, ready: map[string]bool{}, lastIDs: map[string]int{}, counters: map[string]catalog.Counter{},
		conditions: map[string]*condition.Condition{}, outsiders: map[string]bool{}, referrers: map[string][]engine.Referring{}}
	s.forget()
	return s
}

// remember keeps how a record that was read is told, so that it is found again whatever
// becomes of its key. An ID that two records have tells neither.
func (s *session) remember(typ, id string, of identity) {
	if s.met[typ] == nil {
		s.met[typ] = map[string]identity{}
	}
	if other, ok := s.met[typ][id]; ok && other.mapKey() != of.mapKey() {
		of = nil
	}
	s.met[typ][id] = of
}

func (s *session) forget() {
	s.keys = map[string]map[string]record.Key{}
	s.outside = map[string]map[string]bool{}
	s.located = map[string]map[string][]identity{}
	s.cached = 0
}

func (s *session) close() {
	for _, stmt := range s.stmts {
		_ = stmt.Close()
	}
	s.stmts = map[string]*sql.Stmt{}
	if s.aside != nil {
		_ = s.aside.Close()
		s.aside = nil
	}
}

// describe lists the places, from the database the first time.
func (s *session) describe(ctx context.Context) (map[string]catalog.Place, error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	if s.places == nil {
		places, err := s.dialect.Describe(ctx, s.q)
		if err != nil {
			return nil, s.explain(err)
		}
		s.places = places
	}
	return s.places, nil
}

func (s *session) prepare(ctx context.Context, query string) (*sql.Stmt, error) {
	if stmt, ok := s.stmts[query]; ok {
		return stmt, nil
	}
	stmt, err := s.q.PrepareContext(ctx, engine.Marked(s.dialect, query))
	if err != nil {
		return nil, err
	}
	s.stmts[query] = stmt
	return stmt, nil
}

func (s *session) explain(err error) error {
	if err == nil {
		return nil
	}
	message, mend := s.dialect.Explain(err)
	return &environment.Error{Environment: s.name, Message: message, Mend: mend, Conflict: s.can.Conflict != nil && s.can.Conflict(err), Cause: err}
}

// table is one record type as this environment has it.
type table struct {
	*catalog.Type
	place     string
	columns   map[string]catalog.Column
	described catalog.Place
	identity  []string // columns that tell a record: the internal id, else those of the key
}

func (s *session) table(ctx context.Context, m *environment.Model, typ string) (table, error) {
	t, ok := m.Catalog.Type(typ)
	if !ok {
		return table{}, fmt.Errorf("the record type %q is not in the catalog", typ)
	}
	places, err := s.describe(ctx)
	if err != nil {
		return table{}, err
	}
	tab := table{Type: t, place: t.Place(m.Environment), columns: map[string]catalog.Column{}, described: places[t.Place(m.Environment)], identity: storedKey(t)}
	for _, column := range places[tab.place].Columns {
		tab.columns[column.Name] = column
	}
	if t.ID != "" {
		tab.identity = []string{t.ID}
	}
	return tab, nil
}

// selectFrom begins a query for columns of a table.
func (s *session) selectFrom(t table, columns []string) string {
	out := make([]string, len(columns))
	for i, name := range columns {
		column, ok := t.columns[name]
		if !ok {
			column.Name = name
		}
		out[i] = s.dialect.Select(column)
	}
	return fmt.Sprintf("SELECT %s FROM %s", strings.Join(out, ", "), s.dialect.Place(t.place))
}

// query runs a statement and gives each row's stored values to row, which may keep
// them. Where the engine cannot do two things at a time, row is called when the
// database has delivered everything, which waits on disk if it is much.
func (s *session) query(ctx context.Context, width int, row func([]any) error, query string, args ...any) error {
	if !s.can.OneAtATime {
		return s.scan(ctx, width, row, query, args...)
	}
	var kept spill.Rows
	defer kept.Close()
	if err := s.scan(ctx, width, kept.Add, query, args...); err != nil {
		return err
	}
	return kept.Each(ctx, row)
}

// stream is query for the rows of a form, of which there may be very many.
func (s *session) stream(ctx context.Context, f *form, row func([]any) error, query string, args ...any) error {
	if s.can.CopyOut == nil || len(args) > 0 {
		return s.query(ctx, len(f.names), row, query, args...)
	}
	binary := make([]bool, len(f.names))
	for i, name := range f.names {
		binary[i] = f.columns[name].Kind == record.Bytes && !f.sums[i]
	}
	var kept spill.Rows
	defer kept.Close()
	if err := s.can.CopyOut(ctx, s.q, query, binary, kept.Add); err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return s.explain(err)
	}
	return kept.Each(ctx, row)
}

func (s *session) scan(ctx context.Context, width int, row func([]any) error, query string, args ...any) error {
	rows, err := s.q.QueryContext(ctx, engine.Marked(s.dialect, query), args...)
	if err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
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
		if s.can.Tidy != nil {
			for i := range values {
				values[i] = s.can.Tidy(values[i])
			}
		}
		if err := row(values); err != nil {
			return err
		}
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return s.explain(rows.Err())
}

func (id identity) text() string {
	parts := make([]string, len(id))
	for i, stored := range id {
		parts[i] = engine.StoredText(stored)
	}
	return strings.Join(parts, ", ")
}

// mapKey is text in which no two ids are the same.
func (id identity) mapKey() string {
	if len(id) == 1 {
		return engine.StoredText(id[0])
	}
	out := ""
	for _, stored := range id {
		text := engine.StoredText(stored)
		out += fmt.Sprintf("%d:%s", len(text), text)
	}
	return out
}
