package condition

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"anagram/internal/core/record"
)

// FuzzCompile makes conditions out of anything: one that compiles compiles again to the
// same, and whatever it holds for is never narrowed away.
func FuzzCompile(f *testing.F) {
	r := rand.New(rand.NewPCG(1, 2))
	for range 40 {
		f.Add(some(r, 3))
	}
	for _, seed := range []string{"name == 'A'", "n in [1,2]", "loose == 'x' || n != 3", "price > -3", "date('2026-01-01') > day", "\"\\u0000\"", "!on", "n == null ? on : name < 'B'"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		c, err := Compile(text, "item", narrowFields)
		if err != nil {
			return
		}
		again, err := Compile(c.Text(), "item", narrowFields)
		require.NoError(t, err)
		require.Equal(t, show(c.Narrow()), show(again.Narrow()))
		require.Equal(t, c.Fields(), again.Fields())
		if c.Narrow() == nil {
			return
		}
		r := rand.New(rand.NewPCG(3, uint64(len(text))))
		for range 12 {
			values := make([]record.Value, len(c.Fields()))
			for i, field := range c.Fields() {
				if r.IntN(5) > 0 {
					values[i], err = record.Parse(field.Kind, narrowValues[field.Kind][r.IntN(len(narrowValues[field.Kind]))])
					require.NoError(t, err)
				}
			}
			holds, err := c.Holds(values, func(v record.Value) string { return v.Text() })
			if err == nil && holds {
				require.True(t, fulfils(t, c.Narrow(), c.Fields(), values), "%s holds for %v, which %s leaves out", text, values, show(c.Narrow()))
			}
		}
	})
}
