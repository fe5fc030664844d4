package flow

import (
	"strconv"
	"strings"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
)

// Show gives a value as people read it: references as addresses, bytes by the head of
// their SHA-256. Nil is null.
func Show(c *catalog.Catalog, field record.Field, v record.Value) *string {
	var text string
	switch v.Kind() {
	case record.Null, record.Absent:
		return nil
	case record.Reference:
		text = c.Address(field.Refers, v.Key())
	case record.Bytes:
		text = "file sha256:" + v.Text()[:12] + "…"
	default:
		text = v.Text()
	}
	return &text
}

// Readable gives a shown value for a sentence or a cell: null by its name, in quotes
// where blanks would not be seen.
func Readable(text *string) string {
	switch {
	case text == nil:
		return "null"
	case *text == "" || strings.TrimSpace(*text) != *text:
		return strconv.Quote(*text)
	default:
		return *text
	}
}
