package docket

import (
	"context"
	"errors"
	"path/filepath"
	"time"

	"github.com/gofrs/flock"

	"anagram/internal/core/limit"
	"anagram/internal/files/safe"
)

// While a docket is imported nobody decides in it: a decision would be accepted and have no
// effect. The system gives the lock back when a program ends, however it does.

// ErrAtWork is a docket that is being imported, or decided, by somebody else.
var ErrAtWork = errors.New("busy")

func lockOf(path string) *flock.Flock {
	return flock.New(filepath.Join(filepath.Dir(path), "."+filepath.Base(path)+".lock"))
}

// LockImport keeps others from deciding in the docket, or importing it, until it is given
// back. Where somebody does, it waits a moment, then the error says so.
func (d *Docket) LockImport(ctx context.Context) (unlock func(), err error) {
	return lock(ctx, d.path, "it is being imported or decided by another anagram; wait until it has finished and try again")
}

// lockDecision keeps the docket from being imported. One of an earlier form is refused.
func lockDecision(ctx context.Context, d *Docket) (unlock func(), err error) {
	if err := d.Current(); err != nil {
		return nil, err
	}
	return lock(ctx, d.path,
		"the docket is being imported, so nothing can be decided in it now. Nothing was decided; wait until the import has ended, then decide and import again")
}

func lock(ctx context.Context, path, busy string) (func(), error) {
	lock := lockOf(path)
	if err := safe.NoLink(lock.Path()); err != nil {
		return nil, &Error{Path: path, Message: err.Error(), Cause: err}
	}
	waiting, stop := context.WithTimeout(ctx, limit.Wait(ctx, wait))
	defer stop()
	got, err := lock.TryLockContext(waiting, 50*time.Millisecond)
	switch {
	case ctx.Err() != nil:
		return nil, ctx.Err()
	case got:
		return func() { _ = lock.Close() }, nil
	case err == nil || errors.Is(err, context.DeadlineExceeded):
		return nil, &Error{Path: path, Message: busy, Cause: ErrAtWork}
	default:
		return nil, &Error{Path: path, Message: "the folder of the docket may not be written by this account", Cause: err}
	}
}
