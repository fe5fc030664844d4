package query

import (
	"fmt"
	"strings"

	"anagram/internal/environment/sqldb/engine"
)

// Identity is how an environment itself tells a record: its internal id, or the
// stored values of its key.
type Identity []any

// Text is how an identity is shown.
func (id Identity) Text() string {
	parts := make([]string, len(id))
	for i, stored := range id {
		parts[i] = engine.StoredText(stored)
	}
	return strings.Join(parts, ", ")
}

// MapKey is text in which no two ids are the same.
func (id Identity) MapKey() string {
	if len(id) == 1 {
		return engine.StoredText(id[0])
	}
	out := ""
	for _, stored := range id {
		text := engine.StoredText(stored)
		out += fmt.Sprintf("%d:%s", len(text), text)
	}
	return out
}

// HasNull reports whether a part of an identity is null.
func (id Identity) HasNull() bool {
	for _, stored := range id {
		if stored == nil {
			return true
		}
	}
	return false
}
