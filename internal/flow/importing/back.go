package importing

import (
	"context"

	"anagram/internal/core/match"
	"anagram/internal/flow/sides"
	"anagram/internal/flow/standing"
	"anagram/internal/store/docket"
)

// What an import keeps so that it can be taken back, and how one is taken back.

// made gives new records as they were read back.
func (r Ready) made(t docket.Type, list []now) []docket.After {
	var out []docket.After
	for _, n := range list {
		if n.Status == match.New && len(n.here) == 1 {
			out = append(out, docket.After{Finding: n.ID, ID: n.here[0].ID, Sum: r.sumOf(n, t)})
		}
	}
	return out
}

// sumOf is the sum of a record as it is in the target, by the names that it has there.
func (r Ready) sumOf(n now, t docket.Type) string {
	typ, _ := r.Model.Catalog.Type(t.Name)
	return docket.SumOf(t.Fields, sides.InTarget(r.Names, typ, t.Fields, n.here[0]))
}

// asMade reports whether a record that is to be removed is the one that the import made, as
// it made it.
func (r Ready) asMade(n now, t docket.Type, back docket.Back) bool {
	return len(n.here) == 1 && back.Sum != "" && back.ID == n.here[0].ID && back.Sum == r.sumOf(n, t)
}

// backs gives what some approvals take back.
func (r Ready) backs(ctx context.Context, batch []*standing.Approval) (map[int64]docket.Back, error) {
	ids := make([]int64, len(batch))
	for i, a := range batch {
		ids[i] = a.ID
	}
	return r.Docket.Backs(ctx, ids)
}
