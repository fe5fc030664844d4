package odata

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/environment/mirror"
)

// column is one column of a place, and what stands behind it.
type column struct {
	property
	kind   record.Kind
	nav    string // navigation that is read and written in place of a property
	target string // set that nav leads to
	stream bool   // its content is a stream of its own
	media  bool   // it is the content of the entity itself
}

// place is one set of the service, or the links of a navigation between many and many.
type place struct {
	name    string
	set     *entitySet
	key     []column // of the set
	columns []column
	link    *linked
}

// linked is what a place of links connects: FROM_key... and TO_key... are its columns.
type linked struct {
	nav string
	to  *place
}

// mediaColumn is what the content of a media entity is called.
const mediaColumn = "media"

// metadata asks the service what it is.
func (s *service) metadata(ctx context.Context) error {
	if s.schema != nil {
		return nil
	}
	answer, err := s.get(ctx, "$metadata", "application/xml, application/json;q=0.5")
	if err != nil {
		return err
	}
	text := answer.Body
	var read *schema
	if strings.Contains(answer.Header.Get("Content-Type"), "json") {
		read, err = readJSON(text)
	} else {
		read, err = readXML(text)
	}
	if err != nil {
		return s.fail(fmt.Sprintf("%s is not described as an OData service: %v.", s.web.Base(), err),
			"Check that connect: is the root of an OData v4 service.")
	}
	s.schema, s.version = read, answer.Header.Get("OData-Version")
	if strings.HasPrefix(s.version, "1.") || strings.HasPrefix(s.version, "2.") || strings.HasPrefix(s.version, "3.") ||
		strings.HasPrefix(answer.Header.Get("DataServiceVersion"), "1.") ||
		strings.HasPrefix(answer.Header.Get("DataServiceVersion"), "2.") {
		return s.fail(s.web.Base()+" speaks an older OData than v4.", "Ask who runs the service for its address of OData v4.")
	}
	return s.makePlaces()
}

func (s *service) makePlaces() error {
	s.places = map[string]*place{}
	for _, name := range slices.Sorted(maps.Keys(s.schema.sets)) {
		set := s.schema.sets[name]
		t, err := s.schema.flat(set.typ)
		if err != nil {
			return s.fail(s.web.Base()+": "+err.Error()+".", "Ask who runs the service.")
		}
		if len(t.key) == 0 || set.cannot["read"] {
			continue // there is no telling its entities
		}
		p := &place{name: name, set: set}
		set.optimistic = set.optimistic || t.tagged
		for _, of := range t.properties {
			c := s.column(of)
			if slices.Contains(t.key, of.name) {
				c.nullable = false
				p.key = append(p.key, c)
			}
			p.columns = append(p.columns, c)
		}
		if len(p.key) != len(t.key) {
			continue // its key is within other properties
		}
		slices.SortFunc(p.key, func(a, b column) int { return slices.Index(t.key, a.name) - slices.Index(t.key, b.name) })
		if t.media {
			p.columns = append(p.columns, column{property: property{name: mediaColumn, typ: "Edm.Stream", nullable: true},
				kind: record.Bytes, stream: true, media: true})
		}
		s.places[name] = p
	}
	for _, name := range slices.Sorted(maps.Keys(s.schema.sets)) {
		if p := s.places[name]; p != nil {
			if err := s.navigate(p); err != nil {
				return err
			}
		}
	}
	return nil
}

// navigate adds what can only be read and written by navigating: references without a property
// of their own, and links between many and many.
func (s *service) navigate(p *place) error {
	t, err := s.schema.flat(p.set.typ)
	if err != nil {
		return err
	}
	for _, n := range t.navigations {
		to := s.places[s.schema.setOf(p.set, n)]
		switch {
		case to == nil || n.contains || len(to.key) == 0 || to.link != nil:
		case !n.collection && len(n.constraint) == 0 && len(to.key) == 1:
			c := to.key[0]
			c.name, c.nullable, c.nav, c.target = n.name, n.nullable, n.name, to.name
			c.computed, c.hasDefault = false, false
			p.columns = append(p.columns, c)
		case n.collection && s.many(n, to):
			links := &place{name: p.name + "/" + n.name, set: p.set, key: p.key, link: &linked{nav: n.name, to: to}}
			for _, side := range []struct {
				prefix string
				key    []column
			}{{"from_", p.key}, {"to_", to.key}} {
				for _, c := range side.key {
					c.name, c.computed, c.hasDefault, c.nullable = side.prefix+c.name, false, false, false
					links.columns = append(links.columns, c)
				}
			}
			s.places[links.name] = links
		}
	}
	return nil
}

// many reports whether a navigation to many is one between many and many: its partner leads to
// many as well, or there is none and nothing in the other type points back.
func (s *service) many(n navigation, to *place) bool {
	t, err := s.schema.flat(to.set.typ)
	if err != nil || n.partner == "" {
		return false
	}
	for _, back := range t.navigations {
		if back.name == n.partner {
			return back.collection && n.name <= back.name // one of the two is enough
		}
	}
	return false
}

