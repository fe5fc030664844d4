package record

import "sync"

// jsonRoom is the memory in which lines are taken apart, one after the other: very many lines
// have the same few members.
type jsonRoom struct {
	nameRoom  [][]string
	itemRoom  [][]jsonNode
	usedNames int
	usedItems int
	known     map[string]string // names of members
}

const (
	roomItems = 12  // members of an object, or items of an array, for which there is room
	mostRooms = 16  // of each that are kept
	mostKnown = 256 // names that are kept
	longest   = 64  // bytes of such a name
)

var rooms = sync.Pool{New: func() any { return &jsonRoom{known: map[string]string{}} }}

func takeRoom() *jsonRoom { return rooms.Get().(*jsonRoom) }

// giveBack ends the use of everything that was read in the room; texts stay.
func (r *jsonRoom) giveBack() {
	for i := range r.usedItems {
		clear(r.itemRoom[i][:roomItems]) // the texts are not held with it
	}
	r.usedNames, r.usedItems = 0, 0
	rooms.Put(r)
}

func (r *jsonRoom) names() []string {
	if r.usedNames == len(r.nameRoom) {
		if r.usedNames == mostRooms {
			return make([]string, 0, roomItems)
		}
		r.nameRoom = append(r.nameRoom, make([]string, roomItems))
	}
	r.usedNames++
	return r.nameRoom[r.usedNames-1][:0]
}

func (r *jsonRoom) items() []jsonNode {
	if r.usedItems == len(r.itemRoom) {
		if r.usedItems == mostRooms {
			return make([]jsonNode, 0, roomItems)
		}
		r.itemRoom = append(r.itemRoom, make([]jsonNode, roomItems))
	}
	r.usedItems++
	return r.itemRoom[r.usedItems-1][:0]
}

// name reads the name of a member.
func (r *jsonReader) name() (string, error) {
	for end := r.at + 1; end < len(r.in) && end <= r.at+longest; end++ {
		switch c := r.in[end]; {
		case c == '"':
			if name, ok := r.known[string(r.in[r.at+1:end])]; ok {
				r.at = end + 1
				return name, nil
			}
			return r.learn()
		case c == '\\' || c < 0x20:
			return r.str()
		}
	}
	return r.str()
}

// learn reads a name that is not known yet.
func (r *jsonReader) learn() (string, error) {
	name, err := r.str()
	if err == nil && len(r.known) < mostKnown {
		r.known[name] = name
	}
	return name, err
}
