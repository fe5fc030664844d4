package prepare

import (
	"context"
	"iter"
	"sync"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
	"anagram/internal/environment"
)

// The docket and the target are read while what came before is compared and kept: an import
// waits for the slowest of them, not for one after the other.

// Ahead gives what a sequence gives, of which the next one is worked out in a goroutine of its
// own meanwhile. That has ended when the loop has.
func Ahead[T any](seq iter.Seq2[T, error]) iter.Seq2[T, error] {
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

// InTurn is a target that is asked by several at once, who wait for each other.
type InTurn struct {
	environment.Reader
	judge environment.Judge // nil where it cannot judge
	turn  *sync.Mutex
}

// TakingTurns makes those who ask a target wait for each other.
func TakingTurns(target environment.Reader, judge environment.Judge) InTurn {
	return InTurn{target, judge, &sync.Mutex{}}
}

// Judge waits for its turn.
func (t InTurn) Judge(ctx context.Context, place string, rule catalog.Rule, rows [][]record.Value) ([]bool, error) {
	t.turn.Lock()
	defer t.turn.Unlock()
	return t.judge.Judge(ctx, place, rule, rows)
}

// Read is another one's turn once the stream has ended.
func (t InTurn) Read(ctx context.Context, m *environment.Model, reading environment.Reading) record.Stream {
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
func (t InTurn) Locate(ctx context.Context, m *environment.Model, typ string, keys []record.Key) ([]int, error) {
	t.turn.Lock()
	defer t.turn.Unlock()
	return t.Reader.Locate(ctx, m, typ, keys)
}
