package graph

import (
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
)

func sorted(components [][]int) [][]int {
	for _, c := range components {
		slices.Sort(c)
	}
	slices.SortFunc(components, slices.Compare)
	return components
}

func TestComponents(t *testing.T) {
	for _, c := range []struct {
		what  string
		edges [][]int
		want  [][]int
	}{
		{"nothing", nil, nil},
		{"alone", [][]int{{}, {}}, [][]int{{0}, {1}}},
		{"itself", [][]int{{0}}, [][]int{{0}}},
		{"a chain", [][]int{{1}, {2}, {}}, [][]int{{0}, {1}, {2}}},
		{"a circle with a tail", [][]int{{1}, {2}, {0}, {0}}, [][]int{{0, 1, 2}, {3}}},
		{"two circles that share a node", [][]int{{1}, {0, 2}, {1}}, [][]int{{0, 1, 2}}},
		{"two circles, one leading to the other", [][]int{{1}, {0, 2}, {3}, {2}}, [][]int{{0, 1}, {2, 3}}},
	} {
		assert.Equal(t, c.want, sorted(Components(c.edges)), c.what)
	}
}

// TestComponentsAreThoseThatReachEachOther compares with the plain definition.
func TestComponentsAreThoseThatReachEachOther(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 5))
	for range 300 {
		n := 1 + random.IntN(12)
		edges := make([][]int, n)
		reach := make([][]bool, n)
		for v := range edges {
			reach[v] = make([]bool, n)
			reach[v][v] = true
			for w := range n {
				if random.IntN(5) == 0 {
					edges[v] = append(edges[v], w)
					reach[v][w] = true
				}
			}
		}
		for k := range n {
			for v := range n {
				for w := range n {
					reach[v][w] = reach[v][w] || reach[v][k] && reach[k][w]
				}
			}
		}
		components := Components(edges)
		at := make([]int, n)
		for i, c := range components {
			for _, v := range c {
				at[v] = i
			}
		}
		for v := range n {
			for w := range n {
				assert.Equal(t, reach[v][w] && reach[w][v], at[v] == at[w], "%v: %d and %d", edges, v, w)
				if reach[v][w] {
					assert.GreaterOrEqual(t, at[v], at[w], "%v: %d leads to %d, which comes first", edges, v, w)
				}
			}
		}
	}
}

func TestALongChainIsNoTrouble(t *testing.T) {
	edges := make([][]int, 500_000)
	for v := range len(edges) - 1 {
		edges[v] = []int{v + 1}
	}
	edges[len(edges)-1] = []int{0}
	assert.Len(t, Components(edges), 1)
}
