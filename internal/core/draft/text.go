package draft

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"anagram/internal/core/pattern"
)

// YAML writes the draft as a catalog. Every guess has a comment with its reason; what the data
// of both sides confirm says so instead.
func (d *Draft) YAML() []byte {
	var out page
	fmt.Fprintf(&out,
		"# A first catalog, drafted from %s. What the database states was taken as it\n# is; every guess says why. Read it through, then try it with: anagram catalog check\n", strings.Join(d.From, " and "))
	if len(d.Areas) > 0 {
		out.WriteString("\nareas:\n")
		for _, a := range d.Areas {
			out.line(1, word(a.Name)+": "+list(a.Types), Noted{Why: a.Why, Sure: true})
		}
	}
	out.WriteString("\ntypes:\n")
	for _, t := range d.Types {
		out.record(t)
	}
	out.places("Drafted, but look at these first", d.From, d.Notes, func(n Note) bool { return n.Type != "" })
	out.places("Left out. To have one all the same: anagram catalog draft … --with TABLE", d.From, d.Notes,
		func(n Note) bool { return n.Type == "" })
	return []byte(out.String())
}

// Fragment writes one type as it stands under types:.
func (t *Type) Fragment() []byte {
	var out page
	out.record(t)
	return []byte(out.String())
}

// page is the text of a catalog as it is written.
type page struct{ strings.Builder }

// line writes a line, and beside it the reason for what stands there.
func (out *page) line(indent int, text string, n Noted) {
	text = strings.Repeat("  ", indent) + text
	switch {
	case n.Why == "":
	case n.Sure:
		text = fmt.Sprintf("%-48s # %s", text, n.Why)
	default:
		text = fmt.Sprintf("%-48s # guess: %s", text, n.Why)
	}
	out.WriteString(clean(text) + "\n")
}

// clean keeps what is no text out of comments: names come from a database.
func clean(text string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f || r == 0x85 || r == 0x2028 || r == 0x2029 || r == 0xFEFF {
			return '?'
		}
		return r
	}, text)
}

// places lists notes of one sort, with rows and reason.
func (out *page) places(head string, from []string, notes []Note, pick func(Note) bool) {
	wide, any := 0, false
	var unknown []string
	for _, n := range notes {
		switch {
		case !pick(n):
		case n.Why == empty:
			unknown = append(unknown, n.Place)
		default:
			wide, any = max(wide, len([]rune(n.Place))), true
		}
	}
	defer out.together(unknown)
	if !any {
		return
	}
	fmt.Fprintf(out, "\n# %s (rows in %s):\n", head, strings.Join(from, ", "))
	for _, n := range notes {
		if !pick(n) || n.Why == empty {
			continue
		}
		text := fmt.Sprintf("#   %-*s", min(wide, 40), n.Place)
		for _, rows := range n.Rows {
			if rows < 0 {
				text += fmt.Sprintf(" %7s", "-")
			} else {
				text += fmt.Sprintf(" %7d", rows)
			}
		}
		out.WriteString(clean(text+"  "+n.Why) + "\n")
	}
}

// together lists places of which nothing can be told yet, many on a line.
func (out *page) together(names []string) {
	if len(names) == 0 {
		return
	}
	fmt.Fprintf(out, "\n# Left out for now, as there are %s:\n", empty)
	line := "#  "
	for i, name := range names {
		if i < len(names)-1 {
			name += ","
		}
		if len(line)+len(name) > 90 {
			out.WriteString(clean(line) + "\n")
			line = "#  "
		}
		line += " " + name
	}
	out.WriteString(clean(line) + "\n")
}

func (out *page) record(t *Type) {
	plain := Noted{}
	out.line(1, word(t.Name)+":", plain)
	if t.Place != t.Name {
		out.line(2, "at: "+word(t.Place), plain)
	}
	out.line(2, "key: "+list(t.Key), Noted{Why: t.KeyWhy, Sure: t.KeySure})
	out.id(t)
	if t.Only.Name != "" {
		out.line(2, "only: "+strconv.Quote(t.Only.Name), t.Only)
	}
	if len(t.Refers) > 0 {
		out.line(2, "refers:", plain)
		out.refers(t.Refers)
	}
	if t.PartOf.Name != "" {
		out.line(2, "part_of: "+word(t.PartOf.Name), t.PartOf)
	}
	out.notes("ignore", t.Ignore)
	out.notes("derived", t.Derived)
	out.stamp(t)
	if len(t.Local) > 0 {
		out.line(2, "local:", plain)
		for _, l := range t.Local {
			out.line(3, word(l.Name)+": {}", l)
		}
	}
	out.notes("secret", t.Secret)
	if len(t.Files) > 0 {
		out.line(2, "files: "+list(t.Files), plain)
	}
	if r := t.Retired; r.Field != "" {
		text := fmt.Sprintf("retired: {field: %s, values: %s}", word(r.Field), list(r.Values))
		if r.When != "" {
			text = fmt.Sprintf("retired: {field: %s, when: %s}", word(r.Field), r.When)
		}
		out.line(2, text, Noted{Why: r.Why})
	}
	if t.Title != "" {
		out.line(2, "title: "+word(t.Title), plain)
	}
}

