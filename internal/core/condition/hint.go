package condition

import (
	"strings"

	"anagram/internal/core/pattern"
)

// What people write who know other languages, and how it is written here.
var otherWords = []struct {
	wrote *pattern.Pattern
	say   string
}{
	{pattern.Of(`(^|[^=!<>])=($|[^=])`), "two values are compared with ==, not with ="},
	{pattern.Of(`<>`), "two values that differ are written with !=, not with <>"},
	{pattern.Of(`(?i)\band\b`), "two conditions that both have to hold are joined by &&, not by AND"},
	{pattern.Of(`(?i)\bor\b`), "two conditions of which one has to hold are joined by ||, not by OR"},
	{pattern.Of(`(?i)\bis\s+(not\s+)?null\b`), "nothing is written as in field == null, or field != null"},
	{pattern.Of(`(?i)\bnot\b`), "what does not hold is written as !(…), not with NOT"},
	{pattern.Of(`(?i)\blike\b`), "a part of a text is asked for with field.contains('…') or field.startsWith('…'), not with LIKE"},
	{pattern.Of(`(?i)\bin\s*\(`), "one of several values is written as in field in ['A', 'B']"},
	{pattern.Of(`(?i)\bbetween\b`), "a range is written as field >= 1 && field <= 5"},
}

var quotedText = pattern.Of(`'(?:\\.|[^'\\])*'|"(?:\\.|[^"\\])*"`)

// inOurWords says how a condition that cannot be read would be written, "" where nothing in it
// tells. What stands in quotes is data.
func inOurWords(text string) string {
	bare := quotedText.ReplaceAllString(text, "''")
	var said []string
	for _, w := range otherWords {
		if w.wrote.MatchString(bare) {
			said = append(said, w.say)
		}
	}
	if len(said) == 0 {
		return ""
	}
	return strings.Join(said, "; ")
}
