package service

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"anagram/internal/core/pattern"
)

// A small SCIM 2.0 directory (RFC 7643, RFC 7644), kept in memory.

// DirectoryOptions say what a directory is and what it does wrong.
type DirectoryOptions struct {
	Account, Password string // who may sign in, "" is everybody
	NoBulk, NoPatch   bool
	NoFilter          bool // it takes no notice of filters, though it says that it has them
	NoMembers         bool // lists leave the members out
	Most              int  // resources of a page, 0 is 100
	Fail              Fail
	Prefix            string // before ids, so that they are this directory's own
}

// Directory answers requests. It may be used by several at once.
type Directory struct {
	o         DirectoryOptions
	fail      *failing
	mutex     sync.Mutex
	resources map[string][]*resource // by endpoint
	last      int
	log       []string
}

type resource struct {
	id       string
	version  int
	modified time.Time
	values   map[string]any
}

// endpoints and the attribute that is unique in each.
var uniqueIn = map[string]string{"Users": "userName", "Groups": "displayName", "Roles": "code"}

const core = "urn:ietf:params:scim:schemas:core:2.0:"

var schemaOf = map[string]string{"Users": core + "User", "Groups": core + "Group",
	"Roles": "urn:fernhollow:params:scim:schemas:lab:2.0:Role"}

// NewDirectory makes an empty one.
func NewDirectory(o DirectoryOptions) *Directory {
	if o.Most == 0 {
		o.Most = 100
	}
	return &Directory{o: o, fail: newFailing(o.Fail), resources: map[string][]*resource{}}
}

// Put adds a resource, as if it had always been there, and gives its id.
func (d *Directory) Put(endpoint string, values map[string]any) string {
	d.mutex.Lock()
	defer d.mutex.Unlock()
	return d.put(endpoint, values).id
}

func (d *Directory) put(endpoint string, values map[string]any) *resource {
	d.last++
	r := &resource{id: d.o.Prefix + strconv.Itoa(1000+d.last*7), version: 1, modified: time.Now().UTC(), values: values}
	d.resources[endpoint] = append(d.resources[endpoint], r)
	return r
}

// All gives the values of all resources of a kind, and their ids.
func (d *Directory) All(endpoint string) map[string]map[string]any {
	d.mutex.Lock()
	defer d.mutex.Unlock()
	out := map[string]map[string]any{}
	for _, r := range d.resources[endpoint] {
		out[r.id] = r.values
	}
	return out
}

// SetFail makes it fail from now on as it says.
func (d *Directory) SetFail(f Fail) { (&Service{fail: d.fail}).SetFail(f) }

// Log lists the requests that came, and forgets them.
func (d *Directory) Log() []string {
	d.mutex.Lock()
	defer d.mutex.Unlock()
	out := d.log
	d.log = nil
	return out
}

// ServeHTTP answers.
func (d *Directory) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	d.mutex.Lock()
	d.log = append(d.log, r.Method+" "+r.URL.Path)
	d.mutex.Unlock()
	if account, password, _ := r.BasicAuth(); d.o.Account != "" && (!same(account, d.o.Account) || !same(password, d.o.Password)) {
		d.refuse(w, http.StatusUnauthorized, "", "Sign in first.")
		return
	}
	d.fail.around(w, func(w http.ResponseWriter) {
		d.mutex.Lock()
		defer d.mutex.Unlock()
		body, err := io.ReadAll(io.LimitReader(r.Body, mostBody))
		if err != nil {
			d.refuse(w, http.StatusBadRequest, "", "The body cannot be read.")
			return
		}
		d.answer(w, r.Method, strings.Trim(r.URL.Path, "/"), r, body)
	})
}

