package odata

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"anagram/internal/environment"
	"anagram/internal/environment/mirror"
	"anagram/internal/environment/web"
)

// Reading: pages, and what comes of what was asked.

// Limits of paging.
const (
	mostPages   = 10_000_000
	emptyPages  = 100
	mostRestart = 3
)

// Fetch gives rows of a set.
func (s *service) Fetch(ctx context.Context, q mirror.Query, give func(mirror.Row) error) error {
	p, err := s.find(q.Set)
	if err != nil {
		return err
	}
	switch {
	case p.link != nil:
		return s.fetchLinks(ctx, p, q, give)
	case q.Refs != nil:
		return s.fetchRefs(ctx, p, q, give)
	case q.In != nil:
		return s.fetchBy(ctx, p, q, give)
	}
	filter, err := s.narrowed(ctx, p, q.Where)
	if err != nil {
		return err
	}
	return s.all(ctx, p, q, filter, give)
}

// fetchRefs asks for single entities.
func (s *service) fetchRefs(ctx context.Context, p *place, q mirror.Query, give func(mirror.Row) error) error {
	var urls []string
	for _, ref := range q.Refs {
		of := s.address(p, q.Columns, "")
		_, options, _ := strings.Cut(of, "?")
		urls = append(urls, ref+after(options, "?"))
	}
	answers, err := s.several(ctx, urls, mostSingle)
	if err != nil {
		return err
	}
	for _, a := range answers {
		if a.Status == http.StatusNotFound || a.Status == http.StatusGone || a.Status == http.StatusNoContent {
			continue
		}
		if err := s.told(a); err != nil {
			return err
		}
		raw, err := s.object(a.Body)
		if err != nil {
			return err
		}
		if err := s.give(ctx, p, q.Columns, raw, give); err != nil {
			return err
		}
	}
	return nil
}

// fetchBy asks for the rows with one of some values in a column.
func (s *service) fetchBy(ctx context.Context, p *place, q mirror.Query, give func(mirror.Row) error) error {
	c, ok := p.column(q.By)
	if !ok {
		return s.fail(fmt.Sprintf("%s has no property %s.", p.name, q.By), "Correct the catalog.")
	}
	var urls []string
	for _, filter := range s.filters(c, q.In) {
		urls = append(urls, s.address(p, q.Columns, filter))
	}
	answers, err := s.several(ctx, urls, mostReading)
	if err != nil {
		return err
	}
	for i, a := range answers {
		if tooMuch(a) && len(q.In) > 1 && s.able.inOne > 1 {
			s.able.inOne /= 2 // it may not take so many values in one filter
			return s.fetchBy(ctx, p, q, give)
		}
		if err := s.told(a); err != nil {
			return err
		}
		if err := s.pages(ctx, p, q.Columns, urls[i], a, 0, give); err != nil {
			return err
		}
	}
	return nil
}

// tooMuch reports whether a service may refuse what was asked as there was too much of it.
func tooMuch(a *web.Answer) bool {
	return a.Status == http.StatusBadRequest || a.Status == http.StatusRequestEntityTooLarge ||
		a.Status == http.StatusRequestURITooLong || a.Status == http.StatusNotImplemented
}

// all gives all rows, or those of a filter, and makes sure that none is missing.
func (s *service) all(ctx context.Context, p *place, q mirror.Query, filter string, give func(mirror.Row) error) error {
	more := []string{}
	if !s.able.noCount {
		more = append(more, "$count=true")
	}
	first := s.address(p, q.Columns, filter, more...)
	answer, err := s.ask(ctx, first, "")
	if err != nil {
		return err
	}
	if answer.Status == http.StatusBadRequest || answer.Status == http.StatusNotImplemented {
		// It may not know one of the options. Without them it says more than is needed.
		if !s.able.noCount {
			s.able.noCount = true
			return s.all(ctx, p, q, filter, give)
		}
		if filter != "" {
			return s.all(ctx, p, q, "", give)
		}
		if !s.able.noSelect {
			s.able.noSelect = true
			return s.all(ctx, p, q, filter, give)
		}
	}
	if err := s.told(answer); err != nil {
		return err
	}
	seen := map[[8]byte]bool{}
	counting := func(row mirror.Row) error {
		sum := sha256.Sum256([]byte(row.Ref))
		seen[[8]byte(sum[:8])] = true
		return give(row)
	}
	head, err := s.page1(answer.Body)
	if err != nil {
		return err
	}
	if err := s.pages(ctx, p, q.Columns, first, answer, q.Most, counting); err != nil {
		return err
	}
	if head.count < 0 || q.Most > 0 && len(seen) >= q.Most {
		return nil
	}
	return s.rest(ctx, p, q, filter, head.count, len(seen), counting, func() int { return len(seen) })
}

