package sequence

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func soft(to int64, field string) Edge { return Edge{To: to, Field: field} }
func hard(to int64, field string) Edge { return Edge{To: to, Field: field, Required: true} }

func late(to int64, field string) Edge { return Edge{To: to, Field: field, Required: true, Late: true} }

func TestOrder(t *testing.T) {
	for _, c := range []struct {
		name  string
		nodes []Node
		want  []Write
	}{
		{"by type, then as given", []Node{{ID: 3, Rank: 1, New: true}, {ID: 1, New: true}, {ID: 2, New: true}}, []Write{{ID: 1}, {ID: 2}, {ID: 3}}},
		{"updates before inserts of a type", []Node{{ID: 1, New: true}, {ID: 2}}, []Write{{ID: 2}, {ID: 1}}},
		{"an update waits for what it refers to", []Node{{ID: 1, New: true}, {ID: 2, Needs: []Edge{soft(1, "f")}}}, []Write{{ID: 1}, {ID: 2}}},
		{"a tree from its root", []Node{{ID: 1, New: true, Needs: []Edge{hard(2, "p")}}, {ID: 2, New: true, Needs: []Edge{hard(3, "p")}}, {ID: 3, New: true}}, []Write{{ID: 3}, {ID: 2}, {ID: 1}}},
		{"a circle in two passes", []Node{{ID: 1, New: true, Needs: []Edge{soft(2, "f")}}, {ID: 2, New: true, Needs: []Edge{soft(1, "f")}}},
			[]Write{{ID: 1, Without: []string{"f"}}, {ID: 2, Without: []string{"f"}}, {ID: 1, Only: []string{"f"}}, {ID: 2, Only: []string{"f"}}}},
		{"a circle with one side required", []Node{{ID: 1, New: true, Needs: []Edge{hard(2, "r")}}, {ID: 2, New: true, Needs: []Edge{soft(1, "o")}}},
			[]Write{{ID: 2, Without: []string{"o"}}, {ID: 1}, {ID: 2, Only: []string{"o"}}}},
		{"a record that refers to itself", []Node{{ID: 1, New: true, Needs: []Edge{soft(1, "f")}}}, []Write{{ID: 1, Without: []string{"f"}}, {ID: 1, Only: []string{"f"}}}},
		{"what only waits for a circle is written in one go", []Node{{ID: 1, New: true, Needs: []Edge{soft(2, "f")}}, {ID: 2, New: true, Needs: []Edge{soft(1, "f")}}, {ID: 3, New: true, Needs: []Edge{soft(1, "g")}}},
			[]Write{{ID: 1, Without: []string{"f"}}, {ID: 2, Without: []string{"f"}}, {ID: 3}, {ID: 1, Only: []string{"f"}}, {ID: 2, Only: []string{"f"}}}},
		{"a circle whose references may come late", []Node{{ID: 1, New: true, Needs: []Edge{late(2, "r")}}, {ID: 2, New: true, Needs: []Edge{hard(1, "s")}}},
			[]Write{{ID: 1, Without: []string{"r"}}, {ID: 2}, {ID: 1, Only: []string{"r"}}}},
		{"optional ones come late first", []Node{{ID: 1, New: true, Needs: []Edge{late(2, "r")}}, {ID: 2, New: true, Needs: []Edge{soft(1, "o")}}},
			[]Write{{ID: 2, Without: []string{"o"}}, {ID: 1}, {ID: 2, Only: []string{"o"}}}},
		{"a record that requires itself, late", []Node{{ID: 1, New: true, Needs: []Edge{late(1, "r")}}}, []Write{{ID: 1, Without: []string{"r"}}, {ID: 1, Only: []string{"r"}}}},
		{"a change that another one waits for", []Node{{ID: 1, Needs: []Edge{{To: 2, Required: true, Change: true}}}, {ID: 2, Needs: []Edge{{To: 3, Required: true, Change: true}}}, {ID: 3}}, []Write{{ID: 3}, {ID: 2}, {ID: 1}}},
		{"a change that is only referred to", []Node{{ID: 1, Needs: []Edge{hard(2, "f")}}, {ID: 2}}, []Write{{ID: 1}, {ID: 2}}},
		{"what is not in this import is no obstacle", []Node{{ID: 1, New: true, Needs: []Edge{hard(99, "f")}}}, []Write{{ID: 1}}},
	} {
		got, err := Order(c.nodes)
		require.NoError(t, err, c.name)
		assert.Equal(t, c.want, got, c.name)
	}
	_, err := Order([]Node{{ID: 1, New: true, Needs: []Edge{hard(2, "f")}}, {ID: 2, New: true, Needs: []Edge{hard(1, "f")}}, {ID: 3, New: true}})
	var circle *Circle
	require.ErrorAs(t, err, &circle)
	assert.Equal(t, []int64{1, 2}, circle.IDs)
}

// Whatever the references: everything is written once, nothing before what it refers
// to unless that reference comes in the second pass.
func TestOrderHoldsForAnyReferences(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 4))
	for range 2000 {
		n := 1 + random.IntN(12)
		nodes := make([]Node, n)
		for i := range nodes {
			nodes[i] = Node{ID: int64(i + 1), Rank: random.IntN(3), New: random.IntN(4) > 0}
			for e := range random.IntN(3) {
				nodes[i].Needs = append(nodes[i].Needs, soft(int64(1+random.IntN(n)), fmt.Sprint("f", e)))
			}
		}
		writes, err := Order(nodes)
		require.NoError(t, err)
		written, set := map[int64]bool{}, map[string]bool{}
		for _, w := range writes {
			node := nodes[w.ID-1]
			if len(w.Only) > 0 {
				require.True(t, written[w.ID])
				for _, f := range w.Only {
					set[fmt.Sprint(w.ID, f)] = true
				}
				continue
			}
			require.False(t, written[w.ID])
			for _, e := range node.Needs {
				if slices.Contains(w.Without, e.Field) {
					continue
				}
				set[fmt.Sprint(w.ID, e.Field)] = true
				require.True(t, !nodes[e.To-1].New || written[e.To], "%v in %v", w, nodes)
			}
			written[w.ID] = true
		}
		require.Len(t, written, n)
		for _, node := range nodes {
			for _, e := range node.Needs {
				require.True(t, set[fmt.Sprint(node.ID, e.Field)], "every reference is set in the end")
			}
		}
	}
}

func TestALongChainIsNoProblem(t *testing.T) {
	const n = 100_000
	nodes := make([]Node, n)
	for i := range nodes {
		nodes[i] = Node{ID: int64(i + 1), New: true, Needs: []Edge{soft(int64((i+1)%n+1), "next")}} // one circle of all
	}
	writes, err := Order(nodes)
	require.NoError(t, err)
	assert.Len(t, writes, 2*n)
}
