package spill

import (
	"cmp"
	"slices"
	"sort"
)

// pickedMemory is a set in memory. It does what pickedFile does.
type pickedMemory struct {
	picked   map[string]map[string]*heldPick // by type and order
	inRound  map[typeRound][]string          // orders; one that has moved on is there still
	referred map[string]map[string]Pick      // by type and order
	size     int                             // bytes, about
	sorted   snapshot                        // of what is gone through
	mentions []Pick                          // what is referred to, in order, while it is gone through
}

type heldPick struct {
	key, through           string
	round                  int
	along, parts, followed bool
}

type typeRound struct {
	typ   string
	round int
}

// snapshot is the orders of a type and round, sorted; had is how many there were.
type snapshot struct {
	of     typeRound
	had    int
	orders []string
}

// heldBytes is about what a record takes beside its texts.
const heldBytes = 200

func newPickedMemory() *pickedMemory {
	return &pickedMemory{picked: map[string]map[string]*heldPick{}, inRound: map[typeRound][]string{},
		referred: map[string]map[string]Pick{}}
}

func (s *pickedMemory) Pick(r Pick, round int) error {
	of := s.picked[r.Type]
	if of == nil {
		of = map[string]*heldPick{}
		s.picked[r.Type] = of
	}
	had := of[r.Order]
	if had == nil {
		of[r.Order] = &heldPick{key: r.Key, through: r.Through, round: round, along: r.Along, parts: !r.OwnerOnly, followed: r.Followed}
		s.enter(r.Type, r.Order, round)
		s.size += heldBytes + len(r.Order) + len(r.Key) + len(r.Through)
		return nil
	}
	switch {
	case !r.OwnerOnly && !had.parts:
		had.through = r.Through
		if had.round != round {
			had.round = round
			s.enter(r.Type, r.Order, round)
		}
		had.parts = true
	case had.along && round == had.round && had.parts == !r.OwnerOnly && r.Through < had.through:
		had.through = r.Through
	}
	had.followed = had.followed || r.Followed
	return nil
}

func (s *pickedMemory) enter(typ, order string, round int) {
	at := typeRound{typ, round}
	s.inRound[at] = append(s.inRound[at], order)
}

func (s *pickedMemory) Refer(r Pick) error {
	of := s.referred[r.Type]
	if of == nil {
		of = map[string]Pick{}
		s.referred[r.Type] = of
	}
	had, known := of[r.Order]
	switch {
	case !known:
		s.size += heldBytes + len(r.Order) + len(r.Key) + len(r.Through) + len(r.From)
		s.mentions = nil
	case cmp.Or(cmp.Compare(r.From, had.From), cmp.Compare(r.Line, had.Line), cmp.Compare(r.Through, had.Through)) >= 0:
		return nil
	default:
		r.Key = had.Key
		s.mentions = nil
	}
	of[r.Order] = Pick{Type: r.Type, Order: r.Order, Key: r.Key, Through: r.Through, From: r.From, Line: r.Line}
	return nil
}

func (s *pickedMemory) Why(typ, order string) (r Pick, ok bool, err error) {
	r = Pick{Type: typ, Order: order}
	had := s.picked[typ][order]
	if had == nil {
		return r, false, nil
	}
	r.Along, r.Through, r.OwnerOnly = had.along, had.through, !had.parts
	return r, true, nil
}

func (s *pickedMemory) CountIn(typ string, round int) (int, error) {
	if round < 0 {
		return len(s.picked[typ]), nil
	}
	n := 0
	for _, order := range s.inRound[typeRound{typ, round}] {
		if s.picked[typ][order].round == round {
			n++
		}
	}
	return n, nil
}

// ordersOf gives the orders of a type and round, sorted.
func (s *pickedMemory) ordersOf(typ string, round int) []string {
	at := typeRound{typ, round}
	had := len(s.inRound[at])
	if round < 0 {
		had = len(s.picked[typ])
	}
	if s.sorted.of == at && s.sorted.had == had {
		return s.sorted.orders
	}
	orders := make([]string, 0, had)
	if round < 0 {
		for order := range s.picked[typ] {
			orders = append(orders, order)
		}
	} else {
		orders = append(orders, s.inRound[at]...)
	}
	slices.Sort(orders)
	s.sorted = snapshot{at, had, orders}
	return orders
}

func (s *pickedMemory) Batch(typ string, round int, after string, limit int) ([]Pick, error) {
	orders := s.ordersOf(typ, round)
	var out []Pick
	for i := sort.Search(len(orders), func(i int) bool { return orders[i] > after }); i < len(orders) && len(out) < limit; i++ {
		had := s.picked[typ][orders[i]]
		if round >= 0 && had.round != round {
			continue
		}
		out = append(out, Pick{Type: typ, Order: orders[i], Key: had.key, Along: had.along, Through: had.through,
			OwnerOnly: !had.parts, Followed: had.followed})
	}
	return out, nil
}

func (s *pickedMemory) Referred(typ, after string, limit int) ([]Pick, error) {
	before := func(a Pick, typ, order string) int {
		return cmp.Or(cmp.Compare(a.Type, typ), cmp.Compare(a.Order, order))
	}
	if s.mentions == nil {
		s.mentions = []Pick{}
		for _, of := range s.referred {
			for _, r := range of {
				s.mentions = append(s.mentions, r)
			}
		}
		slices.SortFunc(s.mentions, func(a, b Pick) int { return before(a, b.Type, b.Order) })
	}
	var out []Pick
	for i := sort.Search(len(s.mentions), func(i int) bool { return before(s.mentions[i], typ, after) > 0 }); i < len(s.mentions) &&
		len(out) < limit; i++ {
		if r := s.mentions[i]; s.picked[r.Type][r.Order] == nil {
			out = append(out, r)
		}
	}
	return out, nil
}

// into brings everything into another set.
func (s *pickedMemory) into(other set) error {
	for typ, of := range s.picked {
		for order, had := range of {
			if err := other.Pick(Pick{Type: typ, Order: order, Key: had.key, Along: had.along, Through: had.through,
				OwnerOnly: !had.parts, Followed: had.followed}, had.round); err != nil {
				return err
			}
		}
	}
	for _, of := range s.referred {
		for _, r := range of {
			if err := other.Refer(r); err != nil {
				return err
			}
		}
	}
	return nil
}
