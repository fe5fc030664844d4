package catalog

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"anagram/internal/core/condition"
	"anagram/internal/core/limit"
	"anagram/internal/core/pattern"
	"anagram/internal/core/record"
	"anagram/internal/core/yamldoc"
)

// The file's form. Strings that may also be maps or lists have types of their own.
type fileForm struct {
	Areas  map[string][]string `yaml:"areas"`
	Ignore []string            `yaml:"ignore"`
	Types  map[string]typeForm `yaml:"types"`
}

type typeForm struct {
	At          placeForm                    `yaml:"at"`
	Key         []string                     `yaml:"key"`
	ID          idForm                       `yaml:"id"`
	Refers      map[string]referForm         `yaml:"refers"`
	Only        string                       `yaml:"only"`
	PartOf      string                       `yaml:"part_of"`
	Ignore      []string                     `yaml:"ignore"`
	Secret      []string                     `yaml:"secret"`
	Files       []string                     `yaml:"files"`
	Derived     []string                     `yaml:"derived"`
	Local       map[string]map[string]string `yaml:"local"`
	Stamp       stampForm                    `yaml:"stamp"`
	Retired     retiredForm                  `yaml:"retired"`
	Title       string                       `yaml:"title"`
	As          map[string]string            `yaml:"as"`
	FoldCase    []string                     `yaml:"fold_case"`
	Trim        []string                     `yaml:"trim"`
	NFC         []string                     `yaml:"nfc"`
	BlankIsNull []string                     `yaml:"blank_is_null"`
	Unique      [][]string                   `yaml:"unique"`
	Plain       []string                     `yaml:"plain"`
}

type stampForm struct {
	At        string            `yaml:"at"`
	By        string            `yaml:"by"`
	CreatedAt string            `yaml:"created_at"`
	CreatedBy string            `yaml:"created_by"`
	Write     string            `yaml:"write"`
	Account   map[string]string `yaml:"account"`
	Person    personForm        `yaml:"person"`
}

type personForm struct {
	At   string `yaml:"at"`
	ID   string `yaml:"id"`
	Name string `yaml:"name"`
}

type retiredForm struct {
	Field  string   `yaml:"field"`
	Values []string `yaml:"values"`
	When   string   `yaml:"when"`
}

// idForm is the name of a field, or where it comes from as well.
type idForm struct {
	Field   string      `yaml:"field"`
	MadeBy  string      `yaml:"made_by"`
	Counter counterForm `yaml:"counter"`
}

type counterForm struct {
	At    string            `yaml:"at"`
	Last  string            `yaml:"last"`
	Where map[string]string `yaml:"where"`
}

// UnmarshalYAML reads a text or a map.
func (f *idForm) UnmarshalYAML(decode func(any) error) error {
	type plain idForm
	return yamldoc.TextOr(decode, &f.Field, (*plain)(f))
}

// placeForm is one place for all environments, or one for each.
type placeForm map[string]string

// UnmarshalYAML reads a text or a map.
func (p *placeForm) UnmarshalYAML(decode func(any) error) error {
	var one string
	many := map[string]string{}
	if err := yamldoc.TextOr(decode, &one, &many); err != nil {
		return err
	}
	if *p = many; one != "" {
		*p = placeForm{"": one}
	}
	return nil
}

var typeName = pattern.Of(`^[A-Za-z][A-Za-z0-9_-]*$`)

// Parse reads a catalog. The name is the file's, for messages. Errors are
// *yamldoc.Error with line and nearest word.
func Parse(name string, source []byte) (*Catalog, error) {
	doc, err := yamldoc.Parse(name, source)
	if err != nil {
		return nil, err
	}
	var form fileForm
	if err := doc.Decode(&form); err != nil {
		return nil, err
	}
	if len(form.Types) == 0 {
		return nil, doc.Errorf(nil, "no record types are described; add them under types:")
	}
	if n := len(form.Types); n > limit.Types {
		return nil, doc.Errorf([]string{"types"}, "it describes %d record types, and at most %d are read", n, limit.Types)
	}
	c := &Catalog{Source: source, byName: map[string]*Type{}}
	var types []*Type
	for _, typ := range doc.Names("types") {
		t, err := readType(doc, typ, form.Types[typ])
		if err != nil {
			return nil, err
		}
		t.Everywhere = unnamed(t, form.Ignore)
		types = append(types, t)
		c.byName[typ] = t
	}
	for _, t := range types {
		if err := c.checkReferences(doc, t); err != nil {
			return nil, err
		}
	}
	for _, t := range types {
		if err := c.checkKeyCircle(doc, t); err != nil {
			return nil, err
		}
	}
	for _, area := range doc.Names("areas") {
		for i, typ := range form.Areas[area] {
			if _, ok := c.byName[typ]; !ok {
				return nil, doc.Unknown([]string{"areas", area, fmt.Sprint(i)}, "record type", typ, slices.Collect(maps.Keys(c.byName)))
			}
		}
		c.Areas = append(c.Areas, Area{Name: area, Types: form.Areas[area]})
	}
	c.Types = orderTypes(types)
	for _, t := range types {
		t.layout = c.layoutOf(t)
	}
	return c, nil
}

