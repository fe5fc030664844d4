package engine

import (
	"slices"
	"strings"
	"unicode"

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
		return word{}, through(text, "\n")
	case strings.HasPrefix(text, "/*"):
		return word{}, through(text, "*/")
	case c == '\'': // a doubled quote begins the next text at once
		return word{}, through(text, "'")
	case c == '"' || c == '`' || c == '[':
		n := through(text, map[byte]string{'"': `"`, '`': "`", '[': "]"}[c])
		return word{text: strings.Trim(text[:n], "\"`[]"), identifier: true, quoted: true}, n
	case c == '_' || unicode.IsLetter(rune(c)) || c >= 0x80:
		n := lengthOf(text, func(r rune) bool { return r == '_' || r == '$' || unicode.IsLetter(r) || unicode.IsDigit(r) })
		return word{text: text[:n], identifier: true}, n
	case unicode.IsDigit(rune(c)):
		return word{}, lengthOf(text, func(r rune) bool { return r == '.' || unicode.IsLetter(r) || unicode.IsDigit(r) })
	case c == ' ' || c == '\n' || c == '\t' || c == '\r':
		return word{}, 1
	default:
		return word{text: text[:1]}, 1
	}
}

// through gives the length of a text up to and with what closes it.
func through(text, closing string) int {
	if end := strings.Index(text[1:], closing); end >= 0 {
		return 1 + end + len(closing)
	}
	return len(text)
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
