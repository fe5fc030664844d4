package write

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"anagram/internal/environment"
	"anagram/internal/environment/sqldb/engine"
)

// Sending what was prepared: many new rows at once where the engine takes that.

// flush carries out what waits: all at once, and where the database refuses something,
// again one by one, so that the record is known.
func (w *writer) flush(ctx context.Context) error {
	run := w.waiting
	w.waiting, w.size = nil, 0
	if err := w.beforeStamps(ctx); err != nil {
		return err
	}
	if len(run) > 1 {
		done, err := w.bulk(ctx, run)
		if done || err != nil {
			return err
		}
	}
	for _, st := range run {
		err := w.exec(ctx, st)
		var record *environment.RecordError
		if errors.As(err, &record) {
			w.refused[st.change] = err
		} else if err != nil {
			return err
		}
	}
	return nil
}

func (w *writer) bulk(ctx context.Context, run []statement) (done bool, err error) {
	if _, err := w.Q.ExecContext(ctx, "SAVEPOINT anagram_bulk"); err != nil {
		return false, w.Explain(err)
	}
	if w.Can.Bulk != nil {
		all := make([]engine.Statement, len(run))
		for i, st := range run {
			all[i] = st.Statement
		}
		err = w.Can.Bulk(ctx, w.Q, all)
	} else {
		err = w.joined(ctx, run)
	}
	if err == nil {
		_, err = w.Q.ExecContext(ctx, "RELEASE SAVEPOINT anagram_bulk")
		return true, w.Explain(err)
	}
	if ctx.Err() != nil {
		return false, ctx.Err()
	}
	if !w.Dialect.Refused(err) && !errors.Is(err, engine.ErrRows) {
		return false, w.Explain(err)
	}
	_, err = w.Q.ExecContext(ctx, "ROLLBACK TO SAVEPOINT anagram_bulk")
	return false, w.Explain(err)
}

// maxArgs bounds the values of one statement, below the least that an engine takes.
const maxArgs = 3000

// joined adds rows with the same columns in one statement for many.
func (w *writer) joined(ctx context.Context, run []statement) error {
	for len(run) > 0 {
		n := alike(run, maxArgs/len(run[0].Args))
		query, args := run[0].Query, run[0].Args
		if n > 1 {
			query, args = w.insert(run[0], n), nil
			for _, st := range run[:n] {
				args = append(args, st.Args...)
			}
		}
		stmt, err := w.Prepare(ctx, query)
		if err != nil {
			return err
		}
		result, err := stmt.ExecContext(ctx, args...)
		if err != nil {
			return err
		}
		if rows, err := result.RowsAffected(); err == nil && rows != int64(n) {
			return engine.ErrRows
		}
		run = run[n:]
	}
	return nil
}

// alike counts the statements at the head of a run that add rows with the same columns,
// at most so many and at least one. Only a few counts occur, so that statements are
// prepared once.
func alike(run []statement, most int) int {
	n := 1
	for run[0].Place != "" && n < len(run) && n < most && run[n].Query == run[0].Query {
		n++
	}
	for _, size := range []int{100, 10} {
		if n >= size {
			return size
		}
	}
	return 1
}

// exec runs one statement, which must touch exactly one row.
func (s *Session) exec(ctx context.Context, st statement) error {
	if err := s.Guard(ctx, "SAVEPOINT anagram_write"); err != nil {
		return err
	}
	stmt, err := s.Prepare(ctx, st.Query)
	rows := int64(1)
	if err == nil {
		result, execErr := stmt.ExecContext(ctx, st.Args...)
		if err = execErr; err == nil {
			if n, err := result.RowsAffected(); err == nil {
				rows = n
			}
		}
	}
	if err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		message, mend := s.Dialect.Explain(err)
		explained := &environment.Error{Environment: s.Name, Message: message, Mend: mend, Conflict: s.Can.Conflict != nil &&
			s.Can.Conflict(err), Cause: err}
		if !s.Dialect.Refused(err) || s.Guard(ctx, "ROLLBACK TO SAVEPOINT anagram_write") != nil {
			return explained
		}
		return st.fail("", errors.New(strings.TrimSpace(message+" "+mend)))
	}
	if rows == 0 && st.check {
		return st.fail("", environment.ErrMoved)
	}
	if rows != 1 {
		return st.fail("", fmt.Errorf("%d rows were written, one is expected%s", rows, st.hint))
	}
	return s.Guard(ctx, "RELEASE SAVEPOINT anagram_write")
}
