package rows

import (
	"context"
	"database/sql"
	"errors"
	"maps"
	"slices"
	"time"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/environment/sqldb/engine"
	"anagram/internal/environment/sqldb/probe"
	"anagram/internal/environment/sqldb/query"
	"anagram/internal/environment/sqldb/read"
	"anagram/internal/environment/sqldb/write"
)

// database is an open connection to an SQL database, of whatever engine.
type database struct {
	*write.Session
	prober     *probe.Prober
	db         *sql.DB
	connection *sql.Conn
	reading    bool // a transaction is open in which it is read
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
	over := query.New(name, d, conn, nil)
	s := write.New(read.New(over, false))
	return &database{Session: s, prober: probe.New(over), db: db, connection: conn, reading: reading}, nil
}

// Describe says what the database is and lists its places.
func (e *database) Describe(ctx context.Context) (environment.Description, error) {
	asked := time.Now()
	about, err := e.Dialect.About(ctx, e.Q)
	if err != nil {
		return about, e.Explain(err)
	}
	if !about.Clock.IsZero() {
		// The server told its time somewhere between asking and answer.
		about.Ahead = about.Clock.Sub(asked.Add(time.Since(asked) / 2))
	}
	about.Places, err = e.Described(ctx)
	return about, err
}

// Begin locks the database against other imports and starts a transaction, where all places
// can take back what is written.
func (e *database) Begin(ctx context.Context, written []string) (environment.Work, error) {
	places, err := e.Described(ctx)
	if err != nil {
		return nil, err
	}
	if e.reading {
		e.Release()
		if _, err := e.connection.ExecContext(ctx, "COMMIT"); err != nil {
			return nil, e.Explain(err)
		}
		e.reading = false
	}
	lasting := slices.ContainsFunc(written, func(name string) bool { return places[name].NoRollback })
	if err := e.Dialect.BeginWrite(ctx, e.connection, !lasting); err != nil {
		return nil, e.Explain(err)
	}
	over := query.New(e.Name, e.Dialect, e.connection, places)
	w := &work{Session: write.New(read.New(over, true)), prober: probe.New(over), connection: e.connection, lasting: lasting}
	if w.Can.Broken != nil {
		if w.broken, err = w.Can.Broken(ctx, e.connection); err != nil {
			return nil, errors.Join(e.Explain(err), w.Rollback())
		}
	}
	return w, nil
}

// Can offers all there is: every engine can be asked, and given scripts.
func (e *database) Can() environment.Capabilities {
	return environment.Capabilities{Prober: e.prober, Judge: e.prober, Scripter: e, Holder: e, Signer: e}
}

// Close closes the connection.
func (e *database) Close() error {
	e.prober.Close()
	e.Release()
	_ = e.connection.Close()
	return e.db.Close()
}

// work is one transaction.
type work struct {
	*write.Session
	prober     *probe.Prober
	connection *sql.Conn
	done       bool
	// lasting says that each statement is, as there is no transaction.
	lasting bool
	broken  map[string]string // deferred rules that did not hold when it began
}

// Transaction says whether all of it can be taken back.
func (w *work) Transaction() bool { return !w.lasting }

// Judge tries values against a rule, as what was written so far makes it.
func (w *work) Judge(ctx context.Context, place string, rule catalog.Rule, rows [][]record.Value) ([]bool, error) {
	return w.prober.Judge(ctx, place, rule, rows)
}

// Together is one: without a transaction each statement is lasting by itself.
func (w *work) Together(context.Context) (int, error) { return 1, nil }

// Settle makes all happen that is deferred to the commit, and keeps the counters.
func (w *work) Settle(ctx context.Context) error {
	w.release()
	if err := w.SetStamps(ctx); err != nil {
		return err
	}
	if err := w.KeepCounters(ctx); err != nil {
		return err
	}
	w.ForgetAll() // what was read so far may be otherwise now
	if w.Can.AfterInserts != nil {
		for _, place := range slices.Sorted(maps.Keys(w.Inserted)) {
			var numbers []string
			for _, column := range slices.Sorted(maps.Keys(w.Inserted[place])) {
				if at, ok := w.Places[place].Column(column); ok && at.Kind == record.Integer {
					numbers = append(numbers, column)
				}
			}
			if err := w.Can.AfterInserts(ctx, w.Q, place, numbers); err != nil {
				return w.Explain(err)
			}
		}
	}
	if w.Can.Settle != nil {
		if err := w.Can.Settle(ctx, w.Q); err != nil && ctx.Err() == nil {
			return w.Explain(err)
		}
		return ctx.Err()
	}
	if w.Can.Broken == nil {
		return nil
	}
	now, err := w.Can.Broken(ctx, w.Q)
	if err != nil {
		return w.Explain(err)
	}
	for _, key := range slices.Sorted(maps.Keys(now)) {
		if _, before := w.broken[key]; !before {
			return &environment.Error{Environment: w.Name,
				Message: "a foreign key that is deferred to the end of the transaction does not hold: " + now[key] + ".",
				Mend:    "Correct the reference, or leave the record out with only: in the catalog."}
		}
	}
	return nil
}

// Run carries out one statement of the engine's own.
func (w *work) Run(ctx context.Context, statement string) error {
	if _, err := w.connection.ExecContext(ctx, statement); err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return w.Explain(err)
	}
	return nil
}

// release closes what was opened beside the transaction.
func (w *work) release() {
	w.Release()
	w.prober.Close()
}

// Commit makes it lasting.
func (w *work) Commit(ctx context.Context) error {
	w.release()
	if err := w.KeepCounters(ctx); err != nil {
		return err
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	// From here on nobody can stop it: who breaks off a commit does not learn what came of it.
	ctx = context.WithoutCancel(ctx)
	if w.lasting {
		w.done = true
		w.Dialect.EndWrite(ctx, w.connection)
		return nil
	}
	if _, err := w.connection.ExecContext(ctx, "COMMIT"); err != nil {
		if !w.Dialect.Answered(err) {
			return &environment.UnknownOutcomeError{Environment: w.Name, Cause: err}
		}
		return w.Explain(err)
	}
	w.done = true
	w.Dialect.EndWrite(ctx, w.connection)
	return nil
}

// Rollback takes everything back.
func (w *work) Rollback() error {
	if w.done {
		return nil
	}
	w.done = true
	w.release()
	// The context of the work may be cancelled; taking back must happen all the same.
	ctx := context.Background()
	if w.lasting {
		w.Dialect.EndWrite(ctx, w.connection)
		return nil
	}
	_, err := w.connection.ExecContext(ctx, "ROLLBACK")
	w.Dialect.EndWrite(ctx, w.connection)
	return err
}
