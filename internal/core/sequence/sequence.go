// Package sequence puts approved findings into the order in which they are written.
//
// The contract: what is referred to is written before what refers to it, owners
// before parts, links last. Where new records refer to each other in a circle, they
// are first written without the references that close it, which are set in a second pass: the
// optional ones, and where those do not do, the late ones. The result depends on the findings alone, not on their order. Only
// ids and references are kept in memory, no values.
package sequence

import (
	"cmp"
	"container/heap"
	"fmt"
	"maps"
	"slices"

	"anagram/internal/core/graph"
)

// Node is one approved finding.
type Node struct {
	ID   int64
	Rank int  // of its record type, in dependency order
	New  bool // to be inserted; else an update
	// Removes says that the record is to be removed. It needs what refers to it: to be removed
	// or changed before.
	Removes bool
	Needs   []Edge
}

// Edge is a reference from one finding to a new one in the same docket.
type Edge struct {
	To       int64
	Field    string
	Required bool // cannot be written later: null is refused, or it is part of the key
	Late     bool // though Required it can, as something else may stand there until then
	// Change says that To counts although it is there already, as it is the change of it
	// that has to come first.
	Change bool
}

// Write is one step. A finding in a circle has two: first without the fields named
// in Without, then again with only those named in Only. One that is removed and in a circle
// is first rid of the references named in Clear.
type Write struct {
	ID      int64
	Without []string
	Only    []string
	Clear   []string
}

// Circle is a set of findings that need each other before any of them can be written.
type Circle struct{ IDs []int64 }

func (c *Circle) Error() string {
	return "records require each other in a circle, so none of them can be written first"
}

// Order gives the writes. Its error is a *Circle. Nodes are given in key order
// within their type; their order decides between equals.
func Order(nodes []Node) ([]Write, error) {
	at := make(map[int64]int, len(nodes))
	for i, n := range nodes {
		at[n.ID] = i
	}
	edges := make([][]edge, len(nodes))
	for i, n := range nodes {
		for _, e := range n.Needs {
			to, ok := at[e.To]
			if !ok || !nodes[to].New && !e.Change {
				continue
			}
			if to == i && e.Required && !e.Late {
				return nil, &Circle{IDs: []int64{n.ID}}
			}
			field := e.Field
			if n.Removes { // it is a field of what refers
				field = fmt.Sprint(e.To, " ", field)
			}
			edges[i] = append(edges[i], edge{to: to, field: field, of: e.Field, required: e.Required, late: e.Late})
		}
	}
	later := deferred(nodes, edges)
	order, stuck := topological(nodes, edges, later)
	if len(stuck) > 0 {
		circle := &Circle{}
		for _, i := range stuck {
			circle.IDs = append(circle.IDs, nodes[i].ID)
		}
		return nil, circle
	}
	writes := cleared(nodes, edges, later)
	var second []Write
	for _, i := range order {
		w := Write{ID: nodes[i].ID}
		if nodes[i].Removes {
			writes = append(writes, w)
			continue
		}
		for _, e := range edges[i] {
			if later[link{i, e.field}] && !slices.Contains(w.Without, e.field) {
				w.Without = append(w.Without, e.field)
			}
		}
		slices.Sort(w.Without)
		if len(w.Without) > 0 {
			second = append(second, Write{ID: w.ID, Only: w.Without})
		}
		writes = append(writes, w)
	}
	return append(writes, second...), nil
}

// cleared gives the writes that take references between records away which are removed and
// could not be removed in any order.
func cleared(nodes []Node, edges [][]edge, later map[link]bool) []Write {
	fields := map[int][]string{}
	for i := range nodes {
		for _, e := range edges[i] {
			if nodes[i].Removes && later[link{i, e.field}] && !e.required && !slices.Contains(fields[e.to], e.of) {
				fields[e.to] = append(fields[e.to], e.of)
			}
		}
	}
	out := []Write{}
	for _, i := range slices.Sorted(maps.Keys(fields)) {
		slices.Sort(fields[i])
		out = append(out, Write{ID: nodes[i].ID, Clear: fields[i]})
	}
	return out
}

