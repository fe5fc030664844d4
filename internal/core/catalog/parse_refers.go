package catalog

import (
	"fmt"
	"maps"
	"slices"

	"anagram/internal/core/condition"
	"anagram/internal/core/weave"
	"anagram/internal/core/yamldoc"
)

// referForm is what stands under refers: a record type, several, or a map that says
// more.
type referForm struct {
	To      toForm            `yaml:"to"`
	By      string            `yaml:"by"`
	Columns map[string]string `yaml:"columns"`
	List    string            `yaml:"list"`
	Pattern string            `yaml:"pattern"`
	Path    string            `yaml:"path"`
	None    []any             `yaml:"none"`
	Inside  []insideForm      `yaml:"inside"`
}

type insideForm struct {
	To      string `yaml:"to"`
	List    string `yaml:"list"`
	Pattern string `yaml:"pattern"`
	Path    string `yaml:"path"`
}

// UnmarshalYAML reads a text, a list or a map.
func (f *referForm) UnmarshalYAML(decode func(any) error) error {
	type plain referForm
	var one string
	if decode(&one) == nil {
		f.To.list = []string{one}
		return nil
	}
	if decode(&f.To.list) == nil {
		return nil
	}
	return decode((*plain)(f))
}

// toForm is one record type, several, or one for each value of another field.
type toForm struct {
	list  []string
	words map[string]string
}

// UnmarshalYAML reads a text, a list or a map.
func (f *toForm) UnmarshalYAML(decode func(any) error) error {
	var one string
	if decode(&one) == nil {
		f.list = []string{one}
		return nil
	}
	if decode(&f.list) == nil {
		return nil
	}
	return decode(&f.words)
}

func readReferences(doc *yamldoc.Document, path []string, t *Type, forms map[string]referForm) error {
	for _, field := range sortedNames(forms) {
		at := append(slices.Clone(path), "refers", field)
		ref, err := readReference(doc, at, t.Name, field, forms[field])
		if err != nil {
			return err
		}
		t.Refers[field] = ref
	}
	return nil
}

func readReference(doc *yamldoc.Document, at []string, typ, field string, form referForm) (Reference, error) {
	bad := func(format string, args ...any) (Reference, error) {
		return Reference{}, doc.Errorf(at, "record type %s: "+format, append([]any{typ}, args...)...)
	}
	r := Reference{To: form.To.list}
	for _, here := range sortedNames(form.Columns) {
		r.Columns = append(r.Columns, Pair{Here: here, There: form.Columns[here]})
	}
	switch {
	case form.To.words != nil:
		if form.By == "" || form.By == "id" || form.By == "key" {
			return bad("%s refers to a type for each value of another field; name that field with by:", field)
		}
		r.Chooser, r.Words = form.By, form.To.words
		for _, word := range sortedNames(r.Words) {
			if !slices.Contains(r.To, r.Words[word]) {
				r.To = append(r.To, r.Words[word])
			}
		}
	case form.By == "key":
		r.ByKey = true
	case form.By != "" && form.By != "id":
		return Reference{}, doc.Unknown(append(at, "by"), "way to refer", form.By, []string{"id", "key"})
	}
	inside := form.Inside
	if form.List+form.Pattern+form.Path != "" {
		one := insideForm{List: form.List, Pattern: form.Pattern, Path: form.Path}
		if len(r.To) == 1 {
			one.To = r.To[0]
		}
		inside = append(inside, one)
	}
	for _, none := range form.None {
		r.None = append(r.None, fmt.Sprint(none))
	}
	if len(inside) > 0 {
		return readInside(bad, field, r, inside)
	}
	return checkReference(bad, field, r)
}

// checkReference refuses what cannot go together.
func checkReference(bad func(string, ...any) (Reference, error), field string, r Reference) (Reference, error) {
	if r.None != nil && r.Columns != nil {
		return bad("%s: none: goes with references of one column", field)
	}
	if len(r.To) == 0 {
		return bad("%s does not say which record type it refers to; add to:", field)
	}
	if len(r.To) > 1 && (r.ByKey || r.Columns != nil) {
		return bad("%s refers to several types; by: key and columns: need one", field)
	}
	if r.ByKey && r.Columns != nil {
		return bad("%s has by: key as well as columns:, which name the columns there; leave by: out", field)
	}
	return r, nil
}

