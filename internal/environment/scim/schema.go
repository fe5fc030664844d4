package scim

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/environment/mirror"
	"anagram/internal/environment/web"
)

// directory is one SCIM service, and what was found out about it.
type directory struct {
	web      *web.Client
	name     string
	account  string
	readOnly bool
	page     int

	config  config
	places  map[string]*place
	narrows map[string]bool
}

// config is what the directory says that it can do (RFC 7643 section 5).
type config struct {
	Patch struct{ Supported bool }
	Bulk  struct {
		Supported     bool
		MaxOperations int
	}
	Filter struct {
		Supported  bool
		MaxResults int
	}
}

// attribute describes an attribute (RFC 7643 section 7).
type attribute struct {
	Name          string
	Type          string
	MultiValued   bool
	Required      bool
	CaseExact     bool
	Mutability    string
	Returned      string
	Uniqueness    string
	SubAttributes []attribute
}

// place is a resource type, or the members of one that are of another.
type place struct {
	name     string
	endpoint string
	schema   string // URN
	columns  []column
	from, to string // endpoints, of members
}

// column is an attribute, or an extension as a whole.
type column struct {
	attribute
	kind record.Kind
	urn  string // of an extension
}

// The columns that every resource has beside its attributes.
const (
	idColumn      = "id"
	changedColumn = "lastModified"
)

// Options say how a directory is opened.
type Options struct {
	Web      web.Options
	Account  string
	ReadOnly bool
	Page     int
}

const usualPage = 500

// Open opens a directory. The error is an *environment.Error.
func Open(ctx context.Context, o Options) (environment.Environment, error) {
	client, err := web.Open(o.Web)
	if err != nil {
		return nil, err
	}
	d := &directory{web: client, name: o.Web.Name, account: o.Account, readOnly: o.ReadOnly, page: o.Page, narrows: map[string]bool{}}
	if d.page <= 0 {
		d.page = usualPage
	}
	return mirror.Open(ctx, o.Web.Name, d)
}

// Close ends the connections.
func (d *directory) Close() error {
	d.web.Close()
	return nil
}

func (d *directory) fail(message, mend string) error {
	return &environment.Error{Environment: d.name, Message: message, Mend: mend}
}

func header() http.Header {
	return http.Header{"Accept": {"application/scim+json, application/json;q=0.5"}}
}

// get asks for something; gone is true where there is no such thing.
func (d *directory) get(ctx context.Context, url string, into any) (gone bool, err error) {
	a, err := d.web.Do(ctx, web.Request{Method: http.MethodGet, URL: url, Header: header(), Again: true})
	if err != nil {
		return false, err
	}
	if a.Status == http.StatusNotFound || a.Status == http.StatusNotImplemented {
		return true, nil
	}
	if err := d.told(a); err != nil {
		return false, err
	}
	if web.Shallow(a.Body) != nil || json.Unmarshal(a.Body, into) != nil {
		return false, d.fail(d.web.Base()+" answers with something that is no JSON of SCIM.",
			"Check that connect: is the root of a SCIM 2.0 service.")
	}
	return false, nil
}

func (d *directory) told(a *web.Answer) error {
	if a.Status >= 200 && a.Status < 300 {
		return nil
	}
	if err := d.web.Refusal(a); err != nil {
		return err
	}
	return d.fail(fmt.Sprintf("%s answers with %d%s.", d.web.Base(), a.Status, said(a.Body, nil)),
		"Check connect: of this environment in anagram.yaml, and ask who runs the directory.")
}

// said gives what the directory says of a refusal, without what was sent.
func said(body []byte, sent []string) string {
	var of struct {
		ScimType string `json:"scimType"`
		Detail   string `json:"detail"`
	}
	if len(body) > 1<<20 || web.Shallow(body) != nil || json.Unmarshal(body, &of) != nil {
		return ""
	}
	text := web.Clean(strings.TrimSpace(of.ScimType+" "+of.Detail), sent)
	if text == "" {
		return ""
	}
	return ": " + strings.TrimRight(text, ". ")
}

// list is a list of resources (RFC 7644 section 3.4.2).
type list struct {
	TotalResults *int              `json:"totalResults"`
	StartIndex   int               `json:"startIndex"`
	Resources    []json.RawMessage `json:"Resources"`
}

const mostTypes = 1000

// discover asks the directory what it is.
func (d *directory) discover(ctx context.Context) error {
	if d.places != nil {
		return nil
	}
	if _, err := d.get(ctx, "ServiceProviderConfig", &d.config); err != nil {
		return err
	}
	var types, schemas list
	for _, of := range []struct {
		url  string
		into *list
	}{{"ResourceTypes", &types}, {"Schemas", &schemas}} {
		gone, err := d.get(ctx, of.url, of.into)
		if err != nil {
			return err
		}
		if gone || len(of.into.Resources) == 0 || len(of.into.Resources) > mostTypes {
			return d.fail(d.web.Base()+" does not describe its resources as SCIM 2.0 has it.",
				"Check that connect: is the root of a SCIM 2.0 service.")
		}
	}
	known := map[string][]attribute{}
	for _, raw := range schemas.Resources {
		var s struct {
			ID         string
			Attributes []attribute
		}
		if json.Unmarshal(raw, &s) == nil {
			known[s.ID] = s.Attributes
		}
	}
	d.places = map[string]*place{}
	for _, raw := range types.Resources {
		var t struct {
			Endpoint         string
			Schema           string
			SchemaExtensions []struct{ Schema string }
		}
		if json.Unmarshal(raw, &t) != nil || strings.Trim(t.Endpoint, "/") == "" || known[t.Schema] == nil {
			continue
		}
		p := &place{endpoint: strings.Trim(t.Endpoint, "/"), schema: t.Schema}
		p.name = p.endpoint
		d.describeType(p, known[t.Schema])
		for _, extension := range t.SchemaExtensions {
			if known[extension.Schema] != nil {
				p.columns = append(p.columns, column{attribute: attribute{Name: shortName(extension.Schema), Type: "complex",
					SubAttributes: known[extension.Schema]}, kind: record.JSON, urn: extension.Schema})
			}
		}
		d.places[p.name] = p
	}
	d.linkUp()
	if len(d.places) == 0 {
		return d.fail(d.web.Base()+" describes no resources.", "Ask who runs the directory.")
	}
	return nil
}

