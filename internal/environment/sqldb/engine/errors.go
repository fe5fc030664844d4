package engine

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strings"
	"time"

	"anagram/internal/environment"
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

// Patience is how long a server may take to let an account in, where the address says
// nothing else.
const Patience = 10 * time.Second

// Late says that a server did not answer in time; ok is false for any other error.
func Late(host string, err error) (message string, ok bool) {
	var net net.Error
	if !errors.Is(err, context.DeadlineExceeded) && (!errors.As(err, &net) || !net.Timeout()) {
		return "", false
	}
	return host + " does not answer.", true
}

// IsHere reports whether a host is this machine: a socket, or an address of its own.
func IsHere(host string) bool {
	if host == "" || strings.HasPrefix(host, "/") || strings.HasPrefix(host, "@") || host == "localhost" {
		return true
	}
	ip := net.ParseIP(strings.Trim(host, "[]"))
	return ip != nil && ip.IsLoopback()
}

// NotProven refuses to send a password to whoever answers.
func NotProven(name, host, mend string) error {
	return &environment.Error{Environment: name,
		Message: fmt.Sprintf("a password would be sent to %s over a connection that is not proven to be that server's.", host),
		Mend:    mend + "; or say tls: off for this environment in anagram.yaml, if the network can be trusted."}
}

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
