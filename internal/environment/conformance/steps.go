package conformance

import (
	"context"
	"errors"
	"fmt"

	"anagram/internal/core/record"
	"anagram/internal/environment"
)

// Steps makes an environment one without transactions: each write is lasting by itself, and
// there is no lock. It can be told to fail before or after the effect of a write, as a service
// does whose answer is lost.
type Steps struct {
	environment.Environment
	// Before and After are the numbers of the writes, from 1, that fail so; 0 is none.
	Before, After int
	Writes        int            // so far
	Effects       map[string]int // by address, and how often it was written
}

// ErrStep is such a failure.
var ErrStep = errors.New("the service ended the connection")

// Begin gives a unit of work that is none.
func (s *Steps) Begin(context.Context, []string) (environment.Work, error) {
	return &stepWork{s}, nil
}

type stepWork struct{ *Steps }

// Read reads what is there by now.
func (w *stepWork) Read(ctx context.Context, m *environment.Model, r environment.Reading) record.Stream {
	return w.Environment.Read(ctx, m, r)
}

// Locate tells what is there by now.
func (w *stepWork) Locate(ctx context.Context, m *environment.Model, typ string, keys []record.Key) ([]int, error) {
	return w.Environment.Locate(ctx, m, typ, keys)
}

// Transaction says that there is none.
func (w *stepWork) Transaction() bool { return false }

// Together is one.
func (w *stepWork) Together(context.Context) (int, error) { return 1, nil }

// Write carries out one change, and fails where it was told to.
func (w *stepWork) Write(ctx context.Context, m *environment.Model, changes []environment.Change) ([]error, error) {
	if len(changes) != 1 {
		return nil, fmt.Errorf("%d changes came at once, and each is lasting by itself", len(changes))
	}
	w.Writes++
	if w.Writes == w.Before {
		return nil, ErrStep
	}
	inner, err := w.Environment.Begin(ctx, nil)
	if err != nil {
		return nil, err
	}
	defer func() { _ = inner.Rollback() }()
	refused, err := inner.Write(ctx, m, changes)
	if err != nil || refused[0] != nil {
		return refused, err
	}
	if err := inner.Settle(ctx); err != nil {
		return nil, err
	}
	if err := inner.Commit(ctx); err != nil {
		return nil, err
	}
	c := changes[0]
	w.Effects[fmt.Sprintf("%s insert=%t remove=%t fields=%d", m.Catalog.Address(c.Type, c.Key), c.Insert, c.Remove,
		len(c.Fields)+len(c.Clear))]++
	if w.Writes == w.After {
		return nil, ErrStep
	}
	return refused, nil
}

// Settle, Commit and Rollback have nothing to do.
func (w *stepWork) Settle(context.Context) error { return nil }

// Commit has nothing to do.
func (w *stepWork) Commit(context.Context) error { return nil }

// Rollback can take nothing back.
func (w *stepWork) Rollback() error { return nil }
