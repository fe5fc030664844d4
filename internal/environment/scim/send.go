package scim

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"anagram/internal/environment/mirror"
	"anagram/internal/environment/web"
)

const (
	patchSchema = "urn:ietf:params:scim:api:messages:2.0:PatchOp"
	bulkSchema  = "urn:ietf:params:scim:api:messages:2.0:BulkRequest"
	mostBulk    = 200
)

// request is one edit as it is sent.
type request struct {
	method, path string
	version      string
	body         []byte
}

// Together tells how many edits one request takes.
func (d *directory) Together(context.Context) (int, error) {
	if !d.config.Bulk.Supported || d.config.Bulk.MaxOperations < 2 || !d.config.Patch.Supported {
		return 1, nil
	}
	return min(d.config.Bulk.MaxOperations, mostBulk), nil
}

// Send sends edits, several in one request where the directory takes that.
func (d *directory) Send(ctx context.Context, edits []mirror.Edit) ([]mirror.Outcome, error) {
	if d.readOnly {
		return nil, d.fail("it was opened for reading only.", "")
	}
	together, err := d.Together(ctx)
	if err != nil {
		return nil, err
	}
	var out []mirror.Outcome
	for some := range slices.Chunk(edits, together) {
		came := make([]mirror.Outcome, len(some))
		var at []int
		var requests []request
		for i, edit := range some {
			r, err := d.request(ctx, edit)
			if err != nil {
				return nil, err
			}
			requests, at = append(requests, r), append(at, i)
		}
		if len(requests) > 1 {
			err = d.bulk(ctx, some, requests, at, came)
		} else {
			came[0], err = d.alone(ctx, some[0], requests[0])
		}
		if err != nil {
			return nil, err
		}
		out = append(out, came...)
	}
	return out, nil
}

type operation struct {
	Op    string `json:"op"`
	Path  string `json:"path,omitempty"`
	Value any    `json:"value,omitempty"`
}

func patch(operations []operation) []byte {
	text, _ := json.Marshal(map[string]any{"schemas": []string{patchSchema}, "Operations": operations})
	return text
}

// request makes the request of an edit.
func (d *directory) request(ctx context.Context, edit mirror.Edit) (request, error) {
	p, err := d.find(edit.Set)
	if err != nil {
		return request{}, err
	}
	if p.to != "" {
		return d.membership(ctx, p, edit)
	}
	out := request{path: p.endpoint + "/" + url.PathEscape(edit.Ref), version: edit.Tag}
	switch edit.Kind {
	case mirror.Remove:
		out.method = http.MethodDelete
		return out, nil
	case mirror.Add:
		out.method, out.path, out.version = http.MethodPost, p.endpoint, ""
		out.body, err = p.resource(edit.Values, nil)
		return out, err
	}
	if !d.config.Patch.Supported {
		return d.replace(ctx, p, edit, out)
	}
	var operations []operation
	for _, name := range slices.Sorted(maps.Keys(edit.Values)) {
		c, ok := p.column(name)
		if !ok || c.Mutability == "readOnly" {
			continue
		}
		path := name
		if c.urn != "" {
			path = c.urn
		}
		if edit.Values[name] == nil {
			operations = append(operations, operation{Op: "remove", Path: path})
		} else {
			operations = append(operations, operation{Op: "replace", Path: path, Value: c.written(edit.Values[name])})
		}
	}
	out.method, out.body = http.MethodPatch, patch(operations)
	return out, nil
}

// replace writes a resource whole, where it cannot be patched: all else is as it was read.
func (d *directory) replace(ctx context.Context, p *place, edit mirror.Edit, out request) (request, error) {
	var whole map[string]json.RawMessage
	gone, err := d.get(ctx, out.path, &whole)
	if err != nil {
		return out, err
	}
	out.method = http.MethodPut
	if gone {
		out.body = []byte("{}") // which finds nothing
		return out, nil
	}
	delete(whole, "meta")
	out.body, err = p.resource(edit.Values, whole)
	return out, err
}

// resource writes values into a resource.
func (p *place) resource(values map[string]any, into map[string]json.RawMessage) ([]byte, error) {
	if into == nil {
		into = map[string]json.RawMessage{}
	}
	schemas := []string{p.schema}
	for _, c := range p.columns {
		name := c.Name
		if c.urn != "" {
			name = c.urn
			if values[c.Name] != nil {
				schemas = append(schemas, c.urn)
			}
		}
		v, ok := values[c.Name]
		if !ok || c.Mutability == "readOnly" {
			continue
		}
		if v == nil {
			delete(into, name)
			continue
		}
		text, err := json.Marshal(c.written(v))
		if err != nil {
			return nil, err
		}
		into[name] = text
	}
	if _, there := into["schemas"]; !there {
		into["schemas"], _ = json.Marshal(schemas)
	}
	return json.Marshal(into)
}

