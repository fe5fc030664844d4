package record

import "sync"

// Streams are read while the records before are worked on, a batch ahead.

const (
	batchRecords = 128
	batchBytes   = 256 << 10
	// unknownBytes is what a record counts of which no line tells how large it is.
	unknownBytes = 16 << 10
)

// batch is some records of a stream, and the error that ended it.
type batch struct {
	records []Record
	err     error
}

// Reader reads a stream in a goroutine of its own. It has to be stopped.
type Reader struct {
	batches chan batch
	quit    chan struct{}
	once    sync.Once
	now     []Record
	err     error
}

// ReadAhead begins to read a stream.
func ReadAhead(stream Stream) *Reader {
	a := &Reader{batches: make(chan batch, 1), quit: make(chan struct{})}
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
				b.records = make([]Record, 0, batchRecords)
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

// Next gives the next record, nil at the end.
func (a *Reader) Next() (*Record, error) {
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

// Stop ends the reading, and waits until it has ended.
func (a *Reader) Stop() {
	a.once.Do(func() { close(a.quit) })
	for more := true; more; {
		_, more = <-a.batches
	}
}

// Ahead gives the records of a stream, which is read in a goroutine of its own. That has ended
// when the loop has.
func Ahead(stream Stream) Stream {
	return func(yield func(Record, error) bool) {
		reader := ReadAhead(stream)
		defer reader.Stop()
		for {
			rec, err := reader.Next()
			if err != nil {
				yield(Record{}, err)
				return
			}
			if rec == nil || !yield(*rec, nil) {
				return
			}
		}
	}
}
