package rows

import (
	"context"
	"database/sql"
	"errors"
	"maps"
	"slices"
	"time"

	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/environment/sqldb/engine"
)

// database is an open connection to an SQL database, of whatever engine.
type database struct {
	*session
	db      *sql.DB
	conn    *sql.Conn
	reading bool // a transaction is open in which it is read
}

// Open takes one connection of a pool for itself and, for reading only, starts reading
// as at one moment. On an error the pool is closed.
func Open(ctx context.Context, name string, d engine.Dialect, db *sql.DB, readOnly bool) (environment.Environment, error) {
	db.SetMaxOpenConns(1)
	conn, err := db.Conn(ctx)
	reading := readOnly || d.Can().Pooled
	if err == nil && reading {
		for _, statement := range d.BeginRead() {
			if _, err = conn.ExecContext(ctx, statement); err != nil {
				break
			}
		}
	}
	if err != nil {
		_ = db.Close()
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		message, mend := d.Explain(err)
		return nil, &environment.Error{Environment: name, Message: message, Mend: mend, Cause: err}
	}
	return &database{session: newSession(name, d, conn, nil), db: db, conn: conn, reading: reading}, nil
}

// Describe says what the database is and lists its places.
func (e *database) Describe(ctx context.Context) (environment.Description, error) {
	asked := time.Now()
	about, err := e.dialect.About(ctx, e.q)
	if err != nil {
		return about, e.explain(err)
	}
	if !about.Clock.IsZero() {
		// The server told its time somewhere between asking and answer.
		about.Ahead = about.Clock.Sub(asked.Add(time.Since(asked) / 2))
	}
	about.Places, err = e.describe(ctx)
	return about, err
}

// Begin locks the database against other imports and starts a transaction, where all places
// can take back what is written.
func (e *database) Begin(ctx context.Context, written []string) (environment.Work, error) {
	places, err := e.describe(ctx)
	if err != nil {
		return nil, err
	}
	if e.reading {
		e.close()
		if _, err := e.conn.ExecContext(ctx, "COMMIT"); err != nil {
			return nil, e.explain(err)
		}
		e.reading = false
	}
	lasting := slices.ContainsFunc(written, func(name string) bool { return places[name].NoRollback })
	if err := e.dialect.BeginWrite(ctx, e.conn, !lasting); err != nil {
		return nil, e.explain(err)
	}
	s := newSession(e.name, e.dialect, e.conn, places)
	s.locking = true
	w := &work{session: s, conn: e.conn, lasting: lasting}
	if w.can.Broken != nil {
		if w.broken, err = w.can.Broken(ctx, e.conn); err != nil {
			return nil, errors.Join(e.explain(err), w.Rollback())
		}
	}
	return w, nil
}

// Can offers all there is: every engine can be asked, and given scripts.
func (e *database) Can() environment.Capabilities {
	return environment.Capabilities{Prober: e, Judge: e, Scripter: e, Holder: e}
}

// Close closes the connection.
func (e *database) Close() error {
	e.close()
	_ = e.conn.Close()
	return e.db.Close()
}

// work is one transaction.
type work struct {
	*session
	conn *sql.Conn
	done bool
	// lasting says that each statement is, as there is no transaction.
	lasting bool
	broken  map[string]string // deferred rules that did not hold when it began
}

// Transaction says whether all of it can be taken back.
func (w *work) Transaction() bool { return !w.lasting }

// Together is one: without a transaction each statement is lasting by itself.
func (w *work) Together(context.Context) (int, error) { return 1, nil }

// Settle makes all happen that is deferred to the commit, and keeps the counters.
func (w *work) Settle(ctx context.Context) error {
	w.close()
	if err := w.setStamps(ctx); err != nil {
		return err
	}
	if err := w.keepCounters(ctx); err != nil {
		return err
	}
	w.forget() // what was read so far may be otherwise now
	w.odd = nil
	if w.can.AfterInserts != nil {
		for _, place := range slices.Sorted(maps.Keys(w.inserted)) {
			var numbers []string
			for _, column := range slices.Sorted(maps.Keys(w.inserted[place])) {
				if at, ok := w.places[place].Column(column); ok && at.Kind == record.Integer {
					numbers = append(numbers, column)
				}
			}
			if err := w.can.AfterInserts(ctx, w.q, place, numbers); err != nil {
				return w.explain(err)
			}
		}
	}
	if w.can.Settle != nil {
		if err := w.can.Settle(ctx, w.q); err != nil && ctx.Err() == nil {
			return w.explain(err)
		}
		return ctx.Err()
	}
	if w.can.Broken == nil {
		return nil
	}
	now, err := w.can.Broken(ctx, w.q)
	if err != nil {
		return w.explain(err)
	}
	for _, key := range slices.Sorted(maps.Keys(now)) {
		if _, before := w.broken[key]; !before {
			return &environment.Error{Environment: w.name, Message: "a foreign key that is deferred to the end of the transaction does not hold: " + now[key] + ".",
				Mend: "Correct the reference, or leave the record out with only: in the catalog."}
		}
	}
	return nil
}

// Run carries out one statement of the engine's own.
func (w *work) Run(ctx context.Context, statement string) error {
	if _, err := w.conn.ExecContext(ctx, statement); err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return w.explain(err)
	}
	return nil
}

// Commit makes it lasting.
func (w *work) Commit(ctx context.Context) error {
	w.close()
	if err := w.keepCounters(ctx); err != nil {
		return err
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	// From here on nobody can stop it: who breaks off a commit does not learn what came of it.
	ctx = context.WithoutCancel(ctx)
	if w.lasting {
		w.done = true
		w.dialect.EndWrite(ctx, w.conn)
		return nil
	}
	if _, err := w.conn.ExecContext(ctx, "COMMIT"); err != nil {
		if !w.dialect.Answered(err) {
			return &environment.UnknownOutcomeError{Environment: w.name, Cause: err}
		}
		return w.explain(err)
	}
	w.done = true
	w.dialect.EndWrite(ctx, w.conn)
	return nil
}

// Rollback takes everything back.
func (w *work) Rollback() error {
	if w.done {
		return nil
	}
	w.done = true
	w.close()
	// The context of the work may be cancelled; taking back must happen all the same.
	ctx := context.Background()
	if w.lasting {
		w.dialect.EndWrite(ctx, w.conn)
		return nil
	}
	_, err := w.conn.ExecContext(ctx, "ROLLBACK")
	w.dialect.EndWrite(ctx, w.conn)
	return err
}
