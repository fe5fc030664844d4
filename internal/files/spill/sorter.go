package spill

import (
	"bufio"
	"cmp"
	"container/heap"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"iter"
	"os"
	"path/filepath"
	"slices"
)

// Budget is how many bytes a sorter holds in memory before it writes a run to disk.
const Budget = 24 << 20

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

func (s *Sorter) spill() error {
	slices.SortFunc(s.entries, compare)
	if err := s.writeRun(func(yield func(Entry, error) bool) {
		for _, e := range s.entries {
			if !yield(e, nil) {
				return
			}
		}
	}); err != nil {
		return err
	}
	s.entries, s.size = nil, 0
	if len(s.runs) < maxRuns {
		return nil
	}
	merged := s.runs
	s.runs = nil
	if err := s.writeRun(mergeRuns(merged)); err != nil {
		return err
	}
	for _, run := range merged {
		_ = os.Remove(run)
	}
	return nil
}

func (s *Sorter) writeRun(entries iter.Seq2[Entry, error]) error {
	if s.folder == "" {
		folder, err := os.MkdirTemp(s.parent, "sort-")
		if err != nil {
			return fmt.Errorf("room for sorting: %w", err)
		}
		s.folder = folder
	}
	f, err := os.CreateTemp(s.folder, "run-")
	if err != nil {
		return fmt.Errorf("room for sorting: %w", err)
	}
	defer f.Close()
	out := bufio.NewWriterSize(f, 256<<10)
	for e, err := range entries {
		if err != nil {
			return err
		}
		var head [16]byte
		n := binary.PutUvarint(head[:], uint64(len(e.Order)))
		n += binary.PutUvarint(head[n:], uint64(len(e.Payload)))
		_, _ = out.Write(head[:n])
		_, _ = out.WriteString(e.Order)
		if _, err := out.Write(e.Payload); err != nil {
			return fmt.Errorf("room for sorting: %w", err)
		}
	}
	if err := out.Flush(); err != nil {
		return fmt.Errorf("room for sorting: %w", err)
	}
	s.runs = append(s.runs, f.Name())
	return nil
}

// Sorted gives all entries in order. Nothing may be added afterwards.
func (s *Sorter) Sorted() iter.Seq2[Entry, error] {
	if len(s.runs) == 0 {
		return func(yield func(Entry, error) bool) {
			slices.SortFunc(s.entries, compare)
			for _, e := range s.entries {
				if !yield(e, nil) {
					return
				}
			}
		}
	}
	return func(yield func(Entry, error) bool) {
		if len(s.entries) > 0 {
			if err := s.spill(); err != nil {
				yield(Entry{}, err)
				return
			}
		}
		mergeRuns(s.runs)(yield)
	}
}

// Close removes the sorter's files.
func (s *Sorter) Close() {
	s.entries = nil
	if s.folder != "" {
		_ = os.RemoveAll(filepath.Clean(s.folder))
	}
}

// run reads one sorted file an entry ahead.
type run struct {
	in   *bufio.Reader
	file *os.File
	head Entry
}

func (r *run) advance() (bool, error) {
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
	data := make([]byte, order+payload)
	if _, err := io.ReadFull(r.in, data); err != nil {
		return false, err
	}
	r.head = Entry{Order: string(data[:order]), Payload: data[order:]}
	return true, nil
}

type runHeap []*run

func (h runHeap) Len() int           { return len(h) }
func (h runHeap) Less(a, b int) bool { return compare(h[a].head, h[b].head) < 0 }
func (h runHeap) Swap(a, b int)      { h[a], h[b] = h[b], h[a] }
func (h *runHeap) Push(x any)        { *h = append(*h, x.(*run)) }
func (h *runHeap) Pop() any {
	last := len(*h) - 1
	x := (*h)[last]
	*h = (*h)[:last]
	return x
}

func mergeRuns(names []string) iter.Seq2[Entry, error] {
	return func(yield func(Entry, error) bool) {
		var all runHeap
		defer func() {
			for _, r := range all {
				_ = r.file.Close()
			}
		}()
		for _, name := range names {
			f, err := os.Open(name)
			if err != nil {
				yield(Entry{}, err)
				return
			}
			r := &run{in: bufio.NewReaderSize(f, 64<<10), file: f}
			more, err := r.advance()
			if err != nil || !more {
				_ = f.Close()
				if err != nil {
					yield(Entry{}, err)
					return
				}
				continue
			}
			all = append(all, r)
		}
		heap.Init(&all)
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
			if more {
				heap.Fix(&all, 0)
			} else {
				_ = r.file.Close()
				heap.Pop(&all)
			}
		}
	}
}
