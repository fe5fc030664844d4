package prepare

import (
	"errors"
	"fmt"
	"strings"

	"anagram/internal/core/match"
	"anagram/internal/core/sequence"
	"anagram/internal/flow/standing"
)

// Order puts what is left into writing order.
func Order(r Ready, rest Rest) ([]sequence.Write, error) {
	ranks := map[string]int{}
	for i, t := range r.Docket.Types {
		ranks[t.Name] = i
	}
	nodes := make([]sequence.Node, 0, len(r.Standing.Approved))
	byID := make(map[int64]*standing.Approval, len(r.Standing.Approved))
	for _, a := range r.Standing.Approved {
		byID[a.ID] = a
	}
	for _, a := range r.Standing.Approved {
		if rest.Skips(a) {
			continue
		}
		node := sequence.Node{ID: a.ID, Rank: ranks[a.Type], New: a.Status == match.New, Removes: a.Removes}
		for _, n := range a.Needs {
			switch {
			case n.Finding == 0:
			case n.Frees && byID[n.Finding] != nil && byID[n.Finding].Removes:
				node.Needs = append(node.Needs, sequence.Edge{To: n.Finding, Field: n.Field, Required: n.Required,
					Late: r.late(n.Type, n.Field), Change: true})
			case n.Frees:
				node.Needs = append(node.Needs, sequence.Edge{To: n.Finding, Field: n.Field, Required: true, Change: true})
			default:
				node.Needs = append(node.Needs, sequence.Edge{To: n.Finding, Field: n.Field, Required: n.Required || n.ByName,
					Late: !n.ByName && r.late(a.Type, n.Field), Change: n.ByName})
			}
		}
		for _, id := range a.After {
			node.Needs = append(node.Needs, sequence.Edge{To: id, Required: true, Change: true})
		}
		nodes = append(nodes, node)
	}
	writes, err := sequence.Order(nodes)
	var circle *sequence.Circle
	if errors.As(err, &circle) {
		var names []string
		for _, id := range circle.IDs[:min(len(circle.IDs), 10)] {
			names = append(names, byID[id].Address)
		}
		return nil, fmt.Errorf("%w: %s. Create one of them in %s without the reference, then %s", err, strings.Join(names, ", "),
			r.Model.Environment, r.Docket.Header.AgainInside())
	}
	return writes, err
}

// late reports whether the target takes a value for a field after the record was written.
func (r Ready) late(typ, field string) bool {
	t, ok := r.Model.Catalog.Type(typ)
	return ok && t.Late(r.Places[t.Place(r.Model.Environment)], field)
}
