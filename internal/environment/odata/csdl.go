package odata

import (
	"fmt"
	"slices"
	"strings"
)

// schema is what the metadata of a service says, as far as it is used.
type schema struct {
	types     map[string]*structured // by qualified name
	enums     map[string]*enum
	based     map[string]property // type definitions
	sets      map[string]*entitySet
	aliases   map[string]string // of namespaces
	batch     *bool             // whether it says that it takes batches
	container string
}

// structured is an entity type or a complex type.
type structured struct {
	name, base  string
	key         []string
	properties  []property
	navigations []navigation
	media       bool       // its entities are media themselves
	alternate   [][]string // keys beside the key
	tagged      bool
}

type property struct {
	name, typ        string
	collection       bool
	nullable         bool
	length           int // 0 says nothing, as in the others
	precision, scale int
	scaled           bool // scale is said
	computed         bool
	immutable        bool
	hasDefault       bool
	readOnly         bool
}

type navigation struct {
	name, to   string
	collection bool
	nullable   bool
	contains   bool
	constraint [][2]string // property here, property there
	partner    string
}

type enum struct {
	members []string
	flags   bool
}

// entitySet is a set of entities; its restrictions are those that the metadata states.
type entitySet struct {
	name, typ   string
	bindings    map[string]string // navigation -> set
	cannot      map[string]bool   // insert, update, delete, filter, read
	notFiltered []string
	optimistic  bool
}

// mostTypes bounds what metadata may describe.
const mostTypes = 20_000

// full gives a name with its namespace where it stands with an alias.
func (s *schema) full(name string) string {
	if at := strings.LastIndex(name, "."); at > 0 {
		if namespace, ok := s.aliases[name[:at]]; ok {
			return namespace + name[at:]
		}
	}
	return name
}

// flat gives a type with all that it inherits.
func (s *schema) flat(name string) (*structured, error) {
	out := &structured{name: s.full(name)}
	var line []*structured
	for at := s.full(name); at != ""; {
		t, ok := s.types[at]
		if !ok {
			return nil, fmt.Errorf("its metadata does not describe the type %s", at)
		}
		if len(line) > 50 || slices.Contains(line, t) {
			return nil, fmt.Errorf("the type %s is its own base", at)
		}
		line = append(line, t)
		at = s.full(t.base)
	}
	slices.Reverse(line)
	for _, t := range line {
		out.properties = append(out.properties, t.properties...)
		out.navigations = append(out.navigations, t.navigations...)
		out.alternate = append(out.alternate, t.alternate...)
		out.media, out.tagged = out.media || t.media, out.tagged || t.tagged
		if len(t.key) > 0 {
			out.key = t.key
		}
	}
	return out, nil
}

// setOf gives the set to which a navigation of another one leads, "" where that is not said.
func (s *schema) setOf(from *entitySet, n navigation) string {
	if to := from.bindings[n.name]; to != "" {
		if at := strings.LastIndex(to, "/"); at >= 0 {
			to = to[at+1:]
		}
		if s.sets[to] != nil {
			return to
		}
	}
	only := ""
	for name, set := range s.sets {
		if s.full(set.typ) == s.full(n.to) {
			if only != "" {
				return ""
			}
			only = name
		}
	}
	return only
}

// annotate takes an annotation of a set, a type or a property that says something of use.
// The value is "true", "false", a text, or the names of a record's members that are false.
func (s *schema) annotate(target, term string, value note) {
	target = s.full(strings.TrimSpace(target))
	term = term[strings.LastIndex(term, ".")+1:]
	if set := s.setNamed(target); set != nil {
		set.restrict(term, value)
		return
	}
	typ, prop, _ := strings.Cut(target, "/")
	t, ok := s.types[s.full(typ)]
	if !ok {
		if term == "BatchSupported" {
			s.batch = &value.yes
		}
		if term == "BatchSupport" {
			yes := !slices.Contains(value.no, "Supported")
			s.batch = &yes
		}
		return
	}
	if prop == "" {
		switch term {
		case "AlternateKeys":
			t.alternate = append(t.alternate, value.keys...)
		case "OptimisticConcurrency":
			t.tagged = true
		}
		return
	}
	for i := range t.properties {
		if t.properties[i].name == prop {
			t.properties[i].annotate(term, value)
		}
	}
}

func (s *schema) setNamed(target string) *entitySet {
	at := strings.LastIndex(target, "/")
	if at < 0 || s.full(target[:at]) != s.container {
		return nil
	}
	return s.sets[target[at+1:]]
}

// note is the value of an annotation.
type note struct {
	yes   bool
	text  string
	no    []string   // members of a record that are false
	paths []string   // properties that a record names
	keys  [][]string // alternate keys
}

func (p *property) annotate(term string, value note) {
	switch term {
	case "Computed":
		p.computed = value.yes
	case "ComputedDefaultValue":
		p.hasDefault = value.yes
	case "Immutable":
		p.immutable = value.yes
	case "Permissions":
		p.readOnly = strings.HasSuffix(value.text, "/Read") || value.text == "Read"
	}
}

func (e *entitySet) restrict(term string, value note) {
	for restriction, what := range map[string][2]string{
		"InsertRestrictions": {"insert", "Insertable"}, "UpdateRestrictions": {"update", "Updatable"},
		"DeleteRestrictions": {"delete", "Deletable"},
		"FilterRestrictions": {"filter", "Filterable"}, "ReadRestrictions": {"read", "Readable"},
	} {
		if term == restriction {
			e.cannot[what[0]] = slices.Contains(value.no, what[1])
		}
	}
	switch term {
	case "FilterRestrictions":
		e.notFiltered = value.paths
	case "OptimisticConcurrency":
		e.optimistic = true
	}
}
