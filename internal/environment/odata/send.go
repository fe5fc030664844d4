package odata

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"anagram/internal/environment/mirror"
	"anagram/internal/environment/web"
)

// Send sends edits, several in one request where the service takes that.
func (s *service) Send(ctx context.Context, edits []mirror.Edit) ([]mirror.Outcome, error) {
	if s.readOnly {
		return nil, s.fail("it was opened for reading only.", "")
	}
	way := batchNone
	if len(edits) > 1 {
		var err error
		if way, err = s.batchWay(ctx); err != nil {
			return nil, err
		}
	}
	var out []mirror.Outcome
	for len(edits) > 0 {
		n := 1
		if way != batchNone {
			n = min(len(edits), s.able.most)
		}
		came, err := s.sendSome(ctx, way, edits[:n])
		if err != nil {
			return nil, err
		}
		out, edits = append(out, came...), edits[n:]
	}
	return out, nil
}

// sendSome sends edits in one request.
func (s *service) sendSome(ctx context.Context, way int, edits []mirror.Edit) ([]mirror.Outcome, error) {
	out := make([]mirror.Outcome, len(edits))
	var parts []part
	var at []int
	for i, edit := range edits {
		one, err := s.part(edit)
		if err != nil {
			out[i].Refused = err
			continue
		}
		parts, at = append(parts, one), append(at, i)
	}
	if len(parts) == 0 {
		return out, nil
	}
	answers, err := s.deliver(ctx, way, parts)
	var lost *web.LostError
	switch {
	case errors.As(err, &lost):
	case errors.Is(err, errUnable) && len(parts) > 1:
		// The whole was refused; fewer are sent at a time from now on.
		if s.able.most = len(parts) / 2; s.able.most < 2 {
			s.able.batch = batchNone
		}
		lost = &web.LostError{Cause: err}
	case err != nil:
		return nil, err
	}
	for n, i := range at {
		var a *web.Answer
		if n < len(answers) {
			a = answers[n]
		}
		if a == nil {
			out[i].Lost, out[i].After = errors.New("the service did not answer this request"), 0
			if lost != nil {
				out[i].Lost, out[i].After = lost, lost.After
			}
			continue
		}
		if out[i], err = s.outcome(ctx, edits[i], a, texts(parts[n].body)); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func (s *service) deliver(ctx context.Context, way int, parts []part) ([]*web.Answer, error) {
	if way != batchNone && len(parts) > 1 {
		return s.sendBatch(ctx, way, parts, false)
	}
	p := parts[0]
	answer, err := s.web.Do(ctx, web.Request{Method: p.method, URL: p.url, Header: p.header, Body: p.body})
	if err != nil {
		return nil, err
	}
	return []*web.Answer{answer}, nil
}

// part makes the request of an edit.
func (s *service) part(edit mirror.Edit) (part, error) {
	p, err := s.find(edit.Set)
	if err != nil {
		return part{}, err
	}
	if p.link != nil {
		return s.linkPart(p, edit)
	}
	out := part{url: edit.Ref, header: s.header("")}
	switch {
	case edit.Tag != "":
		out.header.Set("If-Match", edit.Tag)
	case edit.Kind != mirror.Add && p.set.optimistic:
		out.header.Set("If-Match", "*")
	}
	if edit.Kind == mirror.Remove {
		out.method = http.MethodDelete
		return out, nil
	}
	body := map[string]any{}
	for _, name := range slices.Sorted(maps.Keys(edit.Values)) {
		c, ok := p.column(name)
		if !ok || c.stream {
			continue
		}
		if c.nav != "" {
			if err := s.bind(body, c, edit.Values[name]); err != nil {
				return out, err
			}
			continue
		}
		if body[name], err = c.written(edit.Values[name], s.able.texts); err != nil {
			return out, fmt.Errorf("%s: %w", name, err)
		}
	}
	if out.body, err = json.Marshal(body); err != nil {
		return out, err
	}
	out.method = http.MethodPatch
	kind := "application/json"
	if s.able.texts && !s.able.plainJSON {
		kind = "application/json;IEEE754Compatible=true"
	}
	out.header.Set("Content-Type", kind)
	out.header.Set("Prefer", "return=representation")
	if edit.Kind == mirror.Add {
		out.method, out.url = http.MethodPost, url.PathEscape(p.set.name)
		if s.able.first[edit.ID] == "" {
			s.able.first[edit.ID] = time.Now().UTC().Format(http.TimeFormat)
		}
		// A service that knows repeatable requests (OASIS) does it once.
		out.header.Set("Repeatability-Request-ID", edit.ID)
		out.header.Set("Repeatability-First-Sent", s.able.first[edit.ID])
	}
	return out, nil
}

// bind refers to an entity where there is no property for it.
func (s *service) bind(body map[string]any, c column, held any) error {
	if held == nil {
		body[c.nav+"@odata.bind"] = nil
		return nil
	}
	to := s.places[c.target]
	predicate, err := s.predicate(to.key, map[string]any{to.key[0].name: held}, "")
	if err != nil {
		return err
	}
	body[c.nav+"@odata.bind"] = url.PathEscape(to.name) + predicate
	return nil
}

// texts lists the texts of a request, which no message may repeat.
func texts(body []byte) []string {
	var all map[string]any
	if json.Unmarshal(body, &all) != nil {
		return nil
	}
	var out []string
	for _, v := range all {
		if text, ok := v.(string); ok {
			out = append(out, text)
		}
	}
	return out
}

// outcome tells what an answer says about an edit.
func (s *service) outcome(ctx context.Context, edit mirror.Edit, a *web.Answer, sent []string) (mirror.Outcome, error) {
	p := s.places[edit.Set]
	switch {
	case a.Status == http.StatusPreconditionFailed || a.Status == http.StatusPreconditionRequired:
		return mirror.Outcome{Moved: true}, nil
	case edit.Kind != mirror.Add && (a.Status == http.StatusNotFound || a.Status == http.StatusGone):
		return mirror.Outcome{Moved: true}, nil
	case a.Status == http.StatusTooManyRequests || a.Status >= 500 && a.Status != http.StatusNotImplemented ||
		a.Status == http.StatusRequestTimeout:
		return mirror.Outcome{Lost: fmt.Errorf("%s answers with %d%s", s.web.Base(), a.Status, after(words(a.Body, sent), ": ")),
			After: web.After(a.Header)}, nil
	case a.Status == http.StatusUnauthorized:
		return mirror.Outcome{}, s.web.Refusal(a)
	case a.Status < 200 || a.Status >= 300:
		text := words(a.Body, sent)
		if text == "" {
			text = fmt.Sprintf("it answers with %d", a.Status)
		}
		return mirror.Outcome{Refused: fmt.Errorf("the service refuses it: %s", text)}, nil
	case edit.Kind == mirror.Remove || p.link != nil:
		out := mirror.Outcome{}
		if p.link != nil && edit.Kind == mirror.Add {
			row := mirror.Row{Values: maps.Clone(edit.Values)}
			if one, err := s.linkPart(p, edit); err == nil {
				from := strings.TrimSuffix(one.url, "/"+p.link.nav+"/$ref")
				to, _ := s.predicate(p.link.to.key, edit.Values, "to_")
				row.Ref = from + linkSign + url.PathEscape(p.link.to.name) + to
				out.Row = &row
			}
		}
		return out, nil
	}
	return s.written(ctx, p, edit, a)
}

// written completes an edit that the service took: streams, references that it dropped, and
// what it says of the entity now.
func (s *service) written(ctx context.Context, p *place, edit mirror.Edit, a *web.Answer) (mirror.Outcome, error) {
	var all []string
	for _, c := range p.columns {
		if !c.stream || edit.Values[c.name] != nil {
			all = append(all, c.name)
		}
	}
	out := mirror.Outcome{Row: s.represented(p, all, a)}
	ref := edit.Ref
	if ref == "" && out.Row != nil {
		ref = out.Row.Ref
	}
	if ref == "" {
		if ref = s.located(a); ref == "" {
			return out, nil // it is found by its key
		}
	}
	streams, bound, err := s.putStreams(ctx, p, ref, edit)
	if err != nil {
		return mirror.Outcome{}, err
	}
	if !bound && !streams {
		if out.Row != nil && !whole(p, *out.Row, a) {
			out.Row = nil // what it is now is asked for together with others
		}
		return out, nil
	}
	// A representation has no streams, and says nothing about what was bound.
	var row *mirror.Row
	err = s.fetchRefs(ctx, p, mirror.Query{Set: p.name, Columns: all, Refs: []string{ref}},
		func(r mirror.Row) error { row = &r; return nil })
	if err != nil || row == nil {
		return mirror.Outcome{}, err
	}
	return mirror.Outcome{Row: row}, s.bound(ctx, p, ref, edit, row)
}

// putStreams writes the streams of an edit, and tells whether it had some, and references that are
// bound.
func (s *service) putStreams(ctx context.Context, p *place, ref string, edit mirror.Edit) (streams, bound bool, err error) {
	for _, c := range p.columns {
		v, ok := edit.Values[c.name]
		if !ok {
			continue
		}
		bound = bound || c.nav != ""
		if !c.stream || v == nil {
			continue
		}
		// What is refused here shows when the record is read back: it is there already.
		if err := s.putStream(ctx, ref, c, v); err != nil && !errors.Is(err, errRefused) {
			return false, false, err
		}
		streams = true
	}
	return streams, bound, nil
}

// represented makes a row of what came with an answer, nil where that says nothing.
func (s *service) represented(p *place, columns []string, a *web.Answer) *mirror.Row {
	if len(a.Body) == 0 {
		return nil
	}
	raw, err := s.object(a.Body)
	if err != nil {
		return nil
	}
	row, err := s.row(p, columns, raw)
	if err != nil {
		return nil
	}
	return &row
}

// bound makes the references that the service dropped when they were bound.
func (s *service) bound(ctx context.Context, p *place, ref string, edit mirror.Edit, row *mirror.Row) error {
	for _, c := range p.columns {
		v, ok := edit.Values[c.name]
		if !ok || c.nav == "" || row.Values[c.name] == v {
			continue
		}
		err := s.putReference(ctx, ref, c, v)
		if errors.Is(err, errRefused) {
			continue
		}
		if err != nil {
			return err
		}
		row.Values[c.name], row.Tag = v, ""
	}
	return nil
}

// whole reports whether a representation has all properties.
func whole(p *place, row mirror.Row, a *web.Answer) bool {
	var raw map[string]json.RawMessage
	if json.Unmarshal(a.Body, &raw) != nil {
		return false
	}
	for _, c := range p.columns {
		if _, there := raw[c.name]; !there || c.stream || c.nav != "" {
			return false
		}
	}
	return row.Ref != ""
}

// located gives where a new entity is, as its answer says.
func (s *service) located(a *web.Answer) string {
	for _, name := range []string{"Location", "Odata-Entityid"} {
		if given := a.Header.Get(name); given != "" {
			if at, err := s.web.At(a.URL, given); err == nil {
				return strings.TrimPrefix(at, s.web.Base())
			}
		}
	}
	return ""
}

// putStream writes what a stream holds.
func (s *service) putStream(ctx context.Context, ref string, c column, held any) error {
	content, ok := held.([]byte)
	if !ok {
		return errors.New(c.name + ": it is no content")
	}
	at := ref + "/" + c.name
	if c.media {
		at = ref + "/$value"
	}
	header := http.Header{"Content-Type": {"application/octet-stream"}, "If-Match": {"*"}, "Odata-Maxversion": {"4.01"}}
	return s.put(ctx, at, header, content)
}

// putReference makes a reference that was dropped when it was bound.
func (s *service) putReference(ctx context.Context, ref string, c column, held any) error {
	at := ref + "/" + c.nav + "/$ref"
	if held == nil {
		answer, err := s.web.Do(ctx, web.Request{Method: http.MethodDelete, URL: at, Header: s.header(""), Again: true})
		if err == nil && answer.Status != http.StatusNotFound && s.told(answer) != nil {
			return errRefused
		}
		return err
	}
	to := s.places[c.target]
	predicate, err := s.predicate(to.key, map[string]any{to.key[0].name: held}, "")
	if err != nil {
		return err
	}
	body := fmt.Sprintf(`{"@odata.id":%q}`, s.web.Base()+url.PathEscape(to.name)+predicate)
	header := s.header("")
	header.Set("Content-Type", "application/json")
	return s.put(ctx, at, header, []byte(body))
}

// errRefused is a part of an entity that the service does not take.
var errRefused = errors.New("the service refuses it")

// put writes something whole; to do it twice does no harm.
func (s *service) put(ctx context.Context, at string, header http.Header, body []byte) error {
	answer, err := s.web.Do(ctx, web.Request{Method: http.MethodPut, URL: at, Header: header, Body: body, Again: true})
	if err != nil {
		return err
	}
	if err := s.web.Refusal(answer); err != nil && answer.Status != http.StatusForbidden {
		return err
	}
	if s.told(answer) != nil {
		return errRefused
	}
	return nil
}
