package text

import (
	"fmt"
	"strings"

	"anagram/internal/core/show"
)

// Count writes a number and its noun, singular or plural.
func Count(n int, noun string) string { return show.Count(n, noun, "") }

// When writes a kept UTC time for people, with its zone.
func When(stamp string) string { return show.When(stamp) }

// Size writes a number of bytes.
func Size(n int64) string {
	switch {
	case n < 1000:
		return fmt.Sprintf("%d B", n)
	case n < 1000*1000:
		return fmt.Sprintf("%.1f kB", float64(n)/1e3)
	default:
		return fmt.Sprintf("%.1f MB", float64(n)/1e6)
	}
}

// Some lists the first names and how many more there are.
func Some(names []string, most int) string {
	if len(names) <= most {
		return strings.Join(names, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(names[:most], ", "), len(names)-most)
}
