package sqlite

import (
	"modernc.org/sqlite"
	lib "modernc.org/sqlite/lib"

	"anagram/internal/core/pattern"
)

// What a trigger says when it refuses can hold values, so a refusal is told by its code and
// by the names that SQLite puts behind it, never in the trigger's words.

var (
	brokenNames = pattern.Of(`(?:UNIQUE|NOT NULL) constraint failed: (.*?)(?: \(\d+\))?$`)
	brokenRule  = pattern.Of(`CHECK constraint failed: (.*?)(?: \(\d+\))?$`)
	schemaError = pattern.Of(`no such (?:table|column|function|module): [\pL\pN_. "]+|table [\pL\pN_."]+ has no column named [\pL\pN_."]+`)
)

// refusal says which constraint refused something.
func refusal(err *sqlite.Error) string {
	name := func(where *pattern.Pattern) string {
		if m := where.FindStringSubmatch(err.Error()); m != nil {
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
