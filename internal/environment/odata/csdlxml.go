package odata

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
)

// Metadata in XML (CSDL XML representation 4.01).

type xmlAnnotation struct {
	Term       string         `xml:"Term,attr"`
	Bool       string         `xml:"Bool,attr"`
	String     string         `xml:"String,attr"`
	EnumMember string         `xml:"EnumMember,attr"`
	InnerBool  string         `xml:"Bool"`
	InnerEnum  string         `xml:"EnumMember"`
	Records    []xmlRecord    `xml:"Record"`
	Collection *xmlCollection `xml:"Collection"`
}

type xmlCollection struct {
	Records []xmlRecord `xml:"Record"`
	Paths   []string    `xml:"PropertyPath"`
}

type xmlRecord struct {
	Values []xmlValue `xml:"PropertyValue"`
}

type xmlValue struct {
	Property     string         `xml:"Property,attr"`
	Bool         string         `xml:"Bool,attr"`
	InnerBool    string         `xml:"Bool"`
	PropertyPath string         `xml:"PropertyPath,attr"`
	InnerPath    string         `xml:"PropertyPath"`
	Collection   *xmlCollection `xml:"Collection"`
}

type xmlProperty struct {
	Name        string          `xml:"Name,attr"`
	Type        string          `xml:"Type,attr"`
	Nullable    string          `xml:"Nullable,attr"`
	MaxLength   string          `xml:"MaxLength,attr"`
	Precision   string          `xml:"Precision,attr"`
	Scale       string          `xml:"Scale,attr"`
	Default     *string         `xml:"DefaultValue,attr"`
	Partner     string          `xml:"Partner,attr"`
	Contains    string          `xml:"ContainsTarget,attr"`
	Annotations []xmlAnnotation `xml:"Annotation"`
	Constraints []struct {
		Property   string `xml:"Property,attr"`
		Referenced string `xml:"ReferencedProperty,attr"`
	} `xml:"ReferentialConstraint"`
}

type xmlType struct {
	Name string `xml:"Name,attr"`
	Base string `xml:"BaseType,attr"`
	Has  string `xml:"HasStream,attr"`
	Key  []struct {
		Name string `xml:"Name,attr"`
	} `xml:"Key>PropertyRef"`
	Properties  []xmlProperty   `xml:"Property"`
	Navigations []xmlProperty   `xml:"NavigationProperty"`
	Annotations []xmlAnnotation `xml:"Annotation"`
}

type xmlSchema struct {
	Namespace string    `xml:"Namespace,attr"`
	Alias     string    `xml:"Alias,attr"`
	Entities  []xmlType `xml:"EntityType"`
	Complex   []xmlType `xml:"ComplexType"`
	Enums     []struct {
		Name    string `xml:"Name,attr"`
		Flags   string `xml:"IsFlags,attr"`
		Members []struct {
			Name string `xml:"Name,attr"`
		} `xml:"Member"`
	} `xml:"EnumType"`
	Definitions []struct {
		Name       string `xml:"Name,attr"`
		Underlying string `xml:"UnderlyingType,attr"`
		MaxLength  string `xml:"MaxLength,attr"`
		Precision  string `xml:"Precision,attr"`
		Scale      string `xml:"Scale,attr"`
	} `xml:"TypeDefinition"`
	Containers []struct {
		Name string `xml:"Name,attr"`
		Sets []struct {
			Name     string `xml:"Name,attr"`
			Type     string `xml:"EntityType,attr"`
			Bindings []struct {
				Path   string `xml:"Path,attr"`
				Target string `xml:"Target,attr"`
			} `xml:"NavigationPropertyBinding"`
			Annotations []xmlAnnotation `xml:"Annotation"`
		} `xml:"EntitySet"`
		Annotations []xmlAnnotation `xml:"Annotation"`
	} `xml:"EntityContainer"`
	Annotations []struct {
		Target      string          `xml:"Target,attr"`
		Annotations []xmlAnnotation `xml:"Annotation"`
	} `xml:"Annotations"`
}

// mostDepth is how deep elements may stand within each other.
const mostDepth = 64

// bounded refuses metadata that declares entities of its own, or is too deep, before any of it
// is taken up.
func bounded(text []byte) error {
	d := xml.NewDecoder(bytes.NewReader(text))
	d.Strict = true
	for depth := 0; ; {
		token, err := d.RawToken()
		switch {
		case errors.Is(err, io.EOF):
			return nil
		case err != nil:
			return fmt.Errorf("its metadata is not XML that can be read")
		}
		switch token.(type) {
		case xml.Directive:
			return errors.New("its metadata declares a document type, which no such service needs")
		case xml.StartElement:
			if depth++; depth > mostDepth {
				return errors.New("its metadata is nested too deep")
			}
		case xml.EndElement:
			depth--
		}
	}
}

func readXML(text []byte) (*schema, error) {
	if err := bounded(text); err != nil {
		return nil, err
	}
	var doc struct {
		Schemas []xmlSchema `xml:"DataServices>Schema"`
	}
	if err := xml.Unmarshal(text, &doc); err != nil {
		return nil, errors.New("its metadata is not what OData describes")
	}
	s := newSchema()
	for _, of := range doc.Schemas {
		if of.Alias != "" {
			s.aliases[of.Alias] = of.Namespace
		}
	}
	for _, of := range doc.Schemas {
		s.takeXML(of)
	}
	for _, of := range doc.Schemas {
		s.annotateXML(of)
	}
	return s, s.whole()
}

