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
	return d.lock(ctx, (*flock.Flock).TryLockContext, "it is being imported or decided by another anagram; wait until it has finished and try again")
}

// lockDecision keeps the docket from being imported.
func (d *Docket) lockDecision(ctx context.Context) (unlock func(), err error) {
	return d.lock(ctx, (*flock.Flock).TryLockContext, "the docket is being imported, so nothing can be decided in it now. Nothing was decided; wait until the import has ended, then decide and import again")
}

func (d *Docket) lock(ctx context.Context, try func(*flock.Flock, context.Context, time.Duration) (bool, error), busy string) (func(), error) {
	lock := lockOf(d.path)
	if err := safe.NoLink(lock.Path()); err != nil {
		return nil, &Error{Path: d.path, Message: err.Error(), Cause: err}
	}
	waiting, stop := context.WithTimeout(ctx, limit.Wait(ctx, wait))
	defer stop()
	got, err := try(lock, waiting, 50*time.Millisecond)
	switch {
	case ctx.Err() != nil:
		return nil, ctx.Err()
	case got:
		return func() { _ = lock.Close() }, nil
	case err == nil || errors.Is(err, context.DeadlineExceeded):
		return nil, &Error{Path: d.path, Message: busy, Cause: ErrAtWork}
	default:
		return nil, &Error{Path: d.path, Message: "the folder of the docket may not be written by this account", Cause: err}
	}
}
