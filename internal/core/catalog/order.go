package catalog

import (
	"slices"

	"anagram/internal/core/graph"
)

// Dependency order: what is referred to comes before what refers to it, owners
// before parts, links last among equals, else the order of the file. Types that
// refer to each other in a circle stand together. Found by repeatedly taking the first
// circle, or type that is in none, that waits for nothing.

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
	components := graph.Components(edges)
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
