package draft

import (
	"bytes"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"anagram/internal/core/catalog"
	"anagram/internal/core/pattern"
)

// Brought says what came of a draft that was brought into a catalog.
type Brought struct {
	Text  []byte   // the catalog with what is new; all that was there is as it was
	Added []string // record types
	// Missing are fields that the draft says something of and the catalog does not, in words.
	Missing []string
	// Named are places that a comment of the catalog names, which is why they were left alone.
	Named []string
}

// Into brings the types of a draft into a catalog whose places it does not know: after the
// others, so that nothing that was edited changes, comments included. A place that a
// comment of the catalog names is left alone, unless it is wished for.
func (d *Draft) Into(c *catalog.Catalog, environments, wanted []string) (Brought, error) {
	out := Brought{Text: c.Source}
	names := d.rename(c, environments)
	var text strings.Builder
	for _, t := range d.Types {
		if has := at(c, t.Place, environments); has != nil {
			out.Missing = append(out.Missing, t.missing(has)...)
			continue
		}
		if !wished(wanted, t.Place) && mentions(c.Source, t.Place) {
			out.Named = append(out.Named, t.Place)
			continue
		}
		out.Added = append(out.Added, names[t.Name])
		text.Write(t.renamed(names).Fragment())
	}
	if len(out.Added) == 0 {
		return out, nil
	}
	var err error
	if out.Text, err = splice(c.Source, text.String()); err != nil {
		return out, err
	}
	if _, err := catalog.Parse("the catalog with what is new", out.Text); err != nil {
		return out, err
	}
	return out, nil
}

// at finds the type of a catalog that lives at a place.
func at(c *catalog.Catalog, place string, environments []string) *catalog.Type {
	for _, t := range c.Types {
		if slices.ContainsFunc(environments, func(e string) bool { return t.Place(e) == place }) {
			return t
		}
	}
	return nil
}

// mentions reports whether a comment of a catalog names a place as a word of its own.
func mentions(source []byte, place string) bool {
	word := regexp.MustCompile(`(^|[^\pL\pN_.])` + regexp.QuoteMeta(place) + `($|[^\pL\pN_])`)
	forNow := false
	for line := range bytes.Lines(source) {
		switch comment := bytes.HasPrefix(line, []byte("#")); {
		case comment && bytes.Contains(line, []byte(empty)):
			forNow = true // what follows was left out until there is something to be seen
		case !comment:
			forNow = false
		}
		if at := bytes.IndexByte(line, '#'); !forNow && at >= 0 && word.Match(line[at:]) {
			return true
		}
	}
	return false
}

// rename gives each type of a draft the name that the catalog has for its place, else one that
// is free there.
func (d *Draft) rename(c *catalog.Catalog, environments []string) map[string]string {
	out, taken := map[string]string{}, map[string]bool{}
	for _, name := range c.Names() {
		taken[name] = true
	}
	for _, t := range d.Types {
		if has := at(c, t.Place, environments); has != nil {
			out[t.Name] = has.Name
		}
	}
	for _, t := range d.Types {
		if out[t.Name] != "" {
			continue
		}
		name := t.Name
		for n := 2; taken[name]; n++ {
			name = fmt.Sprintf("%s_%d", t.Name, n)
		}
		out[t.Name], taken[name] = name, true
	}
	return out
}

// renamed is a type with all types by other names.
func (t *Type) renamed(names map[string]string) *Type {
	out := *t
	out.Name = names[t.Name]
	out.Refers = nil
	for _, r := range t.Refers {
		r.To = names[r.To]
		if r.Words != nil {
			words := map[string]string{}
			for word, to := range r.Words {
				words[word] = names[to]
			}
			r.Words = words
		}
		out.Refers = append(out.Refers, r)
	}
	if t.PartOf.Name != "" {
		out.PartOf.Name = names[t.PartOf.Name]
	}
	return &out
}

// missing says what a draft knows of fields that the catalog takes for plain values.
func (t *Type) missing(has *catalog.Type) (out []string) {
	say := func(field, what string) {
		if _, refers := has.Refers[field]; has.Carried(field) && !refers && !slices.Contains(has.Plain, field) &&
			!slices.Contains(has.Key, field) && has.Title != field && has.Retired.Field != field && !slices.Contains(has.Files, field) {
			out = append(out, has.Name+"."+field+": "+what)
		}
	}
	for _, r := range t.Refers {
		if r.Column == "" && r.Columns == nil {
			say(r.Field, "refers: {"+word(r.Field)+": "+r.text()+"}")
		}
	}
	for _, list := range []struct {
		name   string
		fields []Noted
	}{{"secret", t.Secret}, {"local", t.Local}, {"derived", t.Derived}, {"ignore", t.Ignore}} {
		for _, f := range list.fields {
			say(f.Name, list.name+": "+f.Why)
		}
	}
	return out
}

var (
	typesHead = pattern.Of(`(?m)^types:[ \t]*(#.*)?\r?\n`)
	topLevel  = pattern.Of(`^[^\s#]`)
	indented  = pattern.Of(`(?m)^( +)[^\s#]`)
)

// splice puts types at the end of those of a catalog, indented as these are.
func splice(source []byte, types string) ([]byte, error) {
	head := typesHead.FindIndex(source)
	if head == nil {
		return nil,
			fmt.Errorf("types: of the catalog is written on one line, so nothing can be added to it; write each type on lines of its own")
	}
	rest := source[head[1]:]
	end, last := 0, 0
	for line := range bytes.Lines(rest) {
		end += len(line)
		if topLevel.Match(line) {
			break
		}
		if text := bytes.TrimSpace(line); len(text) > 0 && line[0] != '#' {
			last = end
		}
	}
	unit := 2
	if m := indented.FindSubmatch(rest[:last]); m != nil {
		unit = len(m[1])
	}
	var body strings.Builder
	for line := range strings.Lines(types) {
		text := strings.TrimLeft(line, " ")
		body.WriteString(strings.Repeat(" ", (len(line)-len(text))/2*unit) + text)
	}
	out := bytes.Clone(source[:head[1]+last])
	if len(out) > 0 && out[len(out)-1] != '\n' {
		out = append(out, '\n')
	}
	out = append(out, body.String()...)
	return append(out, rest[last:]...), nil
}
