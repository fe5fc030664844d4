package spill

import "hash/maphash"

// Picked is the records picked so far, and those only referred to. A record is picked once;
// picked again in the same round it keeps the lesser reason, so that the same data give the
// same result whatever the order. Records come back in key order. They are held in memory as
// long as they are not very many, and in a file from then on.
type Picked struct {
	parent string
	most   int // bytes in memory
	held   *pickedMemory
	kept   *pickedFile
}

// mostHeld bounds the memory that the records picked take, in bytes.
const mostHeld = 32 << 20

// Pick is one of them.
type Pick struct {
	Type    string
	Order   string // of its key
	Key     string // as a record line has it
	Along   bool   // not chosen itself
	Through string // what took it along: a record and its field
	// OwnerOnly says that it came along as the owner of a part, so that its other parts do
	// not; picked again for another reason it loses this.
	OwnerOnly bool
	// Followed says that what it refers to was picked or noted already.
	Followed bool
	// Of what is referred to in a file that was edited by hand: where.
	From string // record type
	Line int
}

// set is a way to keep the records picked.
type set interface {
	Pick(r Pick, round int) error
	Refer(r Pick) error
	Why(typ, order string) (r Pick, ok bool, err error)
	CountIn(typ string, round int) (int, error)
	Batch(typ string, round int, after string, limit int) ([]Pick, error)
	Referred(typ, after string, limit int) ([]Pick, error)
}

// NewPicked makes an empty set; its files go below parent.
func NewPicked(parent string) (*Picked, error) {
	return &Picked{parent: parent, most: mostHeld, held: newPickedMemory()}, nil
}

func (s *Picked) set() set {
	if s.kept != nil {
		return s.kept
	}
	return s.held
}

// toFile brings the set into a file once it takes too much memory.
func (s *Picked) toFile() error {
	if s.kept != nil || s.held.size <= s.most {
		return nil
	}
	kept, err := newPickedFile(s.parent)
	if err != nil {
		return err
	}
	if err := s.held.into(kept); err != nil {
		_ = kept.Close()
		return err
	}
	s.kept, s.held = kept, nil
	return nil
}

// Close removes the set.
func (s *Picked) Close() error {
	if s.kept != nil {
		return s.kept.Close()
	}
	return nil
}

// Pick adds a record in a round.
func (s *Picked) Pick(r Pick, round int) error {
	if err := s.set().Pick(r, round); err != nil {
		return err
	}
	return s.toFile()
}

// Refer notes that a record is referred to.
func (s *Picked) Refer(r Pick) error {
	if err := s.set().Refer(r); err != nil {
		return err
	}
	return s.toFile()
}

// Why tells whether a record is picked and why.
func (s *Picked) Why(typ, order string) (r Pick, ok bool, err error) { return s.set().Why(typ, order) }

// Has reports whether a record is picked.
func (s *Picked) Has(typ, order string) (bool, error) {
	_, ok, err := s.Why(typ, order)
	return ok, err
}

// Count tells how many records of a type are picked.
func (s *Picked) Count(typ string) (int, error) { return s.CountIn(typ, -1) }

// CountIn tells how many records of a type are picked in a round, -1 for any.
func (s *Picked) CountIn(typ string, round int) (int, error) { return s.set().CountIn(typ, round) }

// Batch gives the records of a type that were picked in a round, -1 for any, after an
// order and no more than limit.
func (s *Picked) Batch(typ string, round int, after string, limit int) ([]Pick, error) {
	return s.set().Batch(typ, round, after, limit)
}

// Referred gives the records that are referred to and not picked, after a type and
// order, by type and key.
func (s *Picked) Referred(typ, after string, limit int) ([]Pick, error) {
	return s.set().Referred(typ, after, limit)
}

const (
	// mostSums bounds the sums that are kept in memory, of some 40 bytes each.
	mostSums   = 500_000
	amongBatch = 1000
)

// Among gives what tells quickly of most records of a type, by the order of their keys, that they
// are not among the n that were picked in a round, -1 for any. Of others Has knows.
func (s *Picked) Among(typ string, round, n int) (func(order string) bool, error) {
	if n > mostSums {
		return func(string) bool { return true }, nil
	}
	seed := maphash.MakeSeed()
	sums := make(map[uint64]struct{}, n)
	for after := ""; ; {
		batch, err := s.Batch(typ, round, after, amongBatch)
		if err != nil {
			return nil, err
		}
		if len(batch) == 0 {
			break
		}
		for _, r := range batch {
			sums[maphash.String(seed, r.Order)] = struct{}{}
		}
		after = batch[len(batch)-1].Order
	}
	return func(order string) bool {
		_, ok := sums[maphash.String(seed, order)]
		return ok
	}, nil
}
