package mysql

import (
	"fmt"
	"strings"

	"github.com/go-sql-driver/mysql"

	"anagram/internal/core/pattern"
)

// What the server says about a refusal can hold values ("Duplicate entry '...'"). So it is
// told by its number and by the names in it (MariaDB and MySQL, "Error Codes"), never in the
// server's words.

// refusals say what a number means, and where in the server's text a name stands.
var refusals = map[uint16]struct {
	what string
	name *pattern.Pattern
}{
	1048: {"a value is required and missing", column},
	1062: {"another record has the same values, which have to be unique", pattern.Of(`for (key) '([^']*)'$`)},
	1264: {"a number is out of range", column},
	1265: {"a value does not fit", column},
	1292: {"a date or time cannot be read", column},
	1364: {"a value is required and missing", pattern.Of(`^(Field) '([^']*)'`)},
	1366: {"a value is none of its column's type", column},
	1406: {"a text is longer than its column", column},
	1451: {"others refer to what would change", constraint},
	1452: {"a reference would point at nothing", constraint},
	1644: {"a trigger or procedure refuses it", nil},
	1690: {"a number is out of range", nil},
	3819: {"a rule is broken", pattern.Of(`^Check (constraint) '([^']*)'`)},
	3140: {"a JSON text cannot be read", column},
	4025: {"a rule is broken", pattern.Of("^(CONSTRAINT) `([^`]*)`")},
}

var (
	column     = pattern.Of("(?i)(column) '?([\\pL\\pN_$.` ]+?)'?(?: at row \\d+| cannot be null)?\\.?$|(?i)^(column) '([^']*)' cannot be null")
	constraint = pattern.Of("(CONSTRAINT) `([^`]*)` FOREIGN KEY")
)

// refusal says what the server refused, without a word of the server's own; ok is false for
// a number that is no refusal.
func refusal(my *mysql.MySQLError) (text string, ok bool) {
	known, ok := refusals[my.Number]
	if !ok && my.SQLState != [5]byte{'4', '5', '0', '0', '0'} && !strings.HasPrefix(string(my.SQLState[:]), "22") &&
		!strings.HasPrefix(string(my.SQLState[:]), "23") {
		return "", false
	}
	if !ok {
		known.what = fmt.Sprintf("error %d", my.Number)
	}
	text = "the database refuses it: " + known.what
	if known.name != nil {
		for _, m := range known.name.FindAllStringSubmatch(my.Message, 1) {
			m = filled(m)
			if len(m) == 2 {
				text += ": " + strings.ToLower(m[0]) + " " + strings.ReplaceAll(m[1], "`", "")
			}
		}
	}
	return text + ".", true
}

// filled gives what a match found in its groups, without the whole and the empty ones.
func filled(match []string) []string {
	var out []string
	for _, group := range match[1:] {
		if group != "" {
			out = append(out, group)
		}
	}
	return out
}

// troubles say what a number means that is no refusal of a value.
var troubles = map[uint16]string{
	1021: "its disk is full",
	1040: "it has no connection left",
	1054: "a column is not there",
	1146: "a table is not there",
	1203: "the account has too many connections",
	1226: "the account has used up what it may",
	1290: "it is read only",
	1317: "the statement was cancelled",
	1836: "it is read only",
	1969: "the statement took too long",
	3024: "the statement took too long",
}

// trouble says what else the server reports.
func trouble(my *mysql.MySQLError) string {
	if what, ok := troubles[my.Number]; ok {
		return fmt.Sprintf("the server reports: %s (%d).", what, my.Number)
	}
	return fmt.Sprintf("the server reports an error (%d); its log has the details.", my.Number)
}
