// Package graph finds the circles of a graph.
//
// The contract: nodes are numbers from 0; edges lists for each the nodes that it leads to.
// Time and memory are linear in nodes and edges, and no chain is too long: nothing recurs.
package graph

// Components gives the strongly connected components: nodes that lead to each other, in
// both directions and however far, are in one; every other node is in one alone. A
// component comes after all that it leads to. (Tarjan's algorithm.)
func Components(edges [][]int) [][]int {
	t := tarjan{edges: edges, index: make([]int, len(edges)), low: make([]int, len(edges)), onStack: make([]bool, len(edges))}
	for v := range edges {
		if t.index[v] == 0 {
			t.visit(v)
		}
	}
	return t.components
}

type tarjan struct {
	edges      [][]int
	index      []int // order of first visit, from 1; 0 is not visited
	low        []int // the least index that is reached from the node on the stack
	onStack    []bool
	stack      []int
	count      int
	components [][]int
}

// frame is a node that is being visited, and which of its edges comes next.
type frame struct{ node, edge int }

func (t *tarjan) visit(root int) {
	frames := []frame{t.enter(root)}
	for len(frames) > 0 {
		f := &frames[len(frames)-1]
		v := f.node
		if f.edge < len(t.edges[v]) {
			w := t.edges[v][f.edge]
			f.edge++
			switch {
			case t.index[w] == 0:
				frames = append(frames, t.enter(w))
			case t.onStack[w]:
				t.low[v] = min(t.low[v], t.index[w])
			}
			continue
		}
		frames = frames[:len(frames)-1]
		if len(frames) > 0 {
			parent := frames[len(frames)-1].node
			t.low[parent] = min(t.low[parent], t.low[v])
		}
		if t.low[v] == t.index[v] {
			t.leave(v)
		}
	}
}

func (t *tarjan) enter(v int) frame {
	t.count++
	t.index[v], t.low[v], t.onStack[v] = t.count, t.count, true
	t.stack = append(t.stack, v)
	return frame{node: v}
}

// leave takes the component off the stack whose first visited node is v.
func (t *tarjan) leave(v int) {
	var members []int
	for {
		w := t.stack[len(t.stack)-1]
		t.stack = t.stack[:len(t.stack)-1]
		t.onStack[w] = false
		members = append(members, w)
		if w == v {
			break
		}
	}
	t.components = append(t.components, members)
}
