package flow

import (
	"slices"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
	"anagram/internal/core/yamldoc"
	"anagram/internal/store/parcel"
)

// selection is an export's request, made ready: whole types and patterns of records.
type selection struct {
	types    []string // all record types that are touched, in dependency order
	whole    map[string]bool
	patterns []record.Pattern
}

func selectTypes(c *catalog.Catalog, s parcel.Selection) (selection, error) {
	out := selection{whole: map[string]bool{}}
	touched := map[string]bool{}
	add := func(name string) {
		out.whole[name], touched[name] = true, true
	}
	if len(s.Areas)+len(s.Types)+len(s.Records) == 0 {
		for _, name := range c.Names() {
			add(name)
		}
	}
	for _, name := range s.Areas {
		area, ok := c.Area(name)
		if !ok {
			var names []string
			for _, a := range c.Areas {
				names = append(names, a.Name)
			}
			return out, usage("The catalog has no area %q%s", name, yamldoc.Nearest(name, names))
		}
		for _, typ := range area.Types {
			add(typ)
		}
	}
	for _, name := range s.Types {
		if _, ok := c.Type(name); !ok {
			return out, unknownType(c, name)
		}
		add(name)
	}
	for _, text := range s.Records {
		p, err := record.ParsePattern(text)
		if err != nil {
			return out, usage("%v", err)
		}
		if name := p.Type(); name != "" {
			if _, ok := c.Type(name); !ok {
				return out, unknownType(c, name)
			}
		}
		out.patterns = append(out.patterns, p)
		for _, name := range c.Names() {
			if p.WholeType(name) {
				add(name)
			} else if p.Type() == "" || p.Type() == name {
				touched[name] = true
			}
		}
	}
	for _, name := range c.Names() {
		if touched[name] {
			out.types = append(out.types, name)
		}
	}
	return out, nil
}

func unknownType(c *catalog.Catalog, name string) error {
	return usage("The catalog has no record type %q%s", name, yamldoc.Nearest(name, c.Names()))
}

// covers reports whether a record is selected, and which pattern did it, -1 for none.
func (s selection) covers(typ, address string) (bool, int) {
	at := slices.IndexFunc(s.patterns, func(p record.Pattern) bool { return p.Match(address) })
	return at >= 0 || s.whole[typ], at
}
