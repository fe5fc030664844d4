package odata

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"anagram/internal/environment/web"
)

// Metadata in JSON (CSDL JSON representation 4.01).

type object = map[string]any

func readJSON(text []byte) (*schema, error) {
	if err := web.Shallow(text); err != nil {
		return nil, errors.New("its metadata is nested too deep")
	}
	var doc object
	if json.Unmarshal(text, &doc) != nil {
		return nil, errors.New("its metadata is not JSON that can be read")
	}
	s := newSchema()
	for _, namespace := range slices.Sorted(maps.Keys(doc)) {
		of, ok := doc[namespace].(object)
		if !ok || strings.HasPrefix(namespace, "$") || strings.HasPrefix(namespace, "@") {
			continue
		}
		if alias := textOf(of["$Alias"]); alias != "" {
			s.aliases[alias] = namespace
		}
	}
	s.container = textOf(doc["$EntityContainer"])
	for _, annotating := range []bool{false, true} {
		for _, namespace := range slices.Sorted(maps.Keys(doc)) {
			if of, ok := doc[namespace].(object); ok && !strings.HasPrefix(namespace, "$") && !strings.HasPrefix(namespace, "@") {
				s.takeJSON(namespace, of, annotating)
			}
		}
	}
	return s, s.whole()
}

func textOf(v any) string {
	switch v := v.(type) {
	case string:
		return v
	case float64:
		return fmt.Sprintf("%.0f", v)
	}
	return ""
}

func (s *schema) takeJSON(namespace string, of object, annotating bool) {
	for name, v := range of {
		element, ok := v.(object)
		if !ok {
			continue
		}
		full := namespace + "." + name
		kind := textOf(element["$Kind"])
		switch {
		case annotating && name == "$Annotations":
			for target, notes := range element {
				if notes, ok := notes.(object); ok {
					s.annotateJSON(target, "", notes)
				}
			}
		case annotating:
			s.annotateElement(full, kind, element)
		case kind == "EntityType" || kind == "ComplexType":
			s.types[full] = structuredJSON(full, element)
		case kind == "EnumType":
			out := &enum{flags: element["$IsFlags"] == true}
			for member := range element {
				if !strings.HasPrefix(member, "$") && !strings.Contains(member, "@") {
					out.members = append(out.members, member)
				}
			}
			slices.Sort(out.members)
			s.enums[full] = out
		case kind == "TypeDefinition":
			p := propertyJSON("", element)
			p.typ = textOf(element["$UnderlyingType"])
			s.based[full] = p
		case kind == "EntityContainer":
			s.containerJSON(full, element)
		}
	}
}

func (s *schema) containerJSON(full string, element object) {
	if s.container == "" {
		s.container = full
	}
	for name, v := range element {
		set, ok := v.(object)
		if !ok || set["$Collection"] != true || set["$Type"] == nil {
			continue
		}
		out := &entitySet{name: name, typ: textOf(set["$Type"]), bindings: map[string]string{}, cannot: map[string]bool{}}
		if bindings, ok := set["$NavigationPropertyBinding"].(object); ok {
			for path, target := range bindings {
				out.bindings[path] = textOf(target)
			}
		}
		s.sets[name] = out
	}
}

func structuredJSON(full string, element object) *structured {
	out := &structured{name: full, base: textOf(element["$BaseType"]), media: element["$HasStream"] == true}
	if key, ok := element["$Key"].([]any); ok {
		for _, k := range key {
			out.key = append(out.key, textOf(k))
		}
	}
	for _, name := range slices.Sorted(maps.Keys(element)) {
		of, ok := element[name].(object)
		if !ok || strings.HasPrefix(name, "$") || strings.Contains(name, "@") {
			continue
		}
		if textOf(of["$Kind"]) != "NavigationProperty" {
			out.properties = append(out.properties, propertyJSON(name, of))
			continue
		}
		n := navigation{name: name, to: textOf(of["$Type"]), collection: of["$Collection"] == true, nullable: of["$Nullable"] == true,
			contains: of["$ContainsTarget"] == true, partner: textOf(of["$Partner"])}
		if pairs, ok := of["$ReferentialConstraint"].(object); ok {
			for _, here := range slices.Sorted(maps.Keys(pairs)) {
				if !strings.Contains(here, "@") {
					n.constraint = append(n.constraint, [2]string{here, textOf(pairs[here])})
				}
			}
		}
		out.navigations = append(out.navigations, n)
	}
	return out
}

func propertyJSON(name string, of object) property {
	out := property{name: name, typ: textOf(of["$Type"]), collection: of["$Collection"] == true, nullable: of["$Nullable"] == true,
		length: number(textOf(of["$MaxLength"])), precision: number(textOf(of["$Precision"])), scale: number(textOf(of["$Scale"]))}
	_, out.scaled = of["$Scale"].(float64)
	_, out.hasDefault = of["$DefaultValue"]
	if out.typ == "" {
		out.typ = "Edm.String"
	}
	return out
}

// annotateElement takes the annotations that stand within an element.
func (s *schema) annotateElement(full, kind string, element object) {
	s.annotateJSON(full, "", element)
	for name, v := range element {
		of, ok := v.(object)
		if !ok || strings.HasPrefix(name, "$") || strings.Contains(name, "@") {
			continue
		}
		if kind == "EntityContainer" || kind == "EntityType" || kind == "ComplexType" {
			s.annotateJSON(full, name, of)
		}
	}
}

func (s *schema) annotateJSON(target, member string, of object) {
	if member != "" {
		target += "/" + member
	}
	for name, v := range of {
		term, ok := strings.CutPrefix(name, "@")
		if !ok || strings.Contains(term, "@") {
			continue
		}
		s.annotate(target, term, noteJSON(v))
	}
}

func noteJSON(v any) note {
	out := note{yes: v != false, text: textOf(v)}
	switch v := v.(type) {
	case object:
		for name, value := range v {
			if value == false {
				out.no = append(out.no, name)
			}
			if paths, ok := value.([]any); ok && name == "NonFilterableProperties" {
				for _, path := range paths {
					out.paths = append(out.paths, textOf(path))
				}
			}
		}
	case []any:
		for _, one := range v {
			of, ok := one.(object)
			if !ok {
				continue
			}
			var key []string
			parts, _ := of["Key"].([]any)
			for _, part := range parts {
				if part, ok := part.(object); ok && textOf(part["Name"]) != "" {
					key = append(key, textOf(part["Name"]))
				}
			}
			if len(key) > 0 {
				out.keys = append(out.keys, key)
			}
		}
	}
	return out
}
