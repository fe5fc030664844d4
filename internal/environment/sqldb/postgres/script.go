package postgres

import (
	"encoding/hex"
	"fmt"
	"strings"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
	"anagram/internal/environment/sqldb/engine"
)

// What a script for somebody else holds: constants and comparisons that no setting bends.

// frame makes a script one transaction.
var frame = engine.ScriptFrame{
	// The commit fails while anagram_whole has two rows that are alike, also where a client
	// went on after an error.
	Begin: "BEGIN;\nSET LOCAL standard_conforming_strings = on;\nSET LOCAL client_encoding = 'UTF8';\nSET LOCAL DateStyle = 'ISO, YMD';\nSET LOCAL IntervalStyle = 'iso_8601';\nSET LOCAL bytea_output = 'hex';\nSET LOCAL TIME ZONE 'UTC';\n" +
		engine.ScriptTable("TEMP", "", " ON COMMIT DROP") +
		"\nCREATE TEMP TABLE anagram_whole (part INTEGER, not_all_of_the_script_was_done INTEGER UNIQUE DEFERRABLE INITIALLY DEFERRED) ON COMMIT DROP;\nINSERT INTO anagram_whole VALUES (1, 1), (2, 1);",
	End: func(steps int) string {
		return fmt.Sprintf("DELETE FROM anagram_whole WHERE part = 2 AND (SELECT n FROM anagram_script) = %d;\nCOMMIT;", steps)
	}}

// Literal writes a value as PostgreSQL reads it.
func (dialect) Literal(stored any) string {
	if content, ok := stored.([]byte); ok {
		return `decode('` + hex.EncodeToString(content) + "', 'hex')"
	}
	if text, ok := stored.(string); ok && !engine.Plain(text) {
		return escaped(text)
	}
	return engine.PlainLiteral(stored)
}

// escaped writes a text in ASCII, as a constant whose escapes hold whatever the session says.
func escaped(text string) string {
	var out strings.Builder
	out.WriteString("E'")
	for _, r := range text {
		switch {
		case r == '\'' || r == '\\':
			out.WriteRune(r)
			out.WriteRune(r)
		case r >= 0x20 && r <= 0x7e:
			out.WriteRune(r)
		case r > 0xffff:
			fmt.Fprintf(&out, `\U%08X`, r)
		default:
			fmt.Fprintf(&out, `\u%04X`, r)
		}
	}
	return out.String() + "'"
}

// same compares texts byte by byte, and by the column's collation, which an index has.
func same(column string, c catalog.Column, stored any, literal string) string {
	own := c.Loose || c.Declared != "text" && !strings.HasPrefix(c.Declared, "character") // a type whose equality may be its own
	if _, ok := stored.(string); !ok || c.Kind != record.Text || !own {
		return column + " = " + literal
	}
	return fmt.Sprintf(`%[1]s = %[2]s AND %[1]s::text = %[2]s COLLATE "C"`, column, literal)
}