// shortName gives an extension a name: its schema's last words.
func shortName(urn string) string {
	parts := strings.Split(urn, ":")
	if len(parts) < 4 {
		return urn
	}
	return strings.Join([]string{parts[len(parts)-3], parts[len(parts)-1]}, "_")
}

func (d *directory) describeType(p *place, attributes []attribute) {
	p.columns = append(p.columns, column{attribute: attribute{Name: idColumn, Type: "string", CaseExact: true,
		Mutability: "readOnly"}, kind: record.Text},
		column{attribute: attribute{Name: changedColumn, Type: "dateTime", Mutability: "readOnly"}, kind: record.Timestamp},
		column{attribute: attribute{Name: "externalId", Type: "string", CaseExact: true}, kind: record.Text})
	for _, a := range attributes {
		if a.Returned == "never" || a.Mutability == "writeOnly" || slices.Contains([]string{"id", "meta", "externalId", "schemas"},
			a.Name) || a.Name == "members" || slices.ContainsFunc(p.columns, func(c column) bool { return c.Name == a.Name }) {
			continue
		}
		c := column{attribute: a, kind: record.JSON}
		if !a.MultiValued {
			switch a.Type {
			case "string", "reference", "":
				c.kind = record.Text
			case "boolean":
				c.kind = record.Boolean
			case "decimal":
				c.kind = record.Decimal
			case "integer":
				c.kind = record.Integer
			case "dateTime":
				c.kind = record.Timestamp
			case "binary":
				c.kind = record.Bytes
			}
		}
		p.columns = append(p.columns, c)
	}
}

// linkUp makes places of who is in which group.
func (d *directory) linkUp() {
	group := d.places["Groups"]
	if group == nil {
		return
	}
	for _, to := range []string{"Users", "Groups"} {
		if d.places[to] == nil {
			continue
		}
		id := func(name string) column {
			return column{attribute: attribute{Name: name, Type: "string", CaseExact: true, Required: true}, kind: record.Text}
		}
		name := "Groups/" + strings.ToLower(to)
		d.places[name] = &place{name: name, endpoint: "Groups", schema: group.schema, from: "Groups", to: to,
			columns: []column{id("group"), id("member")}}
	}
}

// Describe gives the resource types.
func (d *directory) Describe(ctx context.Context) (environment.Description, error) {
	if err := d.discover(ctx); err != nil {
		return environment.Description{}, err
	}
	about := environment.Description{Product: "SCIM 2.0 directory", Account: d.account, Address: d.web.Base(), Rights: mirror.Rights,
		Places: map[string]catalog.Place{}}
	if d.readOnly {
		about.Rights = "read"
	}
	for name, p := range d.places {
		about.Places[name] = p.described()
	}
	return about, nil
}

func (p *place) described() catalog.Place {
	out := catalog.Place{Name: p.name, NoRollback: true, Directory: true, Primary: []string{idColumn}}
	if p.to != "" {
		out.Primary = []string{"group", "member"}
	}
	for _, c := range p.columns {
		of := catalog.Column{Name: c.Name, Kind: c.kind, Declared: c.Type, Required: c.Required, Derived: c.Mutability == "readOnly",
			Once: c.Mutability == "immutable", Loose: c.kind == record.Text && !c.CaseExact}
		switch {
		case p.to != "" && c.Name == "group":
			of.RefersTo = p.from
		case p.to != "" && c.Name == "member":
			of.RefersTo = p.to
		case p.to == "" && c.Name == idColumn:
			of.Given, of.InnerID, of.Required = true, true, true
		}
		if c.MultiValued {
			of.Declared = "several values"
		}
		if c.Uniqueness == "server" || c.Uniqueness == "global" {
			out.Unique = append(out.Unique, []string{c.Name})
		}
		out.Columns = append(out.Columns, of)
	}
	return out
}

func (d *directory) find(name string) (*place, error) {
	if p, ok := d.places[name]; ok {
		return p, nil
	}
	return nil, d.fail(fmt.Sprintf("the directory has no resources %q.", name), "Correct at: of the record type in the catalog.")
}

func (p *place) column(name string) (column, bool) {
	at := slices.IndexFunc(p.columns, func(c column) bool { return c.Name == name })
	if at < 0 {
		return column{}, false
	}
	return p.columns[at], true
}

var _ mirror.Service = (*directory)(nil)
