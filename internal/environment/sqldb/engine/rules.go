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
		rest := text[i:]
		skip := func(closing string) int {
			if end := strings.Index(rest[1:], closing); end >= 0 {
				return 1 + end + len(closing)
			}
			return len(rest)
		}
		n := 1
		switch c := rest[0]; {
		case strings.HasPrefix(rest, "--"):
			n = skip("\n")
		case strings.HasPrefix(rest, "/*"):
			n = skip("*/")
		case c == '\'': // a doubled quote begins the next text at once
			n = skip("'")
		case c == '"' || c == '`' || c == '[':
			n = skip(map[byte]string{'"': `"`, '`': "`", '[': "]"}[c])
			out = append(out, word{text: strings.Trim(rest[:n], "\"`[]"), identifier: true, quoted: true, at: i, end: i + n})
		case c == '_' || unicode.IsLetter(rune(c)) || c >= 0x80:
			n = strings.IndexFunc(rest, func(r rune) bool { return r != '_' && r != '$' && !unicode.IsLetter(r) && !unicode.IsDigit(r) })
			if n < 0 {
				n = len(rest)
			}
			out = append(out, word{text: rest[:n], identifier: true, at: i, end: i + n})
		case unicode.IsDigit(rune(c)):
			n = strings.IndexFunc(rest, func(r rune) bool { return r != '.' && !unicode.IsLetter(r) && !unicode.IsDigit(r) })
			if n < 0 {
				n = len(rest)
			}
		case c != ' ' && c != '\n' && c != '\t' && c != '\r':
			out = append(out, word{text: rest[:1], at: i, end: i + 1})
		}
		i += max(1, n)
	}
	return out
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
