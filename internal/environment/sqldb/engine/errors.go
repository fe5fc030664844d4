package engine

import (
	"errors"
	"time"
)

// ErrLocked is the lock of an import that somebody else holds.
var ErrLocked = errors.New("another import is at work")

// Cause gives the innermost reason, without the address and account around it.
func Cause(err error) string {
	for {
		inner := errors.Unwrap(err)
		if several, ok := err.(interface{ Unwrap() []error }); ok && len(several.Unwrap()) > 0 {
			inner = several.Unwrap()[0] // one try for each address of a host; they fail alike
		}
		if inner == nil {
			return err.Error()
		}
		err = inner
	}
}

// Wait is how long somebody else's lock is waited for.
const Wait = 3 * time.Second

// CounterError is a counter that could not be moved past numbers that were written.
type CounterError struct {
	Place, Column string
	Cause         error
}

// Error names the counter and the cause.
func (e *CounterError) Error() string {
	return "counter of " + e.Column + " in " + e.Place + ": " + e.Cause.Error()
}

// Unwrap gives the cause.
func (e *CounterError) Unwrap() error { return e.Cause }