// column tells what a property is stored as.
func (s *service) column(of property) column {
	typ := s.schema.full(of.typ)
	if def, ok := s.schema.based[typ]; ok {
		of.typ = def.typ
		of.length, of.precision = max(of.length, def.length), max(of.precision, def.precision)
		if def.scaled && !of.scaled {
			of.scale, of.scaled = def.scale, true
		}
		typ = s.schema.full(of.typ)
	}
	c := column{property: of, kind: record.JSON}
	if of.collection {
		return c
	}
	switch typ {
	case "Edm.String", "Edm.Guid", "Edm.Duration":
		c.kind = record.Text
	case "Edm.Byte", "Edm.SByte", "Edm.Int16", "Edm.Int32", "Edm.Int64":
		c.kind = record.Integer
	case "Edm.Decimal", "Edm.Double", "Edm.Single":
		c.kind = record.Decimal
	case "Edm.Boolean":
		c.kind = record.Boolean
	case "Edm.Date":
		c.kind = record.Date
	case "Edm.TimeOfDay":
		c.kind = record.Time
	case "Edm.DateTimeOffset":
		c.kind = record.Timestamp
	case "Edm.Binary":
		c.kind = record.Bytes
	case "Edm.Stream":
		c.kind, c.stream = record.Bytes, true
	default:
		if _, ok := s.schema.enums[typ]; ok {
			c.kind = record.Text
		}
	}
	return c
}

var ranges = map[string][2]string{
	"Edm.Byte": {"0", "255"}, "Edm.SByte": {"-128", "127"}, "Edm.Int16": {"-32768", "32767"},
	"Edm.Int32": {"-2147483648", "2147483647"}, "Edm.Int64": {"-9223372036854775808", "9223372036854775807"},
}

func (s *service) limits(c column) catalog.Limits {
	out := catalog.Limits{}
	typ := s.schema.full(c.typ)
	switch {
	case c.kind == record.Text && typ == "Edm.String":
		out.Characters = c.length
	case c.kind == record.Integer:
		out.Least, out.Most = ranges[typ][0], ranges[typ][1]
	case typ == "Edm.Decimal" && c.precision > 0:
		out.Digits = c.precision
		if c.scaled {
			out.Scale = c.scale
		}
	}
	if e, ok := s.schema.enums[typ]; ok && !c.collection {
		if e.flags {
			out.AnyOf = e.members
		} else {
			out.OneOf = e.members
		}
	}
	return out
}

// Describe gives the sets of the service.
func (s *service) Describe(ctx context.Context) (environment.Description, error) {
	if err := s.metadata(ctx); err != nil {
		return environment.Description{}, err
	}
	about := environment.Description{Product: "OData service", Account: s.account, Address: s.web.Base(), Rights: mirror.Rights,
		Places: map[string]catalog.Place{}}
	if s.version != "" {
		about.Product += ", version " + s.version
	}
	if s.readOnly {
		about.Rights = "read"
	}
	for name, p := range s.places {
		about.Places[name] = s.described(p)
	}
	return about, nil
}

func (s *service) described(p *place) catalog.Place {
	out := catalog.Place{Name: p.name, NoRollback: true, CannotInsert: p.set.cannot["insert"], CannotUpdate: p.set.cannot["update"],
		CannotDelete: p.set.cannot["delete"]}
	for _, c := range p.columns {
		of := catalog.Column{Name: c.name, Kind: c.kind, Declared: strings.TrimPrefix(c.typ, "Edm."), Required: !c.nullable &&
			!c.hasDefault && !c.computed, Default: c.hasDefault,
			Derived: c.computed || c.readOnly, Once: c.immutable, Given: c.computed && len(p.key) == 1 && c.name == p.key[0].name,
			InnerID: len(p.key) == 1 && c.name == p.key[0].name && p.link == nil, Limits: s.limits(c), NoEquality: c.stream}
		of.RefersTo = c.target
		out.Columns = append(out.Columns, of)
	}
	if p.link != nil {
		for i := range p.columns {
			out.Primary = append(out.Primary, out.Columns[i].Name)
		}
		if len(p.key) == 1 {
			out.Columns[0].RefersTo = p.set.name
		}
		if len(p.link.to.key) == 1 {
			out.Columns[len(p.key)].RefersTo = p.link.to.name
		}
		return out
	}
	for _, c := range p.key {
		out.Primary = append(out.Primary, c.name)
	}
	s.constraints(p, &out)
	return out
}

// constraints adds references and alternate keys.
func (s *service) constraints(p *place, out *catalog.Place) {
	t, err := s.schema.flat(p.set.typ)
	if err != nil {
		return
	}
	for _, n := range t.navigations {
		to := s.places[s.schema.setOf(p.set, n)]
		if n.collection || to == nil {
			continue
		}
		if len(n.constraint) == 1 {
			at := slices.IndexFunc(out.Columns, func(c catalog.Column) bool { return c.Name == n.constraint[0][0] })
			if at >= 0 {
				out.Columns[at].RefersTo, out.Columns[at].RefersColumn = to.name, n.constraint[0][1]
			}
		} else if len(n.constraint) > 1 {
			key := catalog.ForeignKey{To: to.name}
			for _, pair := range n.constraint {
				key.Pairs = append(key.Pairs, catalog.Pair{Here: pair[0], There: pair[1]})
			}
			out.Foreign = append(out.Foreign, key)
		}
	}
	for _, key := range t.alternate {
		if !slices.ContainsFunc(key, func(name string) bool { _, ok := out.Column(name); return !ok }) {
			out.Unique = append(out.Unique, key)
		}
	}
}

// find gives a place and its columns by name.
func (s *service) find(name string) (*place, error) {
	if p, ok := s.places[name]; ok {
		return p, nil
	}
	return nil, s.fail(fmt.Sprintf("the service has no set %q.", name), "Correct at: of the record type in the catalog.")
}

func (p *place) column(name string) (column, bool) {
	at := slices.IndexFunc(p.columns, func(c column) bool { return c.name == name })
	if at < 0 {
		return column{}, false
	}
	return p.columns[at], true
}

var _ mirror.Service = (*service)(nil)
