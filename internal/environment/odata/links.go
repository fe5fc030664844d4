package odata

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"anagram/internal/environment/mirror"
)

// Links between many and many: a row is one link, its reference both ends.

// linkSign stands between the two ends of a link in its reference.
const linkSign = " -> "

// fetchLinks gives the links of a navigation. An expansion is compared once with what the
// navigation itself gives; where it stops early, each entity is asked.
func (s *service) fetchLinks(ctx context.Context, p *place, q mirror.Query, give func(mirror.Row) error) error {
	to := p.link.to
	names := make([]string, len(to.key))
	for i, c := range to.key {
		names[i] = c.name
	}
	chosen := "$select=" + strings.Join(names, ",")
	set := s.places[p.set.name]
	var own []string
	for _, c := range set.key {
		own = append(own, c.name)
	}
	address := url.PathEscape(p.set.name) + "?$select=" + strings.Join(own, ",") + "&$expand=" + p.link.nav + "(" + chosen + ")"
	answer, err := s.ask(ctx, address, "")
	if err != nil {
		return err
	}
	expands := answer.Status == http.StatusOK
	if !expands {
		address = url.PathEscape(p.set.name) + "?$select=" + strings.Join(own, ",")
		if answer, err = s.get(ctx, address, ""); err != nil {
			return err
		}
	}
	link := s.linking(set, to, names, q.Refs, give)
	for n := 0; ; n++ {
		one, err := s.page1(answer.Body)
		if err != nil {
			return err
		}
		for _, raw := range one.rows {
			if err := s.linksOf(ctx, p, set, own, chosen, expands, raw, link); err != nil {
				return err
			}
		}
		if one.next == "" {
			return nil
		}
		next, err := s.web.At(answer.URL, one.next)
		if err != nil {
			return err
		}
		if n > mostPages || next == answer.URL.String() {
			return s.endless(p)
		}
		if answer, err = s.get(ctx, next, ""); err != nil {
			return err
		}
	}
}

// linking makes a row of each link, of those that are wanted where some are.
func (s *service) linking(set, to *place, names, refs []string, give func(mirror.Row) error) func(mirror.Row,
	map[string]json.RawMessage) error {
	wanted := map[string]bool{}
	for _, ref := range refs {
		wanted[ref] = true
	}
	return func(from mirror.Row, raw map[string]json.RawMessage) error {
		other, err := s.row(to, names, raw)
		if err != nil {
			return err
		}
		row := mirror.Row{Ref: from.Ref + linkSign + other.Ref, Values: map[string]any{}}
		for _, c := range set.key {
			row.Values["from_"+c.name] = from.Values[c.name]
		}
		for _, c := range to.key {
			row.Values["to_"+c.name] = other.Values[c.name]
		}
		if refs != nil && !wanted[row.Ref] {
			return nil
		}
		return give(row)
	}
}

// direct gives what an entity links to, by its navigation.
func (s *service) direct(ctx context.Context, p *place, ref, chosen string) ([]map[string]json.RawMessage, error) {
	var out []map[string]json.RawMessage
	answer, err := s.get(ctx, ref+"/"+p.link.nav+"?"+chosen, "")
	for n := 0; err == nil; n++ {
		one, pageErr := s.page1(answer.Body)
		if pageErr != nil {
			return nil, pageErr
		}
		if out = append(out, one.rows...); one.next == "" {
			return out, nil
		}
		if n > mostPages || len(out) > mostPages {
			return nil, s.endless(p)
		}
		next, atErr := s.web.At(answer.URL, one.next)
		if atErr != nil {
			return nil, atErr
		}
		answer, err = s.get(ctx, next, "")
	}
	return nil, err
}

// linksOf gives the links of one entity.
func (s *service) linksOf(ctx context.Context, p, set *place, own []string, chosen string, expands bool,
	raw map[string]json.RawMessage, link func(mirror.Row, map[string]json.RawMessage) error) error {
	from, err := s.row(set, own, raw)
	if err != nil {
		return err
	}
	var rows []map[string]json.RawMessage
	whole := expands && json.Unmarshal(raw[p.link.nav], &rows) == nil
	for _, name := range []string{p.link.nav + "@odata.nextLink", p.link.nav + "@nextLink"} {
		if _, more := raw[name]; more {
			whole = false
		}
	}
	if known, tried := s.able.expands[p.name]; tried {
		whole = whole && known
	} else if whole && len(rows) > 0 {
		all, err := s.direct(ctx, p, from.Ref, chosen)
		if err != nil {
			return err
		}
		// One that has a single link says nothing about a second one.
		if len(all) != len(rows) || len(all) > 1 {
			s.able.expands[p.name] = len(all) == len(rows)
		}
		rows = all
	}
	if !whole {
		if rows, err = s.direct(ctx, p, from.Ref, chosen); err != nil {
			return err
		}
	}
	for _, of := range rows {
		if err := link(from, of); err != nil {
			return err
		}
	}
	return nil
}

// sendLink adds or removes a link.
func (s *service) linkPart(p *place, edit mirror.Edit) (part, error) {
	set := s.places[p.set.name]
	if edit.Kind == mirror.Change {
		return part{}, fmt.Errorf("a link is added or removed, not changed")
	}
	from, to, found := strings.Cut(edit.Ref, linkSign)
	if !found {
		one, err := s.predicate(set.key, edit.Values, "from_")
		if err != nil {
			return part{}, err
		}
		other, err := s.predicate(p.link.to.key, edit.Values, "to_")
		if err != nil {
			return part{}, err
		}
		from, to = url.PathEscape(set.name)+one, url.PathEscape(p.link.to.name)+other
	}
	out := part{method: http.MethodPost, url: from + "/" + p.link.nav + "/$ref", header: s.header("")}
	if edit.Kind == mirror.Remove {
		out.method = http.MethodDelete
		out.url += "?$id=" + url.QueryEscape(s.web.Base()+to)
		return out, nil
	}
	out.header.Set("Content-Type", "application/json")
	out.body = []byte(fmt.Sprintf(`{"@odata.id":%q}`, s.web.Base()+to))
	return out, nil
}
