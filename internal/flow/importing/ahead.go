package importing

import (
	"context"
	"iter"
	"sync"

	"anagram/internal/core/record"
	"anagram/internal/environment"
)

// The docket and the target are read while what came before is compared and kept: an import
// waits for the slowest of them, not for one after the other.

// ahead gives what a sequence gives, of which the next one is worked out in a goroutine of its
// own meanwhile. That has ended when the loop has.
func ahead[T any](seq iter.Seq2[T, error]) iter.Seq2[T, error] {
	type one struct {
		value T
		err   error
	}
	return func(yield func(T, error) bool) {
		ready, quit := make(chan one), make(chan struct{})
		var ended sync.WaitGroup
		ended.Go(func() {
			defer close(ready)
			for value, err := range seq {
				select {
				case ready <- one{value, err}:
				case <-quit:
					return
				}
			}
		})
		defer ended.Wait()
		defer close(quit)
		for next := range ready {
			if !yield(next.value, next.err) {
				return
			}
		}
	}
}

// inTurn is a target that is asked by several at once, who wait for each other.
type inTurn struct {
	environment.Reader
	turn *sync.Mutex
}

func takingTurns(target environment.Reader) inTurn { return inTurn{target, &sync.Mutex{}} }

// Read is another one's turn once the stream has ended.
func (t inTurn) Read(ctx context.Context, m *environment.Model, reading environment.Reading) record.Stream {
	return func(yield func(record.Record, error) bool) {
		t.turn.Lock()
		defer t.turn.Unlock()
		for rec, err := range t.Reader.Read(ctx, m, reading) {
			if !yield(rec, err) {
				return
			}
		}
	}
}

// Locate waits for its turn.
func (t inTurn) Locate(ctx context.Context, m *environment.Model, typ string, keys []record.Key) ([]int, error) {
	t.turn.Lock()
	defer t.turn.Unlock()
	return t.Reader.Locate(ctx, m, typ, keys)
}
