package catalog

import (
	"bytes"
	"sync"
)

// A workspace, its parcels and its dockets mostly hold one and the same catalog, and a command
// reads many of them: what was read last is kept.

// mostKept is how many catalogs are kept.
const mostKept = 8

var kept struct {
	sync.Mutex
	list []*Catalog // the latest last
}

// Again is Parse for a text that is likely to have been read before: it may give the same catalog
// again, which therefore nobody changes. Name is for errors, as in Parse.
func Again(name string, source []byte) (*Catalog, error) {
	kept.Lock()
	defer kept.Unlock()
	for _, c := range kept.list {
		if bytes.Equal(c.Source, source) {
			return c, nil
		}
	}
	c, err := Parse(name, source)
	if err != nil {
		return nil, err
	}
	c.Source = bytes.Clone(source)
	if kept.list = append(kept.list, c); len(kept.list) > mostKept {
		kept.list = kept.list[1:]
	}
	return c, nil
}
