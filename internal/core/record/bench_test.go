package record

import "testing"

const benchLine = `{"key":[["mg"],7],"values":{"active":true,"amount":"1.5","extra":{"json":{"a":[1e5,null]}},"node":[[null,"A"],"B"]}}`

// BenchmarkParseLine reads one record whole.
func BenchmarkParseLine(b *testing.B) {
	for range b.N {
		if _, err := ParseLine([]byte(benchLine), "assay", lineFields, lineShapes); err != nil {
			b.Fatal(err)
		}
	}
}

// BenchmarkLineKey reads only its key.
func BenchmarkLineKey(b *testing.B) {
	for range b.N {
		if _, ok := lineShapes.LineKey([]byte(benchLine), "assay"); !ok {
			b.Fatal("the key was not read")
		}
	}
}

// BenchmarkAppendLine writes one record.
func BenchmarkAppendLine(b *testing.B) {
	r, err := ParseLine([]byte(benchLine), "assay", lineFields, lineShapes)
	if err != nil {
		b.Fatal(err)
	}
	var out []byte
	b.ResetTimer()
	for range b.N {
		out = AppendLine(out[:0], lineFields, r)
	}
}