func readType(doc *yamldoc.Document, name string, form typeForm) (*Type, error) {
	path := []string{"types", name}
	if !typeName.MatchString(name) {
		return nil, doc.Errorf(path, "record type name %q: letters, digits, _ and -, starting with a letter", name)
	}
	if len(form.Key) == 0 {
		return nil, doc.Errorf(path,
			"record type %s has no key; name the fields that identify a record in every environment, such as key: [code]", name)
	}
	t := &Type{
		Name: name, At: form.At, Key: form.Key, ID: form.ID.Field, Refers: map[string]Reference{}, Only: form.Only, PartOf: form.PartOf,
		Ignore: form.Ignore, Secret: form.Secret, Files: form.Files, Local: form.Local,
		Derived: form.Derived, StampAt: form.Stamp.At, StampBy: form.Stamp.By, CreatedAt: form.Stamp.CreatedAt,
		CreatedBy: form.Stamp.CreatedBy, StampNever: form.Stamp.Write == "never", StampAccount: form.Stamp.Account,
		StampPerson: Person(form.Stamp.Person), Retired: Retired(form.Retired), Title: form.Title, Unique: form.Unique,
		Plain: form.Plain,
		As:    map[string]record.Kind{}, Words: map[string]Words{}, Rules: map[string]record.Rule{},
	}
	t.line = func(more ...string) int { return doc.Line(append(slices.Clone(path), more...)...) }
	if all, given := t.At[""]; given && all == "" {
		return nil, doc.Errorf(append(path, "at"), "record type %s: at: is empty", name)
	} else if !given {
		t.At = maps.Clone(t.At)
		if t.At == nil {
			t.At = map[string]string{}
		}
		t.At[""] = name
	}
	if err := checkWords(doc, path, form); err != nil {
		return nil, err
	}
	if err := readReferences(doc, path, t, form.Refers); err != nil {
		return nil, err
	}
	if t.Only != "" {
		if _, err := condition.Fields(t.Only); err != nil {
			return nil, doc.Errorf(append(path, "only"), "record type %s: %v", name, err)
		}
	}
	if err := readIDSource(doc, path, t, form.ID); err != nil {
		return nil, err
	}
	if err := checkKey(doc, path, t); err != nil {
		return nil, err
	}
	for i, set := range t.Unique {
		if len(set) == 0 {
			return nil, doc.Errorf(append(slices.Clone(path), "unique", fmt.Sprint(i)),
				"record type %s: a list under unique: names no field; write it as in unique: [[name], [list, position]]", name)
		}
	}
	if err := readKinds(doc, path, t, form.As); err != nil {
		return nil, err
	}
	rule := func(fields []string, set func(*record.Rule)) {
		for _, field := range fields {
			r := t.Rules[field]
			set(&r)
			t.Rules[field] = r
		}
	}
	rule(form.FoldCase, func(r *record.Rule) { r.FoldCase = true })
	rule(form.Trim, func(r *record.Rule) { r.Trim = true })
	rule(form.NFC, func(r *record.Rule) { r.NFC = true })
	rule(form.BlankIsNull, func(r *record.Rule) { r.BlankIsNull = true })
	return t, nil
}

// unnamed gives those of some fields that a type says nothing else of: what it says goes first.
func unnamed(t *Type, fields []string) (out []string) {
	for _, field := range fields {
		_, refers := t.Refers[field]
		_, as := t.As[field]
		if !refers && !as && t.Carried(field) && field != t.Title && field != t.Retired.Field && !slices.Contains(t.Key, field) &&
			!slices.Contains(t.Files, field) && t.Rules[field] == (record.Rule{}) {
			out = append(out, field)
		}
	}
	return out
}

