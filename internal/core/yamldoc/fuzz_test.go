package yamldoc

import (
	"testing"
	"time"
)

// Whatever stands in a configuration, reading it ends soon, with a document or an error.
func FuzzConfigurations(f *testing.F) {
	for _, seed := range []string{"a: b", "a: [b, {c: d}]", "- - - a", "? a\n: b", "a: |\n  x\n", "a: &x b\nc: *x", "%YAML 1.2\n---\na", "\"a\\\"b\": 'c''d'", "a: !!str b", "\ta: b", "a:\n b:\n  c:\n"} {
		f.Add([]byte(seed))
	}
	f.Fuzz(func(t *testing.T, source []byte) {
		start := time.Now()
		doc, err := Parse("x.yaml", source)
		if err == nil {
			var into map[string]any
			_ = doc.Decode(&into)
			_ = doc.Names("a")
			_ = doc.Line("a", "b")
		}
		if time.Since(start) > 5*time.Second {
			t.Fatal("it takes too long")
		}
	})
}