func (d *Directory) give(w http.ResponseWriter, status int, body any) {
	w.Header().Set("Content-Type", "application/scim+json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(body)
}

func (d *Directory) refuse(w http.ResponseWriter, status int, kind, detail string) {
	body := map[string]any{"schemas": []string{"urn:ietf:params:scim:api:messages:2.0:Error"}, "status": strconv.Itoa(status),
		"detail": detail}
	if kind != "" {
		body["scimType"] = kind
	}
	d.give(w, status, body)
}

func (d *Directory) list(w http.ResponseWriter, all []any, start, total int) {
	d.give(w, http.StatusOK, map[string]any{"schemas": []string{"urn:ietf:params:scim:api:messages:2.0:ListResponse"},
		"totalResults": total, "startIndex": start, "itemsPerPage": len(all), "Resources": all})
}

func (d *Directory) answer(w http.ResponseWriter, method, path string, r *http.Request, body []byte) {
	endpoint, id, _ := strings.Cut(path, "/")
	switch {
	case path == "ServiceProviderConfig":
		d.give(w, http.StatusOK, map[string]any{"patch": map[string]any{"supported": !d.o.NoPatch},
			"bulk":   map[string]any{"supported": !d.o.NoBulk, "maxOperations": 50, "maxPayloadSize": mostBody},
			"filter": map[string]any{"supported": true, "maxResults": d.o.Most}, "etag": map[string]any{"supported": true}})
	case path == "ResourceTypes":
		var all []any
		for _, name := range []string{"Users", "Groups", "Roles"} {
			all = append(all, map[string]any{"id": strings.TrimSuffix(name, "s"), "name": strings.TrimSuffix(name, "s"),
				"endpoint": "/" + name, "schema": schemaOf[name]})
		}
		d.list(w, all, 1, len(all))
	case path == "Schemas":
		all := schemas()
		d.list(w, all, 1, len(all))
	case path == "Bulk" && method == http.MethodPost && !d.o.NoBulk:
		d.bulk(w, r, body)
	case uniqueIn[endpoint] == "":
		d.refuse(w, http.StatusNotFound, "", "There is nothing of this name.")
	case id == "" && method == http.MethodGet:
		d.search(w, r, endpoint)
	case id == "" && method == http.MethodPost:
		d.create(w, endpoint, body)
	case id != "":
		d.single(w, method, endpoint, id, r.Header.Get("If-Match"), body)
	default:
		d.refuse(w, http.StatusMethodNotAllowed, "", "This cannot be done here.")
	}
}

func schemas() []any {
	plain := func(name string, more map[string]any) map[string]any {
		out := map[string]any{"name": name, "type": "string", "multiValued": false, "required": false, "caseExact": false,
			"mutability": "readWrite", "returned": "default", "uniqueness": "none"}
		for key, value := range more {
			out[key] = value
		}
		return out
	}
	several := func(name string, parts ...any) map[string]any {
		return plain(name, map[string]any{"type": "complex", "multiValued": true, "subAttributes": parts})
	}
	return []any{
		map[string]any{"id": schemaOf["Users"], "name": "User", "attributes": []any{
			plain("userName", map[string]any{"required": true, "uniqueness": "server"}),
			plain("name", map[string]any{"type": "complex", "subAttributes": []any{plain("givenName", nil),
				plain("familyName", nil), plain("formatted", map[string]any{"mutability": "readOnly"})}}),
			plain("displayName", nil), plain("title", nil), plain("active", map[string]any{"type": "boolean"}),
			plain("password", map[string]any{"mutability": "writeOnly", "returned": "never"}),
			several("emails", plain("value", nil), plain("type", nil), plain("primary", map[string]any{"type": "boolean"})),
			several("groups", plain("value", map[string]any{"mutability": "readOnly"})),
		}},
		map[string]any{"id": schemaOf["Groups"], "name": "Group", "attributes": []any{plain("displayName",
			map[string]any{"required": true, "uniqueness": "server"}), several("members", plain("value", nil), plain("type", nil))}},
		map[string]any{"id": schemaOf["Roles"], "name": "Role", "attributes": []any{plain("code",
			map[string]any{"required": true, "uniqueness": "server", "caseExact": true}), plain("displayName", nil),
			plain("level", map[string]any{"type": "integer"}), plain("rights", map[string]any{"multiValued": true, "caseExact": true})}},
	}
}

func (r *resource) tag() string { return fmt.Sprintf(`W/"%d"`, r.version) }

func (d *Directory) shown(endpoint string, r *resource, listed bool) map[string]any {
	out := map[string]any{"schemas": []string{schemaOf[endpoint]}, "id": r.id,
		"meta": map[string]any{"resourceType": strings.TrimSuffix(endpoint, "s"), "version": r.tag(),
			"lastModified": r.modified.Format(time.RFC3339)}}
	for name, value := range r.values {
		if name != "password" && (name != "members" || !listed || !d.o.NoMembers) {
			out[name] = value
		}
	}
	return out
}

var equals = pattern.Of(`^([A-Za-z.]+) eq (".*"|[0-9]+)$`)

func (d *Directory) search(w http.ResponseWriter, r *http.Request, endpoint string) {
	query := r.URL.Query()
	found := d.resources[endpoint]
	if filter := query.Get("filter"); filter != "" && !d.o.NoFilter {
		found = nil
		wanted := map[string]bool{}
		for _, part := range strings.Split(filter, " or ") {
			m := equals.FindStringSubmatch(part)
			if m == nil {
				d.refuse(w, http.StatusBadRequest, "invalidFilter", "The filter is not understood.")
				return
			}
			var value any
			_ = json.Unmarshal([]byte(m[2]), &value)
			wanted[m[1]+"="+strings.ToLower(fmt.Sprint(value))] = true
		}
		for _, one := range d.resources[endpoint] {
			hit := wanted["id="+strings.ToLower(one.id)]
			for name, value := range one.values {
				hit = hit || wanted[name+"="+strings.ToLower(fmt.Sprint(value))]
			}
			if hit {
				found = append(found, one)
			}
		}
	}
	start, count := 1, d.o.Most
	if n, err := strconv.Atoi(query.Get("startIndex")); err == nil && n > 1 {
		start = n
	}
	if n, err := strconv.Atoi(query.Get("count")); err == nil && n >= 0 {
		count = min(n, count)
	}
	all := []any{}
	for i := start - 1; i < len(found) && len(all) < count; i++ {
		all = append(all, d.shown(endpoint, found[i], true))
	}
	d.list(w, all, start, len(found))
}

// taken reports whether another resource has a unique value.
func (d *Directory) taken(endpoint string, values map[string]any, but *resource) bool {
	name := uniqueIn[endpoint]
	return slices.ContainsFunc(d.resources[endpoint], func(r *resource) bool {
		return r != but && strings.EqualFold(fmt.Sprint(r.values[name]), fmt.Sprint(values[name]))
	})
}

func (d *Directory) create(w http.ResponseWriter, endpoint string, body []byte) {
	var values map[string]any
	if json.Unmarshal(body, &values) != nil || values[uniqueIn[endpoint]] == nil {
		d.refuse(w, http.StatusBadRequest, "invalidValue", uniqueIn[endpoint]+" must have a value.")
		return
	}
	if d.taken(endpoint, values, nil) {
		d.refuse(w, http.StatusConflict, "uniqueness", fmt.Sprintf("%v is taken.", values[uniqueIn[endpoint]]))
		return
	}
	for _, name := range []string{"id", "meta", "schemas"} {
		delete(values, name)
	}
	r := d.put(endpoint, values)
	w.Header().Set("Location", endpoint+"/"+r.id)
	w.Header().Set("ETag", r.tag())
	d.give(w, http.StatusCreated, d.shown(endpoint, r, false))
}

func (d *Directory) single(w http.ResponseWriter, method, endpoint, id, version string, body []byte) {
	at := slices.IndexFunc(d.resources[endpoint], func(r *resource) bool { return r.id == id })
	if at < 0 {
		d.refuse(w, http.StatusNotFound, "", "There is no such resource.")
		return
	}
	r := d.resources[endpoint][at]
	if version != "" && version != r.tag() {
		d.refuse(w, http.StatusPreconditionFailed, "", "It was changed since.")
		return
	}
	switch {
	case method == http.MethodGet:
		d.give(w, http.StatusOK, d.shown(endpoint, r, false))
		return
	case method == http.MethodDelete:
		d.resources[endpoint] = slices.Delete(d.resources[endpoint], at, at+1)
		for _, group := range d.resources["Groups"] {
			group.drop(id)
		}
		w.WriteHeader(http.StatusNoContent)
		return
	case method == http.MethodPut:
		var values map[string]any
		if json.Unmarshal(body, &values) != nil {
			d.refuse(w, http.StatusBadRequest, "invalidSyntax", "The body is no JSON.")
			return
		}
		for _, name := range []string{"id", "meta", "schemas"} {
			delete(values, name)
		}
		if d.taken(endpoint, values, r) {
			d.refuse(w, http.StatusConflict, "uniqueness", "It is taken.")
			return
		}
		r.values = values
	case method == http.MethodPatch && !d.o.NoPatch:
		if problem := d.patch(endpoint, r, body); problem != "" {
			d.refuse(w, http.StatusBadRequest, "invalidPath", problem)
			return
		}
	default:
		d.refuse(w, http.StatusNotImplemented, "", "This cannot be done here.")
		return
	}
	r.version++
	r.modified = time.Now().UTC()
	d.give(w, http.StatusOK, d.shown(endpoint, r, false))
}

// drop takes a member out of a group.
func (r *resource) drop(id string) {
	members, _ := r.values["members"].([]any)
	r.values["members"] = slices.DeleteFunc(members, func(m any) bool {
		of, _ := m.(map[string]any)
		return of["value"] == id
	})
}

var oneMember = pattern.Of(`^members\[value eq "([^"]*)"\]$`)

func (d *Directory) patch(endpoint string, r *resource, body []byte) string {
	var of struct {
		Operations []struct {
			Op, Path string
			Value    any
		}
	}
	if json.Unmarshal(body, &of) != nil {
		return "The body is no JSON."
	}
	for _, o := range of.Operations {
		op := strings.ToLower(o.Op)
		if m := oneMember.FindStringSubmatch(o.Path); m != nil && op == "remove" {
			r.drop(m[1])
			continue
		}
		switch {
		case o.Path == "members" && op == "add":
			added, _ := o.Value.([]any)
			for _, one := range added {
				id, _ := one.(map[string]any)["value"].(string)
				if id == "" {
					return "A member has no value."
				}
				r.drop(id)
				members, _ := r.values["members"].([]any)
				r.values["members"] = append(members, one)
			}
		case strings.ContainsAny(o.Path, "[.") || o.Path == "":
			return "The path is not understood."
		case op == "remove":
			delete(r.values, o.Path)
		default:
			next := map[string]any{uniqueIn[endpoint]: o.Value}
			if o.Path == uniqueIn[endpoint] && d.taken(endpoint, next, r) {
				return "It is taken."
			}
			r.values[o.Path] = o.Value
		}
	}
	return ""
}

func (d *Directory) bulk(w http.ResponseWriter, r *http.Request, body []byte) {
	var of struct {
		Operations []struct {
			Method, Path, BulkID, Version string
			Data                          json.RawMessage
		}
	}
	if json.Unmarshal(body, &of) != nil || len(of.Operations) > 50 {
		d.refuse(w, http.StatusRequestEntityTooLarge, "", "There are too many operations.")
		return
	}
	var all []any
	for _, o := range of.Operations {
		out := newRecorded()
		inner := &http.Request{Method: o.Method, URL: r.URL, Header: http.Header{}}
		if o.Version != "" {
			inner.Header.Set("If-Match", o.Version)
		}
		if !d.fail.inner(out, inner) {
			d.answer(out, o.Method, strings.Trim(o.Path, "/"), inner, o.Data)
		}
		one := map[string]any{"method": o.Method, "bulkId": o.BulkID, "status": strconv.Itoa(out.Code)}
		if json.Valid(out.Body.Bytes()) {
			one["response"] = json.RawMessage(out.Body.Bytes())
		}
		all = append(all, one)
	}
	d.give(w, http.StatusOK, map[string]any{"schemas": []string{"urn:ietf:params:scim:api:messages:2.0:BulkResponse"}, "Operations": all})
}