// checkWords refuses words that are none of those there are.
func checkWords(doc *yamldoc.Document, path []string, form typeForm) error {
	if w := form.Stamp.Write; w != "" && w != "never" {
		return doc.Unknown(append(slices.Clone(path), "stamp", "write"), "way to write stamps", w, []string{"never"})
	}
	if p := form.Stamp.Person; p != (personForm{}) && (p.At == "" || p.ID == "" || p.Name == "" ||
		form.Stamp.By+form.Stamp.CreatedBy == "") {
		return doc.Errorf(append(slices.Clone(path), "stamp", "person"),
			"person: needs by: beside it, and at: (the table of people), id: and name: (its columns), as in person: {at: users, id: user_id, name: login}")
	}
	if w := form.Retired.When; w != "" && w != "null" && w != "not null" {
		return doc.Unknown(append(slices.Clone(path), "retired", "when"), "sign of what is out of use", w, []string{"null", "not null"})
	}
	return nil
}

// checkKey refuses keys that could not identify a record.
func checkKey(doc *yamldoc.Document, path []string, t *Type) error {
	name := t.Name
	seen := map[string]bool{}
	for i, field := range t.Key {
		at := append(slices.Clone(path), "key", fmt.Sprint(i))
		switch {
		case seen[field]:
			return doc.Errorf(at, "record type %s: the key names %s twice", name, field)
		case field == t.ID && t.Refers[field].To == nil:
			return doc.Errorf(at,
				"record type %s: %s is its internal id, which differs in every environment, and cannot be part of the key",
				name, field)
		case t.Refers[field].Inside != nil:
			return doc.Errorf(at, "record type %s: %s holds references inside its value and cannot be part of the key", name, field)
		case t.Refers[field].Chooser != "" && !slices.Contains(t.Key, t.Refers[field].Chooser):
			return doc.Errorf(at, "record type %s: %s is part of the key, so the field that chooses its type, %s, must be as well",
				name, field, t.Refers[field].Chooser)
		case !t.Carried(field):
			return doc.Errorf(at,
				"record type %s: %s is part of the key and cannot be ignored, local, secret or a stamp as well", name, field)
		}
		seen[field] = true
	}
	return nil
}

// readKinds reads what the catalog says that fields hold.
func readKinds(doc *yamldoc.Document, path []string, t *Type, as map[string]string) error {
	for field, kind := range as {
		if words, ok := strings.CutPrefix(kind, "boolean "); ok {
			yes, no, _ := strings.Cut(words, "/")
			if yes == "" || no == "" || yes == no {
				return doc.Errorf(append(path, "as", field), "record type %s: a boolean in words is written as in: boolean Y/N", t.Name)
			}
			t.As[field], t.Words[field] = record.Boolean, Words{True: yes, False: no}
			continue
		}
		parsed, err := record.ParseKind(kind)
		if err != nil || parsed == record.Reference {
			return doc.Unknown(append(path, "as", field), "kind of value", kind, record.FieldKinds()[:len(record.FieldKinds())-1])
		}
		t.As[field] = parsed
	}
	return nil
}

// readIDSource reads where internal ids come from.
func readIDSource(doc *yamldoc.Document, path []string, t *Type, form idForm) error {
	at := append(slices.Clone(path), "id")
	t.IDFrom = IDSource{MadeBy: form.MadeBy, Counter: Counter(form.Counter)}
	ways := []string{"database", "largest", "uuid", "counter"}
	switch {
	case form.MadeBy == "":
	case form.Field == "":
		return doc.Errorf(at, "record type %s: id: has no field:", t.Name)
	case !slices.Contains(ways, form.MadeBy):
		return doc.Unknown(append(at, "made_by"), "way to make ids", form.MadeBy, ways)
	case form.MadeBy == "database":
		t.IDFrom.MadeBy = ""
	case form.MadeBy == "counter" && (form.Counter.At == "" || form.Counter.Last == "" || len(form.Counter.Where) == 0):
		return doc.Errorf(at,
			"record type %s: counter: needs at: (the table), last: (the field with the last id) and where: (the row)", t.Name)
	}
	return nil
}

func sortedNames[V any](m map[string]V) []string {
	return slices.SortedFunc(maps.Keys(m), cmp.Compare[string])
}
