package prepare

import (
	"context"

	"anagram/internal/core/match"
	"anagram/internal/flow/sides"
	"anagram/internal/flow/standing"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/run"
)

// What an import keeps so that it can be taken back, and how one is taken back.

// Made gives new records as they were read back.
func (r Ready) Made(t docket.Type, list []Now) []run.After {
	var out []run.After
	for _, n := range list {
		if n.Status == match.New && len(n.Here) == 1 {
			out = append(out, run.After{Finding: n.ID, ID: n.Here[0].ID, Sum: r.sumOf(n, t)})
		}
	}
	return out
}

// sumOf is the sum of a record as it is in the target, by the names that it has there.
func (r Ready) sumOf(n Now, t docket.Type) string {
	typ, _ := r.Model.Catalog.Type(t.Name)
	return docket.SumOf(t.Fields, sides.InTarget(r.Names, typ, t.Fields, n.Here[0]))
}

// asMade reports whether a record that is to be removed is the one that the import made, as
// it made it.
func (r Ready) asMade(n Now, t docket.Type, back docket.Back) bool {
	return len(n.Here) == 1 && back.Sum != "" && back.ID == n.Here[0].ID && back.Sum == r.sumOf(n, t)
}

// Backs gives what some approvals take back.
func (r Ready) Backs(ctx context.Context, batch []*standing.Approval) (map[int64]docket.Back, error) {
	ids := make([]int64, len(batch))
	for i, a := range batch {
		ids[i] = a.ID
	}
	if r.Docket.Header.Restores == 0 {
		return map[int64]docket.Back{}, nil
	}
	return r.Docket.Found.Backs(ctx, ids)
}
