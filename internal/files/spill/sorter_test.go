package spill

import (
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/tests"
)

func TestSortsWhateverTheBudget(t *testing.T) {
	random := rand.New(rand.NewPCG(5, 6))
	var want []string
	for range tests.Times(2000, 5000) {
		want = append(want, fmt.Sprintf("%03d|%05d", random.IntN(400), random.IntN(100_000)))
	}
	for _, budget := range []int{100, 5000, 1 << 30} { // hundreds of runs, some runs, none
		dir := t.TempDir()
		s := NewSorter(dir)
		s.budget = budget
		for _, e := range want {
			require.NoError(t, s.Add(Entry{Order: e[:3], Payload: []byte(e[4:])}))
		}
		assert.Equal(t, len(want), s.Count())
		var got []string
		for e, err := range s.Sorted() {
			require.NoError(t, err)
			got = append(got, e.Order+"|"+string(e.Payload))
		}
		sorted := slices.Clone(want)
		slices.Sort(sorted)
		assert.Equal(t, sorted, got, "budget %d", budget)
		s.Close()
		left, err := os.ReadDir(dir)
		require.NoError(t, err)
		assert.Empty(t, left, "nothing stays behind")
	}
}

func TestAReaderMayStopEarly(t *testing.T) {
	s := NewSorter(t.TempDir())
	s.budget = 200
	defer s.Close()
	for i := range 100 {
		require.NoError(t, s.Add(Entry{Order: fmt.Sprint(1000 - i)}))
	}
	for e, err := range s.Sorted() {
		require.NoError(t, err)
		assert.Equal(t, "1000", e.Order)
		break
	}
}