// rest asks for what did not come though the service says that it is there: it ends its pages
// without saying that there are more.
func (s *service) rest(ctx context.Context, p *place, q mirror.Query, filter string, count, got int, give func(mirror.Row) error,
	now func() int) error {
	order := make([]string, len(p.key))
	for i, c := range p.key {
		order[i] = c.name
	}
	for got < count && (q.Most == 0 || got < q.Most) {
		// The order of what came so far is not known, so all is asked for again in one that is.
		for skip, known := 0, got; ; {
			rows := 0
			more := []string{"$orderby=" + url.QueryEscape(strings.Join(order, ",")), fmt.Sprintf("$top=%d", s.page),
				fmt.Sprintf("$skip=%d", skip)}
			found, err := s.rows(ctx, p, s.address(p, q.Columns, filter, more...), q.Columns)
			if err != nil {
				return err
			}
			for _, row := range found {
				rows++
				if err := give(row); err != nil {
					return err
				}
			}
			// A service that takes no notice of $skip gives the same over and over.
			if skip += rows; rows == 0 || now() <= known && skip > 2*count {
				break
			}
			known = now()
		}
		if now() <= got {
			break
		}
		got = now()
	}
	if q.Most > 0 || filter != "" || got >= count {
		return nil
	}
	if n, err := s.Count(ctx, p.name); err != nil || n >= 0 && n <= got {
		return err // it has become less in between
	}
	return s.fail(fmt.Sprintf("%s says that %s has %d entities, and gives %d.", s.web.Base(), p.name, count, got),
		"Try again; if it stays so, ask who runs the service for the rest, or use an account that may see all.")
}

// page is what one answer holds.
type page struct {
	rows  []map[string]json.RawMessage
	next  string
	count int // -1 where it is not said
}

func (s *service) page1(body []byte) (page, error) {
	out := page{count: -1}
	raw, err := s.object(body)
	if err != nil {
		return out, err
	}
	value, ok := raw["value"]
	if !ok || json.Unmarshal(value, &out.rows) != nil {
		return out, s.fail(s.web.Base()+" answers with something that is no list of entities.",
			"Check that connect: is the root of an OData v4 service.")
	}
	for _, name := range []string{"@odata.nextLink", "@nextLink"} {
		if link, ok := raw[name]; ok {
			_ = json.Unmarshal(link, &out.next)
		}
	}
	for _, name := range []string{"@odata.count", "@count"} {
		if n, ok := raw[name]; ok {
			var count json.Number
			if json.Unmarshal(n, &count) == nil {
				if n, err := count.Int64(); err == nil && n >= 0 {
					out.count = int(n)
				}
			}
		}
	}
	return out, nil
}

// object reads a JSON object.
func (s *service) object(body []byte) (map[string]json.RawMessage, error) {
	var raw map[string]json.RawMessage
	if err := web.Shallow(body); err != nil {
		return nil, s.fail(s.web.Base()+" answers with JSON that is nested too deep.", "Ask who runs the service.")
	}
	if json.Unmarshal(body, &raw) != nil || raw == nil {
		return nil, s.fail(s.web.Base()+" answers with something that is no JSON object, or that ends early.",
			"Check that connect: is the root of an OData v4 service, and try again.")
	}
	return raw, nil
}

// pages gives the rows of an answer, and of all pages after it. At most so many rows are asked
// for, 0 is all.
func (s *service) pages(ctx context.Context, p *place, columns []string, asked string, answer *web.Answer, most int,
	give func(mirror.Row) error) error {
	visited := map[[32]byte]bool{}
	rows, empty, restarts := 0, 0, 0
	for n := 0; ; n++ {
		if err := ctx.Err(); err != nil {
			return err
		}
		one, err := s.page1(answer.Body)
		if err != nil {
			return err
		}
		first := true
		once := func(row mirror.Row) error {
			sum := sha256.Sum256([]byte(row.Ref))
			if first && visited[sum] { // another page began with it
				return s.endless(p)
			}
			visited[sum] = visited[sum] || first
			first = false
			return give(row)
		}
		for _, raw := range one.rows {
			if err := s.give(ctx, p, columns, raw, once); err != nil {
				return err
			}
		}
		rows += len(one.rows)
		if len(one.rows) == 0 {
			empty++
		}
		if one.next == "" || most > 0 && rows >= most {
			return nil
		}
		if one.tooMany(rows, n, empty) {
			return s.endless(p)
		}
		next, err := s.web.At(answer.URL, one.next)
		if err != nil {
			return err
		}
		sum := sha256.Sum256([]byte(next))
		if visited[sum] {
			return s.endless(p)
		}
		visited[sum] = true
		var again bool
		if answer, again, err = s.nextPage(ctx, p, next, asked, &restarts); err != nil {
			return err
		}
		if again {
			visited = map[[32]byte]bool{}
		}
	}
}