func (out *page) stamp(t *Type) {
	var stamp []string
	for _, s := range [][2]string{{"at", t.StampAt}, {"by", t.StampBy}, {"created_at", t.CreatedAt}, {"created_by", t.CreatedBy}} {
		if s[1] != "" {
			stamp = append(stamp, s[0]+": "+word(s[1]))
		}
	}
	if p := t.Person; p != nil {
		stamp = append(stamp, fmt.Sprintf("person: {at: %s, id: %s, name: %s}", word(p.Place), word(p.ID), word(p.Name)))
	}
	if len(stamp) > 0 {
		out.line(2, "stamp: {"+strings.Join(stamp, ", ")+"}", Noted{Why: "by their names"})
	}
}

func (out *page) id(t *Type) {
	if t.ID.Name == "" {
		return
	}
	if t.MadeBy == "" {
		out.line(2, "id: "+word(t.ID.Name), t.ID)
		return
	}
	out.line(2, "id:", t.ID)
	out.line(3, "field: "+word(t.ID.Name), Noted{})
	out.line(3, "made_by: "+t.MadeBy, Noted{Why: "the database does not give it by itself"})
	if c := t.Counter; c != nil {
		where := word(c.Table) + ": " + word(t.Place)
		if c.Column != "" {
			where += ", " + word(c.Column) + ": " + word(t.ID.Name)
		}
		out.line(3, fmt.Sprintf("counter: {at: %s, last: %s, where: {%s}}", word(c.Place), word(c.Last), where),
			Noted{Why: "the table looks like one of counters"})
	}
}

// refers writes references; several ways in which ids stand in one field are one entry.
func (out *page) refers(all []Reference) {
	for i, r := range all {
		if i > 0 && r.Form != "" && all[i-1].Field == r.Field {
			continue
		}
		var more []Reference
		for _, o := range all[i:] {
			if r.Form != "" && o.Field == r.Field {
				more = append(more, o)
			}
		}
		if len(more) < 2 {
			out.line(3, word(r.Field)+": "+r.text(), Noted{Why: r.Why, Sure: r.Sure})
			continue
		}
		out.line(3, word(r.Field)+":", Noted{})
		out.line(4, "inside:", Noted{})
		for _, o := range more {
			out.line(5, fmt.Sprintf("- {to: %s, %s: %s}", word(o.To), o.Form, strconv.Quote(o.Text)), Noted{Why: o.Why, Sure: o.Sure})
		}
	}
}

// text writes what a reference points at.
func (r Reference) text() string {
	to := word(r.To)
	none := ""
	if len(r.None) > 0 {
		none = ", none: ["
		for i, n := range r.None {
			if i > 0 {
				none += ", "
			}
			if n == "" {
				none += `""`
			} else {
				none += n
			}
		}
		none += "]"
	}
	switch {
	case r.Chooser != "":
		var words []string
		for _, w := range slices.Sorted(maps.Keys(r.Words)) {
			words = append(words, word(w)+": "+word(r.Words[w]))
		}
		return "{by: " + word(r.Chooser) + ", to: {" + strings.Join(words, ", ") + "}" + none + "}"
	case r.Form != "":
		return fmt.Sprintf("{to: %s, %s: %s}", to, r.Form, strconv.Quote(r.Text))
	case r.Column != "":
		return "{to: " + to + ", by: key" + none + "}"
	case r.Columns == nil && none != "":
		return "{to: " + to + none + "}"
	case r.Columns == nil:
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
	out.line(2, name+":", Noted{})
	for _, f := range fields {
		out.line(3, "- "+word(f.Name), f)
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
	plainWord = pattern.Of(`^[A-Za-z_][A-Za-z0-9_.-]*$`)
	yamlWord  = pattern.Of(`(?i)^(y|n|yes|no|on|off|true|false|null|nan)$`)
)

// word quotes a name where YAML would read it as something else.
func word(name string) string {
	if plainWord.MatchString(name) && !yamlWord.MatchString(name) {
		return name
	}
	return strconv.Quote(name)
}
