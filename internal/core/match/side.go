package match

import (
	"fmt"
	"iter"

	"anagram/internal/core/record"
)

const agreedName = "agreed values"

// side reads one stream a key ahead.
type side struct {
	name string
	next func() (*record.Record, error)
	stop func()
	head *record.Record
	last string // order of the key before head
	done bool
}

// group is the records of one key on one side.
type group struct {
	first *record.Record
	count int
	ids   []string
}

// asRecords makes records of keys alone.
func asRecords(keys iter.Seq2[record.Key, error]) record.Stream {
	if keys == nil {
		return nil
	}
	return func(yield func(record.Record, error) bool) {
		for key, err := range keys {
			if !yield(record.Record{Key: key}, err) {
				return
			}
		}
	}
}

func newSide(name string, stream record.Stream) *side {
	if stream == nil {
		return &side{name: name, done: true, stop: func() {}}
	}
	a := record.ReadAhead(stream)
	return &side{name: name, next: a.Next, stop: a.Stop}
}

func (s *side) fill() error {
	if s.head != nil || s.done {
		return nil
	}
	r, err := s.next()
	if err != nil {
		return err
	}
	if r == nil {
		s.done = true
		return nil
	}
	if r.Key.Order() < s.last {
		return fmt.Errorf("the %s is not in key order", s.name)
	}
	s.head, s.last = r, r.Key.Order()
	return nil
}

// take removes all records with this key from the head of the stream.
func (s *side) take(key record.Key) (group, error) {
	var g group
	for s.head != nil && s.head.Key.Compare(key) == 0 {
		if g.count++; g.count == 1 {
			g.first = s.head
		} else if err := g.note(s.head); err != nil {
			return g, err
		}
		s.head = nil
		if err := s.fill(); err != nil {
			return g, err
		}
	}
	if g.count == 1 && g.first.ID != "" {
		g.ids = []string{g.first.ID}
	}
	return g, nil
}

// note takes down the ids of records that share a key.
func (g *group) note(r *record.Record) error {
	for _, one := range []*record.Record{g.first, r} {
		if one == g.first && g.count > 2 || len(g.ids) == MaxIDs {
			continue
		}
		if one.ID == "" {
			if err := load(one); err != nil {
				return err
			}
		}
		if one.ID != "" {
			g.ids = append(g.ids, one.ID)
		}
	}
	return nil
}

// takeUpTo gives the record with this key; those before it are told as met.
func (s *side) takeUpTo(key record.Key, in Input, met Met) (*record.Record, error) {
	for s.head != nil && s.head.Key.Compare(key) <= 0 {
		head := s.head
		s.head = nil
		if err := s.fill(); err != nil {
			return nil, err
		}
		if head.Key.Compare(key) == 0 {
			return head, nil
		}
		if err := in.remember(met.of(s, head)); err != nil {
			return nil, err
		}
	}
	return nil, nil
}

// of completes what is told of a key that neither side has.
func (m Met) of(s *side, head *record.Record) Met {
	if m.Key = head.Key; s.name == agreedName {
		m.Agreed = head
	}
	return m
}

// rest tells what is left at the end.
func (s *side) rest(in Input, met Met) error {
	for s.head != nil {
		head := s.head
		s.head = nil
		if err := s.fill(); err != nil {
			return err
		}
		if err := in.remember(met.of(s, head)); err != nil {
			return err
		}
	}
	return nil
}

func least(a, b *side) (record.Key, bool) {
	switch {
	case a.head == nil && b.head == nil:
		return record.Key{}, false
	case b.head == nil || a.head != nil && a.head.Key.Compare(b.head.Key) <= 0:
		return a.head.Key, true
	default:
		return b.head.Key, true
	}
}
