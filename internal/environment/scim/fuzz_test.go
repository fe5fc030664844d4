package scim

import (
	"testing"

	"anagram/internal/core/record"
)

// A resource is read or refused, and what was read has an id.
func FuzzResource(f *testing.F) {
	f.Add([]byte(`{"id":"7","meta":{"version":"W/\"3\"","lastModified":"2026-01-02T03:04:05Z"},"userName":"mara","active":"True","emails":[{"value":"b"},{"value":"a"}]}`))
	f.Add([]byte(`{"ID":"7","emails":[[],{},null,[{"a":[1]}]],"active":1}`))
	p := &place{endpoint: "Users", columns: []column{
		{attribute: attribute{Name: idColumn}, kind: record.Text}, {attribute: attribute{Name: changedColumn}, kind: record.Timestamp}, {attribute: attribute{Name: "userName"}, kind: record.Text},
		{attribute: attribute{Name: "active", Type: "boolean"}, kind: record.Boolean}, {attribute: attribute{Name: "emails", Type: "complex", MultiValued: true}, kind: record.JSON},
	}}
	f.Fuzz(func(t *testing.T, text []byte) {
		row, err := p.row(text)
		if err == nil && row.Ref == "" {
			t.Fatal("a row without an id")
		}
	})
}