// readInside reads how ids stand within values.
func readInside(bad func(string, ...any) (Reference, error), field string, r Reference, forms []insideForm) (Reference, error) {
	if r.None != nil {
		return bad("%s: none: goes with references of one column", field)
	}
	if r.Chooser != "" || r.ByKey || r.Columns != nil {
		return bad("%s: list:, pattern:, path: and inside: go with to: and one record type, by its internal id", field)
	}
	to := r.To
	r.To = nil
	for _, form := range forms {
		if form.To == "" && len(to) == 1 {
			form.To = to[0]
		}
		var made weave.Form
		var err error
		switch {
		case form.To == "":
			return bad("%s does not say which record type the ids inside it belong to; add to:", field)
		case form.List != "" && form.Pattern+form.Path == "":
			made, err = weave.List(form.To, form.List)
		case form.Pattern != "" && form.List+form.Path == "":
			made, err = weave.Pattern(form.To, form.Pattern)
		case form.Path != "" && form.List+form.Pattern == "":
			made, err = weave.Path(form.To, form.Path)
		default:
			return bad("%s: the ids inside a value are found by one of list:, pattern: and path:", field)
		}
		if err != nil {
			return bad("%s: %v", field, err)
		}
		r.Inside = append(r.Inside, made)
		if !slices.Contains(r.To, form.To) {
			r.To = append(r.To, form.To)
		}
	}
	if slices.ContainsFunc(r.Inside, func(f weave.Form) bool { return f.InJSON() != r.Inside[0].InJSON() }) {
		return bad("%s: path: reads JSON and cannot be joined with list: or pattern:", field)
	}
	return r, nil
}

func (c *Catalog) checkReferences(doc *yamldoc.Document, t *Type) error {
	for _, field := range sortedNames(t.Refers) {
		path := []string{"types", t.Name, "refers", field}
		ref := t.Refers[field]
		for _, name := range ref.To {
			to, ok := c.byName[name]
			if !ok {
				return doc.Unknown(path, "record type", name, slices.Collect(maps.Keys(c.byName)))
			}
			if ref.ByKey && (len(to.Key) > 1 || to.Refers[to.Key[0]].To != nil) {
				return doc.Errorf(path,
					"record type %s: %s refers to %s by its key, which is more than one plain field; say with columns: which columns are which there", t.Name, field, to.Name)
			}
			if to.ID == "" && len(to.Key) > 1 && ref.Columns == nil {
				return doc.Errorf(path,
					"record type %s: %s refers to %s, which has no internal id and a key of %d fields; give %s an id:, or say with columns: which columns are which there", t.Name, field, to.Name, len(to.Key), to.Name)
			}
			if to.ID == "" && ref.Inside != nil {
				return doc.Errorf(path, "record type %s: %s holds internal ids of %s, which has none; give it an id:", t.Name,
					field, to.Name)
			}
		}
	}
	if t.PartOf != "" {
		path := []string{"types", t.Name, "part_of"}
		if _, ok := c.byName[t.PartOf]; !ok {
			return doc.Unknown(path, "record type", t.PartOf, slices.Collect(maps.Keys(c.byName)))
		}
		if t.OwnerField() == "" {
			return doc.Errorf(path, "record type %s is part of %s, but none of its fields refers to %s; add it under refers:", t.Name,
				t.PartOf, t.PartOf)
		}
	}
	return nil
}

// Decides lists the fields whose references have to be known before a record of a
// type can be told: those of its key, its owner, and those its condition names.
func (t *Type) Decides() []string {
	fields := slices.Clone(t.Key)
	if owner := t.OwnerField(); owner != "" && !slices.Contains(fields, owner) && t.PartOf != t.Name {
		fields = append(fields, owner)
	}
	if t.Only != "" {
		named, _ := condition.Fields(t.Only)
		for _, field := range named {
			if !slices.Contains(fields, field) {
				fields = append(fields, field)
			}
		}
	}
	return fields
}

// checkKeyCircle refuses keys, owners and conditions that go through other types back to
// themselves; only a tree, a key that refers to its own type directly, can be built
// level by level.
func (c *Catalog) checkKeyCircle(doc *yamldoc.Document, t *Type) error {
	var through func(from *Type, path []string) []string
	through = func(from *Type, path []string) []string {
		for _, field := range from.Decides() {
			for _, name := range from.Refers[field].To {
				to := c.byName[name]
				inKey := slices.Contains(from.Key, field) && from.Refers[field].Plain()
				if to == nil || to == from && inKey {
					continue
				}
				if to == t {
					return append(path, to.Name)
				}
				if slices.Contains(path, to.Name) {
					continue
				}
				if found := through(to, append(path, to.Name)); found != nil {
					return found
				}
			}
		}
		return nil
	}
	own := func(field string) bool { return t.Refers[field].One() == t.Name }
	if !slices.ContainsFunc(t.Key, func(field string) bool { return !own(field) }) {
		return doc.Errorf([]string{"types", t.Name, "key"},
			"the key of %s refers to %s alone, which tells no two records apart; add a field of its own", t.Name, t.Name)
	}
	if circle := through(t, []string{t.Name}); circle != nil {
		return doc.Errorf([]string{"types", t.Name, "key"},
			"the keys of %v refer to each other in a circle, so none of them can be told; use other key fields in one of them", circle)
	}
	return nil
}