// nextPage asks for a page. Where the link to it has run out, it begins again: what came already
// comes once more.
func (s *service) nextPage(ctx context.Context, p *place, next, first string, restarts *int) (answer *web.Answer, again bool, err error) {
	answer, err = s.ask(ctx, next, "")
	if err != nil {
		return nil, false, err
	}
	if answer.Status == http.StatusGone || answer.Status == http.StatusNotFound {
		if *restarts++; *restarts > mostRestart {
			return nil, false, s.fail(fmt.Sprintf("%s does not give the pages of %s to the end.", s.web.Base(), p.name),
				"Try again, or ask for fewer rows a page with page: in anagram.yaml.")
		}
		again = true
		if answer, err = s.ask(ctx, first, ""); err != nil {
			return nil, false, err
		}
	}
	return answer, again, s.told(answer)
}

// tooMany reports whether more rows or pages came than can be meant.
func (p page) tooMany(rows, pages, empty int) bool {
	return p.count >= 0 && rows > 2*p.count+100_000 || pages > mostPages || empty > emptyPages
}

func (s *service) endless(p *place) error {
	return s.fail(fmt.Sprintf("%s gives pages of %s without end.", s.web.Base(), p.name),
		"Ask who runs the service; nothing was taken over.")
}

// rows gives the rows of one answer.
func (s *service) rows(ctx context.Context, p *place, address string, columns []string) ([]mirror.Row, error) {
	answer, err := s.get(ctx, address, "")
	if err != nil {
		return nil, err
	}
	one, err := s.page1(answer.Body)
	if err != nil {
		return nil, err
	}
	var out []mirror.Row
	for _, raw := range one.rows {
		if err := s.give(ctx, p, columns, raw, func(row mirror.Row) error { out = append(out, row); return nil }); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// give makes a row of an entity.
func (s *service) give(ctx context.Context, p *place, columns []string, raw map[string]json.RawMessage, give func(mirror.Row) error) error {
	row, err := s.row(p, columns, raw)
	if err != nil {
		return err
	}
	for _, c := range p.columns {
		if !c.stream || !slices.Contains(columns, c.name) {
			continue
		}
		content, err := s.content(ctx, row.Ref, c)
		if err != nil {
			return err
		}
		if content != nil {
			row.Values[c.name] = content
		}
	}
	return give(row)
}

func (s *service) row(p *place, columns []string, raw map[string]json.RawMessage) (mirror.Row, error) {
	row := mirror.Row{Values: map[string]any{}}
	for _, name := range []string{"@odata.etag", "@etag"} {
		if tag, ok := raw[name]; ok {
			_ = json.Unmarshal(tag, &row.Tag)
		}
	}
	if len(row.Tag) > 1000 || strings.ContainsAny(row.Tag, "\r\n") {
		return row, s.fail(s.web.Base()+" gives a version that is none.", "Ask who runs the service.")
	}
	for _, c := range p.columns {
		wanted := slices.Contains(columns, c.name) || slices.ContainsFunc(p.key, func(k column) bool { return k.name == c.name })
		value, there := raw[c.name]
		if c.stream || !wanted || !there {
			continue
		}
		if c.nav != "" {
			var inner map[string]json.RawMessage
			if json.Unmarshal(value, &inner) != nil || inner == nil {
				continue
			}
			value = inner[s.places[c.target].key[0].name]
		}
		held, err := c.held(value)
		if err != nil {
			return row, &environment.Error{Environment: s.name,
				Message: fmt.Sprintf("an entity of %s cannot be read, property %s: %v.", p.name, c.name, err),
				Mend:    "Correct it there, or leave the property out with ignore: in the catalog.", Cause: err}
		}
		if c.typ == "Edm.Decimal" || c.typ == "Edm.Int64" {
			if value = json.RawMessage(strings.TrimSpace(string(value))); len(value) > 0 && value[0] == '"' {
				s.able.texts = true
			}
		}
		if held != nil {
			row.Values[c.name] = held
		}
	}
	predicate, err := s.predicate(p.key, row.Values, "")
	if err != nil {
		return row, s.fail(fmt.Sprintf("an entity of %s comes without its key.", p.name), "Ask who runs the service.")
	}
	row.Ref = url.PathEscape(p.set.name) + predicate
	return row, nil
}

// content gets what a stream holds; nil where there is none.
func (s *service) content(ctx context.Context, ref string, c column) ([]byte, error) {
	at := ref + "/" + c.name
	if c.media {
		at = ref + "/$value"
	}
	answer, err := s.ask(ctx, at, "*/*")
	if err != nil {
		return nil, err
	}
	if answer.Status == http.StatusNotFound || answer.Status == http.StatusNoContent {
		return nil, nil
	}
	if err := s.told(answer); err != nil {
		return nil, err
	}
	return append([]byte{}, answer.Body...), nil
}
