// Package group says which findings a person decides together.
//
// The contract: every finding is in exactly one group, which follows from the findings, from
// what they belong to and from what they need, never from what was decided. A record is with
// its parts, and with what waits for it; of several that it could be with, it is with the one
// that comes first in this order:
//
//  1. its owner, where both are on one side only: they come and go together
//  2. the last of the records that it needs and that are new as well, or, of one that only
//     the target has, that it refers to and that only the target has; one of another type
//     before one of its own, as those often stand in a circle
//  3. a record that it needs and nobody has, with all others that wait for it
//  4. the record that it looks like, renamed
//  5. its owner otherwise, with the owner's other parts
//
// Time and memory are linear in findings; of each only a few numbers are kept.
package group

// Kind says how a finding is tied to another record.
type Kind int

// The kinds of ties.
const (
	Owner   Kind = iota + 1 // it is a part of the record
	Needs                   // it waits for the record, or goes with it
	Missing                 // it waits for the record, which is nowhere
	Renamed                 // it looks like the record
)

// Tie is one thing that a finding hangs on.
type Tie struct {
	Kind    Kind
	To      int64  // the finding of it; 0 where the record is none
	Address string // of the record
	OneSide bool   // the record is on one side only
	Alike   bool   // the record is of the finding's own type
}

// Finding is what is to be known of one.
type Finding struct {
	ID      int64
	OneSide bool // only one side has it
	Ties    []Tie
}

// Cause says what holds a group together.
type Cause string

// The causes.
const (
	Record   Cause = "record"  // a finding, its parts and what waits for it
	OfOwner  Cause = "owner"   // parts of a record that is no finding itself
	Awaiting Cause = "missing" // findings that wait for a record that nobody has
)

// Group is findings that are decided together.
type Group struct {
	Cause   Cause
	Head    int64  // the finding that all the others hang on; 0 where that is none
	Address string // of the record that is none; "" where there is a head
}

// Builder takes findings and groups them.
type Builder struct {
	ids    []int64
	parent map[int64]int64 // the finding that one hangs on
	beside map[int64]int   // place in outside
	place  map[outside]int // of what is no finding
	out    []outside       // what is no finding
	at     map[int64]int   // group, from 1
	owner  map[int64]int64 // the finding of the owner
}

type outside struct {
	cause   Cause
	address string
}

// New starts a grouping.
func New() *Builder {
	return &Builder{parent: map[int64]int64{}, beside: map[int64]int{}, place: map[outside]int{}, at: map[int64]int{},
		owner: map[int64]int64{}}
}

// Add takes a finding, in the order of ids.
func (b *Builder) Add(f Finding) {
	b.ids = append(b.ids, f.ID)
	for _, tie := range f.Ties {
		if tie.Kind == Owner && tie.To != 0 && tie.To != f.ID {
			b.owner[f.ID] = tie.To
		}
	}
	tie, ok := choose(f)
	switch {
	case !ok:
	case tie.To != 0:
		b.parent[f.ID] = tie.To
	default:
		name := outside{OfOwner, tie.Address}
		if tie.Kind == Missing {
			name.cause = Awaiting
		}
		if _, known := b.place[name]; !known {
			b.place[name] = len(b.out)
			b.out = append(b.out, name)
		}
		b.beside[f.ID] = b.place[name]
	}
}

// choose gives the tie that a finding's group follows from; ok is false where it has none.
func choose(f Finding) (best Tie, ok bool) {
	for _, t := range f.Ties {
		of, most := f.rank(t), f.rank(best)
		if of > 0 && (!ok || of > most || of == most && t.Kind == Needs && t.To > best.To) {
			best, ok = t, true
		}
	}
	return best, ok
}

// rank says how much a tie counts for the group of a finding; 0 is not at all.
func (f Finding) rank(t Tie) int {
	switch {
	case t.To == f.ID:
		return 0
	case t.Kind == Owner && t.To != 0 && f.OneSide && t.OneSide:
		return 6
	case t.Kind == Needs && t.To != 0 && !t.Alike:
		return 5
	case t.Kind == Needs && t.To != 0:
		return 4
	case t.Kind == Missing:
		return 3
	case t.Kind == Renamed:
		return 2
	case t.Kind == Owner:
		return 1
	}
	return 0
}

// Owner gives the finding of the record that one is a part of, 0 where that is none.
func (b *Builder) Owner(id int64) int64 { return b.owner[id] }

// Groups gives the groups in the order of their first findings, and puts each finding into
// one: Of gives its place in the list.
func (b *Builder) Groups() []Group {
	heads := make(map[int64]int64, len(b.ids))
	waiting := make([]int, len(b.out)) // how many hang on what is no finding
	for _, id := range b.ids {
		head := b.head(id, heads)
		if at, ok := b.beside[id]; ok && head == id {
			waiting[at]++
		}
	}
	var out []Group
	byHead, byOutside := map[int64]int{}, map[int]int{}
	for _, id := range b.ids {
		head := heads[id]
		if at, ok := b.beside[head]; ok && waiting[at] > 1 {
			if _, known := byOutside[at]; !known {
				out = append(out, Group{Cause: b.out[at].cause, Address: b.out[at].address})
				byOutside[at] = len(out)
			}
			b.at[id] = byOutside[at]
			continue
		}
		if _, known := byHead[head]; !known {
			out = append(out, Group{Cause: Record, Head: head})
			byHead[head] = len(out)
		}
		b.at[id] = byHead[head]
	}
	return out
}

// Of gives the place of a finding's group in the list that Groups gave.
func (b *Builder) Of(id int64) int { return b.at[id] - 1 }

// head follows what a finding hangs on to the last; of records that hang on each other in a
// circle the first is the head.
func (b *Builder) head(id int64, heads map[int64]int64) int64 {
	var path []int64
	on := map[int64]bool{}
	at := id
	for {
		if known, ok := heads[at]; ok {
			at = known
			break
		}
		path, on[at] = append(path, at), true
		next, ok := b.parent[at]
		if !ok {
			break
		}
		if on[next] { // a circle: from next on
			least := next
			for i := len(path) - 1; path[i] != next; i-- {
				least = min(least, path[i])
			}
			at = least
			break
		}
		at = next
	}
	for _, p := range path {
		heads[p] = at
	}
	return at
}
