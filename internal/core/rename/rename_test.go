package rename

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"anagram/internal/core/record"
)

func values(texts ...string) []record.Value {
	out := make([]record.Value, len(texts))
	for i, text := range texts {
		if text != "" {
			out[i], _ = record.TextValue(text)
		}
	}
	return out
}

func TestLikelyRenames(t *testing.T) {
	for name, c := range map[string]struct {
		source, target [][]record.Value
		want           []Pair
	}{
		"one long text is enough":          {[][]record.Value{values("Specimen haemolysed")}, [][]record.Value{values("Specimen haemolysed")}, []Pair{{0, 100, 1, 1}}},
		"a short one is not":               {[][]record.Value{values("10")}, [][]record.Value{values("10")}, nil},
		"three short ones are":             {[][]record.Value{values("a", "b", "c", "x")}, [][]record.Value{values("a", "b", "c", "y")}, []Pair{{0, 100, 3, 4}}},
		"half is too little":               {[][]record.Value{values("a long enough text", "b", "c", "d")}, [][]record.Value{values("a long enough text", "b", "x", "y")}, nil},
		"nulls on both sides do not count": {[][]record.Value{values("a long enough text", "", "")}, [][]record.Value{values("a long enough text", "", "")}, []Pair{{0, 100, 1, 1}}},
		"the best one, and each once": {[][]record.Value{values("a long enough text", "b", "c"), values("a long enough text", "b", "d")},
			[][]record.Value{values("a long enough text", "b", "d"), values("a long enough text", "b", "e")}, []Pair{{1, 100, 3, 3}}},
		"nothing alike": {[][]record.Value{values("one text of its own")}, [][]record.Value{values("another text of its own")}, nil},
	} {
		var f Finder
		for i, v := range c.source {
			f.Source(int64(i), v)
		}
		for i, v := range c.target {
			f.Target(int64(100+i), v)
		}
		got := f.Likely()
		if name == "the best one, and each once" {
			assert.Equal(t, c.want[0], got[0], name)
			assert.Len(t, got, 1, name) // the others agree in two of three fields
			continue
		}
		assert.Equal(t, c.want, got, name)
	}
}

// Many records that share a value do not take the square of the time.
func TestManyRecordsThatLookAlike(t *testing.T) {
	var f Finder
	for i := range int64(100_000) {
		f.Source(i, values("the same text in all of them", fmt.Sprint(i)))
		f.Target(1_000_000+i, values("the same text in all of them", fmt.Sprint(-1-i)))
	}
	start := time.Now()
	assert.Empty(t, f.Likely())
	assert.Less(t, time.Since(start), 20*time.Second)
}
