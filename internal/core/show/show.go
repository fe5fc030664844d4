package show

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
)

// Show gives a value as people read it: references as addresses, bytes by the head of
// their SHA-256. Nil is null.
func Show(c *catalog.Catalog, field record.Field, v record.Value) *string {
	var text string
	switch v.Kind() {
	case record.Null, record.Absent:
		if why, ok := v.Unreadable(); ok {
			text = "cannot be read: " + why
			break
		}
		return nil
	case record.Reference:
		text = c.Address(v.Refers(), v.Key())
	case record.Woven:
		for _, piece := range v.Parts() {
			text += *Show(c, field, piece)
		}
	case record.Bytes:
		text = "file sha256:" + v.Text()[:12] + "…"
	default:
		text = v.Text()
	}
	return &text
}

// Readable gives a shown value for a sentence or a cell: null by its name, in quotes
// where blanks would not be seen, and without control characters, which a terminal
// would obey.
func Readable(text *string) string {
	switch {
	case text == nil:
		return "null"
	case *text == "" || strings.TrimSpace(*text) != *text:
		return strconv.Quote(*text)
	default:
		return Harmless(*text)
	}
}

// Count writes a number with its noun: one, or several where it is not 1. Where several is
// "" it is made from one.
func Count(n int, one, several string) string {
	switch {
	case n == 1:
		return "1 " + one
	case several == "":
		several = plural(one)
	}
	return fmt.Sprintf("%d %s", n, several)
}

// plural makes the regular plural of a noun.
func plural(noun string) string {
	for _, end := range []string{"s", "x", "z", "ch", "sh"} {
		if strings.HasSuffix(noun, end) {
			return noun + "es"
		}
	}
	if stem, ok := strings.CutSuffix(noun, "y"); ok && stem != "" && !strings.ContainsAny(stem[len(stem)-1:], "aeiou") {
		return stem + "ies"
	}
	return noun + "s"
}

// Written tells how many records an import adds, changes and removes.
func Written(added, changed, removed int) string {
	switch {
	case removed > 0 && added+changed > 0:
		var parts []string
		if added > 0 {
			parts = append(parts, fmt.Sprintf("%d new", added))
		}
		if changed > 0 {
			parts = append(parts, fmt.Sprintf("%d changed", changed))
		}
		return strings.Join(parts, ", ") + fmt.Sprintf(" and %d removed records", removed)
	case removed > 0:
		return Count(removed, "removed record", "removed records")
	case added > 0 && changed > 0:
		return fmt.Sprintf("%d new and %d changed records", added, changed)
	case added > 0:
		return Count(added, "new record", "new records")
	case changed > 0:
		return Count(changed, "changed record", "changed records")
	default:
		return "no records"
	}
}

// When writes a kept UTC time for people, with its zone; what is none stays as it is.
func When(stamp string) string {
	t, err := time.Parse(time.RFC3339, stamp)
	if err != nil {
		return stamp
	}
	return t.UTC().Format("2006-01-02 15:04 MST")
}
