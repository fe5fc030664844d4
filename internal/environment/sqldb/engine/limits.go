package engine

import (
	"strconv"
	"strings"

	"anagram/internal/core/catalog"
	"anagram/internal/core/pattern"
)

var quotedText = pattern.Of(`'((?:[^']|'')*)'`)

var sized = pattern.Of(`\((\d+)(?:\s*,\s*(\d+))?\)`)

// whole are the ranges of whole numbers by their name and whether they are unsigned.
var whole = map[string][2]string{
	"tinyint": {"-128", "127"}, "smallint": {"-32768", "32767"}, "mediumint": {"-8388608", "8388607"},
	"int": {"-2147483648", "2147483647"}, "integer": {"-2147483648", "2147483647"},
	"bigint": {"-9223372036854775808", "9223372036854775807"}, "tinyint unsigned": {"0", "255"}, "smallint unsigned": {"0", "65535"},
	"mediumint unsigned": {"0", "16777215"},
	"int unsigned":       {"0", "4294967295"}, "bigint unsigned": {"0", "18446744073709551615"},
}

// Limits reads from a declared type what fits, for engines that hold to it.
func Limits(declared string) catalog.Limits {
	declared = strings.ToLower(declared)
	var l catalog.Limits
	if strings.HasSuffix(declared, "[]") {
		return l
	}
	size := sized.FindStringSubmatch(declared)
	number := func(i int) int {
		if size == nil || size[i] == "" {
			return 0
		}
		n, _ := strconv.Atoi(size[i])
		return n
	}
	bare := strings.TrimSpace(sized.ReplaceAllString(declared, ""))
	bare = strings.TrimSuffix(strings.TrimSuffix(bare, " zerofill"), " signed")
	switch {
	case strings.HasPrefix(declared, "enum("):
		l.OneOf = QuotedWords(declared)
	case strings.HasPrefix(bare, "character varying"), strings.HasPrefix(bare, "varchar"), strings.HasPrefix(bare, "char"),
		strings.HasPrefix(bare, "nvarchar"):
		l.Characters = number(1)
	case bare == "numeric", bare == "decimal", bare == "decimal unsigned":
		l.Digits, l.Scale = number(1), number(2)
	case bare == "tinytext":
		l.Bytes = 255
	case bare == "mediumtext":
		l.Bytes = 1<<24 - 1
	default:
		if r, ok := whole[bare]; ok && declared != "tinyint(1)" {
			l.Least, l.Most = r[0], r[1]
		}
	}
	return l
}

// QuotedWords reads the words of enum('a','b').
func QuotedWords(declared string) []string {
	var out []string
	for _, m := range quotedText.FindAllStringSubmatch(declared, -1) {
		out = append(out, strings.ReplaceAll(m[1], "''", "'"))
	}
	return out
}
