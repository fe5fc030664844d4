package match

import (
	"fmt"
	"testing"

	"anagram/internal/core/record"
)

// BenchmarkJoin compares two sides of 10,000 records in which every tenth differs.
func BenchmarkJoin(b *testing.B) {
	var source, target []record.Record
	for i := range 10_000 {
		key := fmt.Sprintf("R%06d", i)
		source = append(source, rec(key, "name", "1"))
		target = append(target, rec(key, "name", []string{"1", "2"}[min(i%10, 1)]))
	}
	b.ResetTimer()
	for range b.N {
		in := Input{Fields: fields, Source: stream(source), Target: stream(target),
			InScope: func(record.Key) bool { return true }, Ambiguous: func(record.Key) bool { return false }}
		if _, err := Join(in, func(Finding) error { return nil }); err != nil {
			b.Fatal(err)
		}
	}
}
