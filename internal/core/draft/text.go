package draft

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
)

// YAML writes the draft as a catalog. Every guess has a comment with its reason.
func (d *Draft) YAML(environment string) []byte {
	var out page
	fmt.Fprintf(&out, "# A first catalog, drafted from %s. What the database states was taken as it is;\n# every guess says why. Read it through, then try it with: anagram catalog check\n", environment)
	if len(d.Areas) > 0 {
		out.WriteString("\nareas:\n")
		for _, a := range d.Areas {
			out.line(1, word(a.Name)+": "+list(a.Types), a.Why)
		}
	}
	out.WriteString("\ntypes:\n")
	for _, t := range d.Types {
		out.record(t)
	}
	if len(d.LeftOut) > 0 {
		out.WriteString("\n# Left out:\n")
		for _, n := range d.LeftOut {
			fmt.Fprintf(&out, "#   %s: %s\n", n.Name, n.Why)
		}
	}
	return []byte(out.String())
}

// page is the text of a catalog as it is written.
type page struct{ strings.Builder }

// line writes a line, and beside it the reason of a guess.
func (out *page) line(indent int, text, why string) {
	text = strings.Repeat("  ", indent) + text
	if why != "" {
		text = fmt.Sprintf("%-48s # guess: %s", text, why)
	}
	out.WriteString(text + "\n")
}

func (out *page) record(t *Type) {
	out.line(1, word(t.Name)+":", "")
	if t.Place != t.Name {
		out.line(2, "at: "+word(t.Place), "")
	}
	out.line(2, "key: "+list(t.Key), t.KeyWhy)
	out.id(t)
	if len(t.Refers) > 0 {
		out.line(2, "refers:", "")
		for _, r := range t.Refers {
			out.line(3, word(r.Field)+": "+r.text(), r.Why)
		}
	}
	if t.PartOf.Name != "" {
		out.line(2, "part_of: "+word(t.PartOf.Name), t.PartOf.Why)
	}
	out.notes("ignore", t.Ignore)
	var stamp []string
	if t.StampAt != "" {
		stamp = append(stamp, "at: "+word(t.StampAt))
	}
	if t.StampBy != "" {
		stamp = append(stamp, "by: "+word(t.StampBy))
	}
	if len(stamp) > 0 {
		out.line(2, "stamp: {"+strings.Join(stamp, ", ")+"}", "by their names")
	}
	if len(t.Local) > 0 {
		out.line(2, "local:", "")
		for _, l := range t.Local {
			out.line(3, word(l.Name)+": {}", l.Why)
		}
	}
	out.notes("secret", t.Secret)
	if len(t.Files) > 0 {
		out.line(2, "files: "+list(t.Files), "")
	}
	if t.Retired != "" {
		out.line(2, fmt.Sprintf("retired: {field: %s, values: %s}", word(t.Retired), list(t.RetiredAs)), "by its name")
	}
	if t.Title != "" {
		out.line(2, "title: "+word(t.Title), "")
	}
}

func (out *page) id(t *Type) {
	if t.ID.Name == "" {
		return
	}
	if t.MadeBy == "" {
		out.line(2, "id: "+word(t.ID.Name), t.ID.Why)
		return
	}
	out.line(2, "id:", t.ID.Why)
	out.line(3, "field: "+word(t.ID.Name), "")
	out.line(3, "made_by: "+t.MadeBy, "the database does not give it by itself")
	if c := t.Counter; c != nil {
		where := word(c.Table) + ": " + word(t.Place)
		if c.Column != "" {
			where += ", " + word(c.Column) + ": " + word(t.ID.Name)
		}
		out.line(3, fmt.Sprintf("counter: {at: %s, last: %s, where: {%s}}", word(c.Place), word(c.Last), where), "the table looks like one of counters")
	}
}

// text writes what a reference points at.
func (r Reference) text() string {
	to := word(r.To)
	if r.Column != "" {
		return "{to: " + to + ", by: key}"
	}
	if r.Columns == nil {
		return to
	}
	var pairs []string
	for _, pair := range r.Columns {
		pairs = append(pairs, word(pair.Here)+": "+word(pair.There))
	}
	return "{to: " + to + ", columns: {" + strings.Join(pairs, ", ") + "}}"
}

func (out *page) notes(name string, fields []Noted) {
	if len(fields) == 0 {
		return
	}
	out.line(2, name+":", "")
	for _, f := range fields {
		out.line(3, "- "+word(f.Name), f.Why)
	}
}

func list(words []string) string {
	out := make([]string, len(words))
	for i, w := range words {
		out[i] = word(w)
	}
	return "[" + strings.Join(out, ", ") + "]"
}

var (
	plainWord = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_.-]*$`)
	yamlWord  = regexp.MustCompile(`(?i)^(y|n|yes|no|on|off|true|false|null|nan)$`)
)

// word quotes a name where YAML would read it as something else.
func word(name string) string {
	if plainWord.MatchString(name) && !yamlWord.MatchString(name) {
		return name
	}
	return strconv.Quote(name)
}
