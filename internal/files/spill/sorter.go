package spill

import (
	"bufio"
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"iter"
	"os"
	"path/filepath"
	"slices"
)

// Budget is how many bytes a sorter holds in memory before it writes a run to disk. While that
// is written as many come in again.
const Budget = 14 << 20

// maxRuns bounds the files that are merged at a time.
const maxRuns = 64

// Entry is one record: the order form of its key and whatever goes with it.
type Entry struct {
	Order   string
	Payload []byte
}

// Sorter puts entries in order. They are given in any order and come back by Order, then
// by Payload, so equal inputs give equal outputs.
type Sorter struct {
	budget  int
	folder  string // "" until the first run is written
	parent  string
	entries []Entry
	size    int
	runs    []string
	behind  chan written // of a run that is being written; nil for none
	count   int
}

// NewSorter makes a sorter whose runs go to a folder made below parent when needed.
func NewSorter(parent string) *Sorter { return &Sorter{budget: Budget, parent: parent} }

// Add takes an entry; the payload must not be changed afterwards.
func (s *Sorter) Add(e Entry) error {
	s.entries = append(s.entries, e)
	s.size += len(e.Order) + len(e.Payload) + 64
	s.count++
	if s.size < s.budget {
		return nil
	}
	return s.spill()
}

// Count tells how many entries were added.
func (s *Sorter) Count() int { return s.count }

func compare(a, b Entry) int {
	if c := cmp.Compare(a.Order, b.Order); c != 0 {
		return c
	}
	return slices.Compare(a.Payload, b.Payload)
}

// spill has what was added sorted and written while more is added.
func (s *Sorter) spill() error {
	if err := s.wait(); err != nil {
		return err
	}
	if s.folder == "" {
		folder, err := os.MkdirTemp(s.parent, "sort-")
		if err != nil {
			return fmt.Errorf("room for sorting: %w", err)
		}
		s.folder = folder
	}
	entries, behind := s.entries, make(chan written, 1)
	s.entries, s.size, s.behind = make([]Entry, 0, len(entries)), 0, behind
	go func() {
		slices.SortFunc(entries, compare)
		name, err := writeRun(s.folder, each(entries))
		behind <- written{name, err}
	}()
	return nil
}

// written is a run that was written.
type written struct {
	name string
	err  error
}

// wait waits for the run that is being written. Of very many runs it makes one.
func (s *Sorter) wait() error {
	if s.behind == nil {
		return nil
	}
	done := <-s.behind
	s.behind = nil
	if done.err != nil {
		return done.err
	}
	if s.runs = append(s.runs, done.name); len(s.runs) < maxRuns {
		return nil
	}
	merged := s.runs
	s.runs = nil
	name, err := writeRun(s.folder, mergeRuns(merged, nil))
	if err != nil {
		return err
	}
	s.runs = []string{name}
	for _, run := range merged {
		_ = os.Remove(run)
	}
	return nil
}

func each(entries []Entry) iter.Seq2[Entry, error] {
	return func(yield func(Entry, error) bool) {
		for _, e := range entries {
			if !yield(e, nil) {
				return
			}
		}
	}
}

func writeRun(folder string, entries iter.Seq2[Entry, error]) (string, error) {
	f, err := os.CreateTemp(folder, "run-")
	if err != nil {
		return "", fmt.Errorf("room for sorting: %w", err)
	}
	defer f.Close()
	out := bufio.NewWriterSize(f, 256<<10)
	for e, err := range entries {
		if err != nil {
			return "", err
		}
		var head [20]byte
		n := binary.PutUvarint(head[:], uint64(len(e.Order)))
		n += binary.PutUvarint(head[n:], uint64(len(e.Payload)))
		_, _ = out.Write(head[:n])
		_, _ = out.WriteString(e.Order)
		if _, err := out.Write(e.Payload); err != nil {
			return "", fmt.Errorf("room for sorting: %w", err)
		}
	}
	if err := out.Flush(); err != nil {
		return "", fmt.Errorf("room for sorting: %w", err)
	}
	return f.Name(), nil
}

// Sorted gives all entries in order. Nothing may be added afterwards.
func (s *Sorter) Sorted() iter.Seq2[Entry, error] {
	return func(yield func(Entry, error) bool) {
		if err := s.wait(); err != nil {
			yield(Entry{}, err)
			return
		}
		slices.SortFunc(s.entries, compare)
		if len(s.runs) == 0 {
			each(s.entries)(yield)
			return
		}
		mergeRuns(s.runs, s.entries)(yield)
	}
}

// Close removes the sorter's files.
func (s *Sorter) Close() {
	if s.behind != nil {
		<-s.behind
		s.behind = nil
	}
	s.entries = nil
	if s.folder != "" {
		_ = os.RemoveAll(filepath.Clean(s.folder))
	}
}

// run reads one sorted file an entry ahead, or entries that are in memory.
type run struct {
	in      *bufio.Reader
	file    *os.File
	entries []Entry
	head    Entry
	room    []byte
}

func (r *run) close() {
	if r.file != nil {
		_ = r.file.Close()
	}
}

func (r *run) advance() (bool, error) {
	if r.file == nil {
		if len(r.entries) == 0 {
			return false, nil
		}
		r.head, r.entries = r.entries[0], r.entries[1:]
		return true, nil
	}
	order, err := binary.ReadUvarint(r.in)
	if errors.Is(err, io.EOF) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	payload, err := binary.ReadUvarint(r.in)
	if err != nil {
		return false, err
	}
	size := int(order + payload)
	if len(r.room) < size {
		r.room = make([]byte, max(size, 32<<10))
	}
	data := r.room[:size:size]
	r.room = r.room[size:]
	if _, err := io.ReadFull(r.in, data); err != nil {
		return false, err
	}
	r.head = Entry{Order: string(data[:order]), Payload: data[order:]}
	return true, nil
}

// least is a heap of runs by their heads.
type least []*run

func (h least) down(at int) {
	for {
		small := at
		for child := 2*at + 1; child <= 2*at+2 && child < len(h); child++ {
			if compare(h[child].head, h[small].head) < 0 {
				small = child
			}
		}
		if small == at {
			return
		}
		h[at], h[small] = h[small], h[at]
		at = small
	}
}

// mergeRuns gives the entries of sorted files, and those sorted in memory, in order.
func mergeRuns(names []string, entries []Entry) iter.Seq2[Entry, error] {
	return func(yield func(Entry, error) bool) {
		var all least
		defer func() {
			for _, r := range all {
				r.close()
			}
		}()
		add := func(r *run) error {
			more, err := r.advance()
			if err != nil || !more {
				r.close()
				return err
			}
			all = append(all, r)
			return nil
		}
		for _, name := range names {
			f, err := os.Open(name)
			if err == nil {
				err = add(&run{in: bufio.NewReaderSize(f, 64<<10), file: f})
			}
			if err != nil {
				yield(Entry{}, err)
				return
			}
		}
		_ = add(&run{entries: entries})
		for at := len(all)/2 - 1; at >= 0; at-- {
			all.down(at)
		}
		for len(all) > 0 {
			r := all[0]
			if !yield(r.head, nil) {
				return
			}
			more, err := r.advance()
			if err != nil {
				yield(Entry{}, err)
				return
			}
			if !more {
				r.close()
				all[0] = all[len(all)-1]
				all = all[:len(all)-1]
			}
			all.down(0)
		}
	}
}
