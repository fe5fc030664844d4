package sqlite

import (
	"regexp"

	"modernc.org/sqlite"
	lib "modernc.org/sqlite/lib"
)

// What a trigger says when it refuses can hold values, so a refusal is told by its code and
// by the names that SQLite puts behind it, never in the trigger's words.

var (
	brokenNames = regexp.MustCompile(`(?:UNIQUE|NOT NULL) constraint failed: (.*?)(?: \(\d+\))?$`)
	brokenRule  = regexp.MustCompile(`CHECK constraint failed: (.*?)(?: \(\d+\))?$`)
	schemaError = regexp.MustCompile(`no such (?:table|column|function|module): [\pL\pN_. "]+`)
)

// refusal says which constraint refused something.
func refusal(err *sqlite.Error) string {
	name := func(pattern *regexp.Regexp) string {
		if m := pattern.FindStringSubmatch(err.Error()); m != nil {
			return ": " + m[1]
		}
		return ""
	}
	switch err.Code() {
	case lib.SQLITE_CONSTRAINT_UNIQUE, lib.SQLITE_CONSTRAINT_PRIMARYKEY, lib.SQLITE_CONSTRAINT_ROWID:
		return "another record has the same values, which have to be unique" + name(brokenNames)
	case lib.SQLITE_CONSTRAINT_NOTNULL:
		return "a value is required and missing" + name(brokenNames)
	case lib.SQLITE_CONSTRAINT_CHECK:
		return "a rule is broken" + name(brokenRule)
	case lib.SQLITE_CONSTRAINT_FOREIGNKEY:
		return "a reference would point at nothing"
	case lib.SQLITE_CONSTRAINT_TRIGGER:
		return "a trigger refuses it"
	default:
		return "a constraint is broken"
	}
}
