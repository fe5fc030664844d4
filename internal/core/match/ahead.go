package match

import (
	"sync"

	"anagram/internal/core/record"
)

// The sides are read while the records before are compared, a batch ahead, so that two of them
// are read at the same time.

const (
	batchRecords = 128
	batchBytes   = 256 << 10
	// unknownBytes is what a record counts of which no line tells how large it is.
	unknownBytes = 16 << 10
)

// batch is some records of a stream, and the error that ended it.
type batch struct {
	records []record.Record
	err     error
}

// ahead reads a stream in a goroutine of its own. It has to be stopped.
type ahead struct {
	batches chan batch
	quit    chan struct{}
	once    sync.Once
	now     []record.Record
	err     error
}

func readAhead(stream record.Stream) *ahead {
	a := &ahead{batches: make(chan batch, 1), quit: make(chan struct{})}
	go func() {
		defer close(a.batches)
		var b batch
		size := 0
		send := func() bool {
			select {
			case a.batches <- b:
				b, size = batch{}, 0
				return true
			case <-a.quit:
				return false
			}
		}
		for rec, err := range stream {
			if err != nil {
				b.err = err
				send()
				return
			}
			if b.records == nil {
				b.records = make([]record.Record, 0, batchRecords)
			}
			b.records = append(b.records, rec)
			if size += len(rec.Line); rec.Line == nil {
				size += unknownBytes
			}
			if (len(b.records) == batchRecords || size >= batchBytes) && !send() {
				return
			}
		}
		if len(b.records) > 0 {
			send()
		}
	}()
	return a
}

// next gives the next record, nil at the end.
func (a *ahead) next() (*record.Record, error) {
	for len(a.now) == 0 {
		if a.err != nil {
			return nil, a.err
		}
		b, more := <-a.batches
		if !more {
			return nil, nil
		}
		a.now, a.err = b.records, b.err
	}
	r := &a.now[0]
	a.now = a.now[1:]
	return r, nil
}

// stop ends the reading, and waits until it has ended.
func (a *ahead) stop() {
	a.once.Do(func() { close(a.quit) })
	for more := true; more; {
		_, more = <-a.batches
	}
}