func newSchema() *schema {
	return &schema{types: map[string]*structured{}, enums: map[string]*enum{}, based: map[string]property{},
		sets: map[string]*entitySet{}, aliases: map[string]string{}}
}

// whole refuses what has no sets, or too much.
func (s *schema) whole() error {
	switch {
	case len(s.sets) == 0:
		return errors.New("its metadata describes no sets of entities")
	case len(s.types)+len(s.sets)+len(s.enums) > mostTypes:
		return fmt.Errorf("its metadata describes more than %d types and sets", mostTypes)
	}
	return nil
}

func (s *schema) takeXML(of xmlSchema) {
	for _, t := range slices.Concat(of.Entities, of.Complex) {
		out := &structured{name: of.Namespace + "." + t.Name, base: t.Base, media: t.Has == "true"}
		for _, k := range t.Key {
			out.key = append(out.key, k.Name)
		}
		for _, p := range t.Properties {
			out.properties = append(out.properties, p.property())
		}
		for _, n := range t.Navigations {
			out.navigations = append(out.navigations, n.navigation())
		}
		s.types[out.name] = out
	}
	for _, e := range of.Enums {
		out := &enum{flags: e.Flags == "true"}
		for _, m := range e.Members {
			out.members = append(out.members, m.Name)
		}
		s.enums[of.Namespace+"."+e.Name] = out
	}
	for _, d := range of.Definitions {
		p := xmlProperty{Type: d.Underlying, MaxLength: d.MaxLength, Precision: d.Precision, Scale: d.Scale}
		s.based[of.Namespace+"."+d.Name] = p.property()
	}
	for _, c := range of.Containers {
		s.container = of.Namespace + "." + c.Name
		for _, set := range c.Sets {
			out := &entitySet{name: set.Name, typ: set.Type, bindings: map[string]string{}, cannot: map[string]bool{}}
			for _, b := range set.Bindings {
				out.bindings[b.Path] = b.Target
			}
			s.sets[set.Name] = out
		}
	}
}

func (s *schema) annotateXML(of xmlSchema) {
	each := func(target string, notes []xmlAnnotation) {
		for _, n := range notes {
			s.annotate(target, n.Term, n.note())
		}
	}
	for _, t := range of.Entities {
		each(of.Namespace+"."+t.Name, t.Annotations)
		for _, p := range t.Properties {
			each(of.Namespace+"."+t.Name+"/"+p.Name, p.Annotations)
		}
	}
	for _, c := range of.Containers {
		each(of.Namespace+"."+c.Name, c.Annotations)
		for _, set := range c.Sets {
			each(of.Namespace+"."+c.Name+"/"+set.Name, set.Annotations)
		}
	}
	for _, a := range of.Annotations {
		each(a.Target, a.Annotations)
	}
}

func number(text string) int {
	n, err := strconv.Atoi(text)
	if err != nil || n < 0 || n > 1<<30 {
		return 0
	}
	return n
}

// collected takes Collection( ) from around a type.
func collected(typ string) (string, bool) {
	if inner, ok := strings.CutPrefix(typ, "Collection("); ok {
		return strings.TrimSuffix(inner, ")"), true
	}
	return typ, false
}

func (p xmlProperty) property() property {
	out := property{name: p.Name, nullable: p.Nullable != "false", length: number(p.MaxLength), precision: number(p.Precision),
		scale: number(p.Scale), hasDefault: p.Default != nil}
	out.scaled = p.Scale == strconv.Itoa(out.scale)
	out.typ, out.collection = collected(p.Type)
	return out
}

func (p xmlProperty) navigation() navigation {
	out := navigation{name: p.Name, nullable: p.Nullable != "false", contains: p.Contains == "true", partner: p.Partner}
	out.to, out.collection = collected(p.Type)
	for _, c := range p.Constraints {
		out.constraint = append(out.constraint, [2]string{c.Property, c.Referenced})
	}
	return out
}

func (a xmlAnnotation) note() note {
	out := note{yes: a.Bool != "false" && strings.TrimSpace(a.InnerBool) != "false", text: a.String + a.EnumMember +
		strings.TrimSpace(a.InnerEnum)}
	for _, r := range a.Records {
		for _, v := range r.Values {
			if v.Bool == "false" || strings.TrimSpace(v.InnerBool) == "false" {
				out.no = append(out.no, v.Property)
			}
			if v.Collection != nil && v.Property == "NonFilterableProperties" {
				out.paths = append(out.paths, v.Collection.Paths...)
			}
		}
	}
	if a.Collection == nil {
		return out
	}
	for _, r := range a.Collection.Records {
		var key []string
		for _, v := range r.Values {
			if v.Property != "Key" || v.Collection == nil {
				continue
			}
			for _, ref := range v.Collection.Records {
				for _, part := range ref.Values {
					if path := strings.TrimSpace(part.PropertyPath + part.InnerPath); part.Property == "Name" && path != "" {
						key = append(key, path)
					}
				}
			}
		}
		if len(key) > 0 {
			out.keys = append(out.keys, key)
		}
	}
	return out
}
