package postgres

import (
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"

	"anagram/internal/core/pattern"
)

// What the server says about a refusal can hold values, of secret columns too ("Failing row
// contains ..."). So it is told by its code and by the names that come with it (appendix
// "PostgreSQL Error Codes"), never in the server's words.

// refusals say what a code means; the names that are known are put behind.
var refusals = map[string]string{
	"22001": "a text is longer than its column",
	"22003": "a number is out of range",
	"22007": "a date or time cannot be read",
	"22008": "a date or time is out of range",
	"22012": "something is divided by zero",
	"22021": "a text has signs that its encoding does not know",
	"22P02": "a value is none of its column's type",
	"22P05": "a text has signs that its encoding does not know",
	"23502": "a value is required and missing",
	"23503": "a reference would point at nothing",
	"23505": "another record has the same values, which have to be unique",
	"23514": "a rule is broken",
	"23P01": "another record is in the way, by a rule of exclusion",
	"428C9": "a value was given for a column that the server fills by itself",
	"44000": "a view does not show such records",
}

var procedure = pattern.Of(`^PL/pgSQL function ([\pL\pN_."]+)\(`)

// permission is how the server says that a right is missing.
var permission = pattern.Of(`^permission denied for (?:\w+ )+[\pL\pN_"]+$|^must be owner of (?:\w+ )+[\pL\pN_"]+$`)

var quotedName = pattern.Of(`"([\pL\pN_]+)"`)

// named gives the name in quotes in a text of the server's own, "" where there is none.
func named(message string) string {
	if m := quotedName.FindStringSubmatch(message); m != nil {
		return m[1]
	}
	return ""
}

// refusal says what the server refused, without a word of the server's own.
func refusal(pg *pgconn.PgError) string {
	what, known := refusals[pg.Code]
	switch {
	case known:
	case strings.HasPrefix(pg.Code, "22"):
		what = "a value does not fit (" + pg.Code + ")"
	case strings.HasPrefix(pg.Code, "23"):
		what = "a constraint is broken (" + pg.Code + ")"
	default:
		what = "a trigger or function refuses it (" + pg.Code + ")"
	}
	var names []string
	add := func(word, name string) {
		if name != "" {
			names = append(names, word+" "+name)
		}
	}
	add("constraint", pg.ConstraintName)
	add("column", pg.ColumnName)
	add("type", pg.DataTypeName)
	add("table", pg.TableName)
	if m := procedure.FindStringSubmatch(pg.Where); m != nil {
		add("function", m[1])
	}
	if len(names) > 0 {
		what += ": " + strings.Join(names, ", ")
	}
	return "the database refuses it: " + what + "."
}

// troubles say what a code means that is no refusal of a value.
var troubles = map[string]string{
	"25006": "it is read only",
	"42501": "the account has no right to",
	"42703": "a column is not there",
	"42883": "a function is not there",
	"42P01": "a table is not there",
	"53100": "its disk is full",
	"53200": "it has no memory left",
	"53300": "it has no connection left",
	"57014": "the statement was cancelled, by a limit of time or by somebody",
	"58030": "its disk cannot be read or written",
}

// trouble says what else the server reports.
func trouble(pg *pgconn.PgError) string {
	if what, ok := troubles[pg.Code]; ok {
		return fmt.Sprintf("the server reports: %s (%s).", what, pg.Code)
	}
	return fmt.Sprintf("the server reports an error (%s); its log has the details.", pg.Code)
}