// membership adds or removes a member; to do it twice does no harm.
func (d *directory) membership(ctx context.Context, p *place, edit mirror.Edit) (request, error) {
	group, member, known := strings.Cut(edit.Ref, memberSign)
	if !known {
		group, _ = edit.Values["group"].(string)
		member, _ = edit.Values["member"].(string)
	}
	out := request{method: http.MethodPatch, path: p.from + "/" + url.PathEscape(group)}
	if !d.config.Patch.Supported && edit.Kind != mirror.Change {
		return d.replaceMembers(ctx, p, edit.Kind, member, out)
	}
	text, err := json.Marshal(member)
	if err != nil {
		return out, err
	}
	switch edit.Kind {
	case mirror.Add:
		kind := strings.TrimSuffix(p.to, "s")
		out.body = patch([]operation{{Op: "add", Path: "members", Value: []map[string]string{{"value": member, "type": kind}}}})
	case mirror.Remove:
		out.body = patch([]operation{{Op: "remove", Path: "members[value eq " + string(text) + "]"}})
	default:
		return out, errors.New("a membership is added or removed, not changed")
	}
	return out, nil
}

// replaceMembers writes a group whole with a member more or less, as long as it is as it was read.
func (d *directory) replaceMembers(ctx context.Context, p *place, kind mirror.Kind, member string, out request) (request, error) {
	out.method = http.MethodPut
	var whole resource
	gone, err := d.get(ctx, out.path, &whole)
	if err != nil || gone {
		out.body = []byte("{}")
		return out, err
	}
	var m meta
	var members []map[string]any
	if raw := whole.attribute("meta"); raw != nil {
		_ = json.Unmarshal(raw, &m)
	}
	if raw := whole.attribute("members"); raw != nil && json.Unmarshal(raw, &members) != nil {
		return out, d.broken(p, errors.New("the members of a group are no list"))
	}
	members = slices.DeleteFunc(members, func(of map[string]any) bool { return of["value"] == member })
	if kind == mirror.Add {
		members = append(members, map[string]any{"value": member, "type": strings.TrimSuffix(p.to, "s")})
	}
	delete(whole, "meta")
	if whole["members"], err = json.Marshal(members); err != nil {
		return out, err
	}
	out.version = m.Version
	out.body, err = json.Marshal(whole)
	return out, err
}

// alone sends one edit by itself.
func (d *directory) alone(ctx context.Context, edit mirror.Edit, r request) (mirror.Outcome, error) {
	h := header()
	if r.body != nil {
		h.Set("Content-Type", "application/scim+json")
	}
	if r.version != "" {
		h.Set("If-Match", r.version)
	}
	a, err := d.web.Do(ctx, web.Request{Method: r.method, URL: r.path, Header: h, Body: r.body})
	var lost *web.LostError
	if errors.As(err, &lost) {
		return mirror.Outcome{Lost: lost, After: lost.After}, nil
	}
	if err != nil {
		return mirror.Outcome{}, err
	}
	return d.outcome(edit, a, r.body)
}

// outcome tells what an answer says about an edit.
func (d *directory) outcome(edit mirror.Edit, a *web.Answer, sent []byte) (mirror.Outcome, error) {
	p := d.places[edit.Set]
	switch {
	case a.Status < 200 || a.Status >= 300:
		return d.notDone(edit, p, a, sent)
	case p.to != "" && edit.Kind == mirror.Add:
		row := mirror.Row{Ref: fmt.Sprint(edit.Values["group"]) + memberSign + fmt.Sprint(edit.Values["member"]),
			Values: maps.Clone(edit.Values)}
		return mirror.Outcome{Row: &row}, nil
	case edit.Kind == mirror.Remove || p.to != "" || len(a.Body) == 0 || web.Shallow(a.Body) != nil:
		return mirror.Outcome{}, nil
	}
	row, err := p.row(a.Body)
	if err != nil || edit.Ref != "" && row.Ref != edit.Ref {
		return mirror.Outcome{}, nil //nolint:nilerr // it is read again
	}
	return mirror.Outcome{Row: &row}, nil
}

