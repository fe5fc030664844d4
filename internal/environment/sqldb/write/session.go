package write

import (
	"time"

	"anagram/internal/core/catalog"
	"anagram/internal/environment/sqldb/engine"
	"anagram/internal/environment/sqldb/read"
)

// Session writes over one connection.
type Session struct {
	*read.Reader
	ready     map[string]bool // places to which records may be added
	lastIDs   map[string]int  // by place, of those that are made here
	counters  map[string]catalog.Counter
	deferred  bool                // what can be put off to the commit is
	standIns  int                 // values given for references that get theirs later
	touched   map[string]*stamped // records that were changed, by type
	asked     time.Time           // when the clock was asked
	clock     time.Time
	zone      *time.Location                // of times without zone
	longest   int                           // bytes of a statement that the server takes, 0 before it was asked
	Inserted  map[string]map[string]bool    // columns of places into which something was added
	referrers map[string][]engine.Referring // that point at a place
}

// New writes over a connection what is read over it.
func New(r *read.Reader) *Session {
	return &Session{Reader: r, touched: map[string]*stamped{}, Inserted: map[string]map[string]bool{}, ready: map[string]bool{},
		lastIDs: map[string]int{}, counters: map[string]catalog.Counter{}, referrers: map[string][]engine.Referring{}}
}