type edge struct {
	to       int
	field    string // names the edge among those of its node
	of       string // the field itself
	required bool
	late     bool
}

type link struct {
	from  int
	field string
}

// deferred chooses the references that are set in the second pass: those between findings
// that cannot be ordered otherwise, optional ones first.
func deferred(nodes []Node, edges [][]edge) map[link]bool {
	later := map[link]bool{}
	for _, may := range []func(edge) bool{
		func(e edge) bool { return !e.required },
		func(e edge) bool { return e.late },
	} {
		_, stuck := topological(nodes, edges, later)
		if len(stuck) == 0 {
			return later
		}
		// What is stuck is a circle or waits for one. Only references inside a circle
		// are put off, so that everything else is written in one go.
		group := circles(stuck, edges, later)
		for _, i := range stuck {
			for _, e := range edges[i] {
				if same, ok := group[e.to]; ok && same == group[i] && may(e) {
					later[link{i, e.field}] = true
				}
			}
		}
	}
	return later
}

// topological takes the first ready node again and again; stuck are those left.
func topological(nodes []Node, edges [][]edge, later map[link]bool) (order, stuck []int) {
	waits := make([]int, len(nodes))
	leads := map[int][]int{}
	for i := range nodes {
		for _, e := range edges[i] {
			if !later[link{i, e.field}] {
				waits[i]++
				leads[e.to] = append(leads[e.to], i)
			}
		}
	}
	ready := &readyHeap{nodes: nodes}
	for i := range nodes {
		if waits[i] == 0 {
			ready.items = append(ready.items, i)
		}
	}
	heap.Init(ready)
	done := make([]bool, len(nodes))
	for ready.Len() > 0 {
		i := heap.Pop(ready).(int)
		done[i] = true
		order = append(order, i)
		for _, next := range leads[i] {
			if waits[next]--; waits[next] == 0 {
				heap.Push(ready, next)
			}
		}
	}
	for i := range nodes {
		if !done[i] {
			stuck = append(stuck, i)
		}
	}
	return order, stuck
}

// readyHeap orders by type rank, then updates before inserts (an update may free a
// unique value that an insert takes), then the order given.
type readyHeap struct {
	nodes []Node
	items []int
}

func (h *readyHeap) Len() int { return len(h.items) }
func (h *readyHeap) Less(a, b int) bool {
	x, y := h.items[a], h.items[b]
	n, m := h.nodes[x], h.nodes[y]
	if c := cmp.Compare(n.Rank, m.Rank); c != 0 {
		return c < 0
	}
	if n.New != m.New {
		return !n.New
	}
	return x < y
}
func (h *readyHeap) Swap(a, b int) { h.items[a], h.items[b] = h.items[b], h.items[a] }
func (h *readyHeap) Push(x any)    { h.items = append(h.items, x.(int)) }
func (h *readyHeap) Pop() any {
	last := len(h.items) - 1
	x := h.items[last]
	h.items = h.items[:last]
	return x
}

// circles numbers the circles among the stuck nodes, without what is put off.
func circles(stuck []int, edges [][]edge, later map[link]bool) map[int]int {
	at := make(map[int]int, len(stuck))
	for n, i := range stuck {
		at[i] = n
	}
	inside := make([][]int, len(stuck))
	for n, i := range stuck {
		for _, e := range edges[i] {
			if to, ok := at[e.to]; ok && !later[link{i, e.field}] {
				inside[n] = append(inside[n], to)
			}
		}
	}
	out := make(map[int]int, len(stuck))
	for number, members := range graph.Components(inside) {
		for _, n := range members {
			out[stuck[n]] = number
		}
	}
	return out
}
