package engine

import (
	"slices"
	"strings"

	"anagram/internal/core/catalog"
)

// Rules that an engine holds to (check constraints): read from it, and tried on values by
// the engine itself in a query over no table.

// AddRule adds a rule to a place. Where the engine does not tell which columns it is
// about, they are read from its text.
func AddRule(places map[string]catalog.Place, place string, rule catalog.Rule) {
	p, ok := places[place]
	if !ok || strings.HasPrefix(rule.Text, "json_valid(") {
		return
	}
	if rule.Columns == nil {
		rule.Columns = columnsIn(rule.Text, p)
	}
	if len(rule.Columns) > 0 {
		p.Rules = append(p.Rules, rule)
		places[place] = p
	}
}

// word is a piece of SQL: an identifier, bare or quoted, or a single sign. Texts, numbers
// and comments are passed over.
type word struct {
	text       string
	identifier bool
	quoted     bool
	at, end    int
}

// wordsOf takes SQL apart as far as is needed to find names and brackets.
func wordsOf(text string) []word {
	var out []word
	for i := 0; i < len(text); {
		w, n := firstWord(text[i:])
		if n > 0 && w != (word{}) {
			w.at, w.end = i, i+n
			out = append(out, w)
		}
		i += max(1, n)
	}
	return out
}

// firstWord reads what a text begins with, and how long that is; the zero word is what is
// passed over.
func firstWord(text string) (word, int) {
	switch c := text[0]; {
	case strings.HasPrefix(text, "--"):
		return word{}, through(text, 2, "\n")
	case strings.HasPrefix(text, "/*"):
		return word{}, through(text, 2, "*/")
	case c == '\'':
		n, _ := quotedLength(text)
		return word{}, n
	case c == '"' || c == '`':
		n, _ := quotedLength(text)
		name := strings.TrimSuffix(text[1:n], text[:1])
		return word{text: strings.ReplaceAll(name, text[:1]+text[:1], text[:1]), identifier: true, quoted: true}, n
	case c == '[':
		n := through(text, 1, "]")
		return word{text: strings.TrimSuffix(text[1:n], "]"), identifier: true, quoted: true}, n
	case strings.HasPrefix(text, "\ufeff"):
		return word{}, 3
	case nameSign(rune(c)):
		n := lengthOf(text, func(r rune) bool { return r == '$' || nameSign(r) || r >= '0' && r <= '9' })
		return word{text: text[:n], identifier: true}, n
	case c >= '0' && c <= '9':
		return word{}, lengthOf(text, func(r rune) bool { return r == '.' || nameSign(r) || r >= '0' && r <= '9' })
	case strings.ContainsRune(" \n\t\r\f", rune(c)):
		return word{}, 1
	default:
		return word{text: text[:1]}, 1
	}
}

// nameSign reports whether a bare name can begin with a sign; a name may hold any that is
// not ASCII.
func nameSign(r rune) bool {
	return r == '_' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= 0x80
}

// through gives the length of a text up to and with what closes it, looked for behind its
// first bytes.
func through(text string, after int, closing string) int {
	if end := strings.Index(text[after:], closing); end >= 0 {
		return after + end + len(closing)
	}
	return len(text)
}

// quotedLength gives the length of what a text begins with in quotes, which are doubled
// inside.
func quotedLength(text string) (n int, closed bool) {
	for n := 1; n < len(text); n++ {
		if text[n] != text[0] {
			continue
		}
		if n+1 == len(text) || text[n+1] != text[0] {
			return n + 1, true
		}
		n++
	}
	return len(text), false
}

// Triable reports whether the text of a rule is one expression and nothing more, so that it
// can stand in a query.
func Triable(text string) bool {
	depth := 0
	for i := 0; i < len(text); {
		if strings.HasPrefix(text[i:], "--") || strings.HasPrefix(text[i:], "/*") || text[i] == 0 {
			return false
		}
		w, n := firstWord(text[i:])
		closed := text[i] != '[' || text[i+n-1] == ']'
		if strings.IndexByte("'\"`", text[i]) >= 0 {
			_, closed = quotedLength(text[i:])
		}
		if !closed {
			return false
		}
		switch {
		case w.identifier && !w.quoted && slices.Contains([]string{"SELECT", "WITH", "VALUES"}, strings.ToUpper(w.text)):
			return false
		case w.identifier:
		case w.text == ";":
			return false
		case w.text == "(":
			depth++
		case w.text == ")":
			if depth--; depth < 0 {
				return false
			}
		}
		i += max(1, n)
	}
	return depth == 0 && strings.TrimSpace(text) != ""
}

// lengthOf counts the bytes at the head of a text that are of one sort.
func lengthOf(text string, of func(rune) bool) int {
	if n := strings.IndexFunc(text, func(r rune) bool { return !of(r) }); n >= 0 {
		return n
	}
	return len(text)
}

// columnsIn names the columns of a place that a rule is about.
func columnsIn(text string, place catalog.Place) []string {
	var out []string
	words := wordsOf(text)
	for i, w := range words {
		call := i+1 < len(words) && words[i+1].text == "("
		if !w.identifier || call {
			continue
		}
		at := slices.IndexFunc(place.Columns, func(c catalog.Column) bool { return strings.EqualFold(c.Name, w.text) })
		if at >= 0 && !slices.Contains(out, place.Columns[at].Name) {
			out = append(out, place.Columns[at].Name)
		}
	}
	return out
}

// ChecksIn finds the check constraints in a statement that makes a table.
func ChecksIn(statement string) []catalog.Rule {
	var out []catalog.Rule
	words := wordsOf(statement)
	for i, w := range words {
		if !w.identifier || w.quoted || !strings.EqualFold(w.text, "CHECK") || i+1 >= len(words) || words[i+1].text != "(" {
			continue
		}
		depth, end := 0, -1
		for _, inner := range words[i+1:] {
			if !inner.identifier && inner.text == "(" {
				depth++
			}
			if !inner.identifier && inner.text == ")" {
				if depth--; depth == 0 {
					end = inner.at
					break
				}
			}
		}
		if end < 0 {
			continue
		}
		rule := catalog.Rule{Text: strings.TrimSpace(statement[words[i+1].end:end])}
		if i >= 2 && !words[i-2].quoted && strings.EqualFold(words[i-2].text, "CONSTRAINT") {
			rule.Name = words[i-1].text
		}
		out = append(out, rule)
	}
	return out
}

// ValueAs puts a column in the place of the word VALUE, by which the rule of a domain names
// what it is about.
func ValueAs(text, column string) string {
	var out strings.Builder
	at := 0
	for _, w := range wordsOf(text) {
		if w.identifier && !w.quoted && w.text == "VALUE" {
			out.WriteString(text[at:w.at] + column)
			at = w.end
		}
	}
	return out.String() + text[at:]
}
