package odata

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"anagram/internal/environment/web"
)

// able is what was found out about a service while it was used.
type able struct {
	plainJSON bool            // it does not know the parameters of application/json
	texts     bool            // it writes large numbers as texts where it is asked to
	narrows   map[string]bool // set and column, by which it can be asked for rows
	batch     int             // how it takes several requests at a time
	most      int             // how many of them
	inOne     int             // how many values one filter takes
	count     map[string]int  // of a set
	noCount   bool
	noSelect  bool
	unbound   map[string]bool // set and navigation: what is bound there is dropped
	expands   map[string]bool // links that it expands whole
	first     map[string]string
}

// Ways to put several requests into one.
const (
	batchUnknown = iota
	batchJSON
	batchParts
	batchNone
)

func newAble() able {
	return able{most: mostTogether, inOne: inOne, narrows: map[string]bool{}, count: map[string]int{}, unbound: map[string]bool{},
		expands: map[string]bool{}, first: map[string]string{}}
}

// Count asks how many entities a set has.
func (s *service) Count(ctx context.Context, set string) (int, error) {
	p, err := s.find(set)
	if err != nil || p.link != nil || s.able.noCount {
		return -1, err
	}
	answer, err := s.ask(ctx, url.PathEscape(set)+"/$count", "text/plain, */*;q=0.1")
	if err != nil {
		return -1, err
	}
	n := -1
	if answer.Status != http.StatusOK {
		return -1, nil
	}
	if _, err := fmt.Sscan(strings.TrimPrefix(string(answer.Body), "\ufeff"), &n); err != nil || n < 0 {
		return -1, nil
	}
	return n, nil
}

// Narrows tries once whether the service finds an entity by the value of a column, and leaves
// out all others: a filter that is ignored, or that drops what it should find, is not used.
func (s *service) Narrows(ctx context.Context, set, name string) (bool, error) {
	p, err := s.find(set)
	if err != nil {
		return false, err
	}
	c, there := p.column(name)
	if !there || p.link != nil || c.nav != "" || c.stream || p.set.cannot["filter"] || contains(p.set.notFiltered, name) {
		return false, nil
	}
	id := set + "\x00" + name
	if known, ok := s.able.narrows[id]; ok {
		return known, nil
	}
	works, err := s.tryFilter(ctx, p, c)
	if err != nil {
		if !errors.Is(err, errUnable) {
			return false, err
		}
		works = false
	}
	s.able.narrows[id] = works
	return works, nil
}

func contains(all []string, one string) bool {
	for _, s := range all {
		if s == one {
			return true
		}
	}
	return false
}

// tryFilter asks for one entity, and then for those with its value.
func (s *service) tryFilter(ctx context.Context, p *place, c column) (bool, error) {
	columns := []string{c.name}
	for _, k := range p.key {
		columns = append(columns, k.name)
	}
	first, err := s.rows(ctx, p, s.address(p, columns, "", "$top=5"), columns)
	if err != nil {
		return false, err
	}
	for _, row := range first {
		text, ok := s.literal(c, row.Values[c.name])
		if !ok {
			continue
		}
		found, err := s.rows(ctx, p, s.address(p, columns, c.name+" eq "+text, "$top=20"), columns)
		if err != nil {
			return false, err
		}
		there := false
		for _, other := range found {
			there = there || other.Ref == row.Ref
			if other.Values[c.name] != row.Values[c.name] {
				return false, nil
			}
		}
		return there || len(found) == 20, nil
	}
	return false, nil // nothing can be said, and little is to be won
}

// Together tells how many edits one request takes.
func (s *service) Together(ctx context.Context) (int, error) {
	way, err := s.batchWay(ctx)
	if err != nil || way == batchNone {
		return 1, err
	}
	return s.able.most, nil
}

// mostTogether is how many requests go into one, unless the service takes fewer. As many reading
// ones would give answers that are too large.
const (
	mostTogether = 250
	mostReading  = 20
	mostSingle   = 100 // that read one entity each
)

// Requests counts what it takes to read.
func (s *service) Requests(ctx context.Context, rows, values int) (whole, narrowed int, err error) {
	way, err := s.batchWay(ctx)
	whole, narrowed = (rows+s.page-1)/s.page, (values+s.able.inOne-1)/s.able.inOne
	if way != batchNone {
		narrowed = (narrowed + mostReading - 1) / mostReading
	}
	return whole, narrowed, err
}

// batchWay tries once how several requests go into one.
func (s *service) batchWay(ctx context.Context) (int, error) {
	if s.able.batch != batchUnknown {
		return s.able.batch, nil
	}
	offered := s.schema.batch != nil && *s.schema.batch
	if s.schema.batch == nil {
		// A service that knows nothing of batches might take one for something to be added, so
		// none is sent until it says that there is such an address, and that it is not for reading.
		answer, err := s.ask(ctx, "$batch", "application/json")
		if err != nil {
			if ctx.Err() != nil {
				return 0, ctx.Err()
			}
			return batchNone, nil //nolint:nilerr // it is asked again when it is needed
		}
		offered = answer.Status == http.StatusMethodNotAllowed
	}
	if !offered {
		s.able.batch = batchNone
		return batchNone, nil
	}
	try := ""
	for name, p := range s.places {
		if p.link == nil && (try == "" || name < try) {
			try = name
		}
	}
	for _, way := range []int{batchJSON, batchParts} {
		one := part{method: http.MethodGet, url: url.PathEscape(try) + "?$top=1", header: s.header("")}
		answers, err := s.sendBatch(ctx, way, []part{one, one}, true)
		if err != nil && ctx.Err() != nil {
			return 0, ctx.Err()
		}
		if err == nil && len(answers) == 2 && good(answers[0]) && good(answers[1]) {
			s.able.batch = way
			return way, nil
		}
	}
	s.able.batch = batchNone
	return batchNone, nil
}

func good(a *web.Answer) bool { return a != nil && a.Status == http.StatusOK && len(a.Body) > 0 }