// notDone tells what an answer that is none of success says.
func (d *directory) notDone(edit mirror.Edit, p *place, a *web.Answer, sent []byte) (mirror.Outcome, error) {
	switch {
	case a.Status == http.StatusPreconditionFailed && p.to != "":
		// Another member came or went in between: it is tried again with the group as it is now.
		return mirror.Outcome{Lost: errors.New("the group was changed at the same time")}, nil
	case a.Status == http.StatusPreconditionFailed:
		return mirror.Outcome{Moved: true}, nil
	case edit.Kind != mirror.Add && p.to == "" && (a.Status == http.StatusNotFound || a.Status == http.StatusGone):
		return mirror.Outcome{Moved: true}, nil
	case a.Status == http.StatusTooManyRequests || a.Status >= 500 && a.Status != http.StatusNotImplemented ||
		a.Status == http.StatusRequestTimeout:
		return mirror.Outcome{Lost: fmt.Errorf("%s answers with %d%s", d.web.Base(), a.Status, said(a.Body, texts(sent))),
			After: web.After(a.Header)}, nil
	case a.Status == http.StatusUnauthorized:
		return mirror.Outcome{}, d.web.Refusal(a)
	}
	return mirror.Outcome{Refused: fmt.Errorf("the directory refuses it with %d%s", a.Status, said(a.Body, texts(sent)))}, nil
}

// texts lists the texts of a request, which no message may repeat.
func texts(body []byte) []string {
	var all any
	if json.Unmarshal(body, &all) != nil {
		return nil
	}
	var out []string
	var walk func(any)
	walk = func(v any) {
		switch of := v.(type) {
		case string:
			out = append(out, of)
		case []any:
			for _, one := range of {
				walk(one)
			}
		case map[string]any:
			for _, one := range of {
				walk(one)
			}
		}
	}
	walk(all)
	return out
}

// bulk sends several edits in one request (RFC 7644 section 3.7).
func (d *directory) bulk(ctx context.Context, edits []mirror.Edit, requests []request, at []int, out []mirror.Outcome) error {
	type one struct {
		Method  string          `json:"method"`
		Path    string          `json:"path"`
		BulkID  string          `json:"bulkId"`
		Version string          `json:"version,omitempty"`
		Data    json.RawMessage `json:"data,omitempty"`
	}
	all := make([]one, len(requests))
	for i, r := range requests {
		all[i] = one{r.method, "/" + r.path, "r" + strconv.Itoa(i), r.version, r.body}
	}
	body, err := json.Marshal(map[string]any{"schemas": []string{bulkSchema}, "Operations": all})
	if err != nil {
		return err
	}
	h := header()
	h.Set("Content-Type", "application/scim+json")
	a, err := d.web.Do(ctx, web.Request{Method: http.MethodPost, URL: "Bulk", Header: h, Body: body})
	var lost *web.LostError
	if err != nil && !errors.As(err, &lost) {
		return err
	}
	var came struct {
		Operations []struct {
			BulkID   string          `json:"bulkId"`
			Status   json.RawMessage `json:"status"`
			Response json.RawMessage `json:"response"`
		}
	}
	answered := map[string]*web.Answer{}
	switch {
	case err != nil:
	case a.Status == http.StatusTooManyRequests || a.Status >= 500:
		lost = &web.LostError{After: web.After(a.Header), Cause: fmt.Errorf("it answers with %d", a.Status)}
	case a.Status < 200 || a.Status >= 300:
		// It took none of them; each goes by itself from now on, once it is known that it did not.
		d.config.Bulk.Supported = false
	case web.Shallow(a.Body) == nil && json.Unmarshal(a.Body, &came) == nil:
		for _, o := range came.Operations {
			status, _ := strconv.Atoi(strings.Trim(string(o.Status), `"`))
			answered[o.BulkID] = &web.Answer{Status: status, Body: o.Response, Header: http.Header{}}
		}
	}
	for i := range requests {
		one := answered[all[i].BulkID]
		if one == nil || one.Status == 0 {
			out[at[i]] = mirror.Outcome{Lost: errors.New("the directory did not answer this request")}
			if lost != nil {
				out[at[i]].Lost, out[at[i]].After = lost, lost.After
			}
			continue
		}
		if out[at[i]], err = d.outcome(edits[at[i]], one, requests[i].body); err != nil {
			return err
		}
	}
	return nil
}
