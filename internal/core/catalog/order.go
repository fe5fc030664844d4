package catalog

import "slices"

// Dependency order: what is referred to comes before what refers to it, owners
// before parts, links last among equals, else the order of the file. Types that
// refer to each other in a circle stand together. Found with Tarjan's algorithm for
// strongly connected components, then by repeatedly taking the first ready component.

// orderTypes sorts types into dependency order.
func orderTypes(types []*Type) []*Type {
	at := map[string]int{}
	for i, t := range types {
		at[t.Name] = i
	}
	edges := make([][]int, len(types))
	for i, t := range types {
		for _, name := range t.Targets() {
			if to, ok := at[name]; ok {
				edges[i] = append(edges[i], to)
			}
		}
	}
	components := connected(edges)
	componentOf := make([]int, len(types))
	for c, members := range components {
		for _, i := range members {
			componentOf[i] = c
		}
	}
	waits := make([]int, len(components)) // components that must come first
	leads := make([]map[int]bool, len(components))
	for i, targets := range edges {
		for _, to := range targets {
			from, first := componentOf[i], componentOf[to]
			if from == first || leads[first][from] {
				continue
			}
			if leads[first] == nil {
				leads[first] = map[int]bool{}
			}
			leads[first][from] = true
			waits[from]++
		}
	}
	rank := func(c int) (int, int) {
		members := components[c]
		link := 0
		if types[members[0]].Link() {
			link = 1
		}
		return link, slices.Min(members)
	}
	var ready []int
	for c := range components {
		if waits[c] == 0 {
			ready = append(ready, c)
		}
	}
	ordered := make([]*Type, 0, len(types))
	for len(ready) > 0 {
		slices.SortFunc(ready, func(a, b int) int {
			linkA, firstA := rank(a)
			linkB, firstB := rank(b)
			if linkA != linkB {
				return linkA - linkB
			}
			return firstA - firstB
		})
		c := ready[0]
		ready = ready[1:]
		members := slices.Clone(components[c])
		slices.Sort(members)
		for _, i := range members {
			ordered = append(ordered, types[i])
		}
		for next := range leads[c] {
			if waits[next]--; waits[next] == 0 {
				ready = append(ready, next)
			}
		}
	}
	return ordered
}

// connected finds the strongly connected components of a graph.
func connected(edges [][]int) [][]int {
	index := make([]int, len(edges)) // order of first visit, from 1
	low := make([]int, len(edges))
	onStack := make([]bool, len(edges))
	var stack []int
	var components [][]int
	count := 0
	var visit func(int)
	visit = func(v int) {
		count++
		index[v], low[v] = count, count
		stack = append(stack, v)
		onStack[v] = true
		for _, w := range edges[v] {
			if index[w] == 0 {
				visit(w)
				low[v] = min(low[v], low[w])
			} else if onStack[w] {
				low[v] = min(low[v], index[w])
			}
		}
		if low[v] != index[v] {
			return
		}
		var members []int
		for {
			w := stack[len(stack)-1]
			stack = stack[:len(stack)-1]
			onStack[w] = false
			members = append(members, w)
			if w == v {
				break
			}
		}
		components = append(components, members)
	}
	for v := range edges {
		if index[v] == 0 {
			visit(v)
		}
	}
	return components
}
