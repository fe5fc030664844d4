package engine

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"anagram/internal/core/catalog"
)

func TestRightsInWords(t *testing.T) {
	assert.Equal(t, "read and write all tables", RightsText(3, 3, 3))
	assert.Equal(t, "read all tables, write no table", RightsText(3, 3, 0))
	assert.Equal(t, "read 2 of 3 tables, write 1 of 3 tables", RightsText(3, 2, 1))
}

func TestPartlyUnique(t *testing.T) {
	for predicate, want := range map[string]catalog.PartlyUnique{
		"deleted_at IS NULL": {Field: "deleted_at", When: "null"}, "(deleted_at IS NULL)": {Field: "deleted_at", When: "null"}, `"gone" is not null`: {Field: "gone", When: "not null"},
		"active": {Field: "active", Value: "true"}, "(NOT deleted)": {Field: "deleted", Value: "false"}, "active = true": {Field: "active", Value: "true"}, "status = 'A'": {Field: "status", Value: "A"},
		"((status)::text = 'A'::text)": {Field: "status", Value: "A"}, "kind = 1": {Field: "kind", Value: "1"},
	} {
		got, ok := PartlyUnique(predicate, nil)
		assert.True(t, ok, predicate)
		assert.Equal(t, want, got, predicate)
	}
	for _, predicate := range []string{"a IS NULL AND b IS NULL", "lower(code) = 'x'", "a > 1", "a = b OR c", "", "x = null", "a IN (1, 2)"} {
		got, ok := PartlyUnique(predicate, nil)
		assert.False(t, ok, "%s: %+v", predicate, got)
	}
}
