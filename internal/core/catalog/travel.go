package catalog

import (
	"fmt"

	"github.com/goccy/go-yaml"
)

// Travelling gives the catalog as it goes with what is read of an environment: without the
// local values of all others, which are nobody else's business. Where there are none it is
// the file as it stands.
func (c *Catalog) Travelling(environment string) ([]byte, error) {
	others := false
	for _, t := range c.Types {
		for _, values := range t.Local {
			for name := range values {
				others = others || name != environment
			}
		}
	}
	if !others {
		return c.Source, nil
	}
	var whole yaml.MapSlice
	if err := yaml.UnmarshalWithOptions(c.Source, &whole, yaml.UseOrderedMap()); err != nil {
		return nil, err
	}
	each(whole, "types", func(typ any) {
		each(typ, "local", func(field any) {
			values, _ := field.(yaml.MapSlice)
			for i := range values {
				if fmt.Sprint(values[i].Key) != environment {
					values[i].Value = nil
				}
			}
		})
	})
	text, err := yaml.Marshal(dropped(whole))
	if err != nil {
		return nil, err
	}
	// It has to say the same of everything else.
	again, err := Parse("catalog.yaml", text)
	if err != nil {
		return nil, fmt.Errorf("the catalog cannot be brought along without the local values of other environments: %w", err)
	}
	for _, t := range c.Types {
		is, ok := again.Type(t.Name)
		if !ok || len(again.Types) != len(c.Types) {
			return nil,
				fmt.Errorf("the catalog cannot be brought along without the local values of other environments: %s would be lost", t.Name)
		}
		was := *t
		was.Local, is.Local = nil, nil
		if !is.SameAs(&was) {
			return nil,
				fmt.Errorf("the catalog cannot be brought along without the local values of other environments: %s would be described otherwise", t.Name)
		}
	}
	return text, nil
}

// each gives the values below a key of a map, or those one level further down for types.
func each(node any, key string, give func(any)) {
	m, _ := node.(yaml.MapSlice)
	for _, item := range m {
		if fmt.Sprint(item.Key) != key {
			continue
		}
		below, _ := item.Value.(yaml.MapSlice)
		for _, one := range below {
			give(one.Value)
		}
	}
}

// dropped leaves out what was emptied below local:.
func dropped(whole yaml.MapSlice) yaml.MapSlice {
	each(whole, "types", func(typ any) {
		m, _ := typ.(yaml.MapSlice)
		for i := range m {
			if fmt.Sprint(m[i].Key) != "local" {
				continue
			}
			fields, _ := m[i].Value.(yaml.MapSlice)
			for n := range fields {
				kept := yaml.MapSlice{}
				values, _ := fields[n].Value.(yaml.MapSlice)
				for _, value := range values {
					if value.Value != nil {
						kept = append(kept, value)
					}
				}
				fields[n].Value = kept
			}
		}
	})
	return whole
}
