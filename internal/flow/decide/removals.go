package decide

import (
	"context"
	"slices"

	"anagram/internal/core/graph"
	"anagram/internal/core/match"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
	"anagram/internal/store/register"
)

// Removal is a record that only the target has, on a list to work through by hand.
type Removal struct {
	Reviewed
	// By are the addresses of records on the list that refer to it, and have to go before.
	By []string
}

// Removals lists what only the target has: what refers to others, and parts, before those that
// they refer to, so that the list can be worked through from top to bottom.
func Removals(ctx context.Context, of *session.Session, d *docket.Docket, w Which) ([]Removal, error) {
	w.Statuses = []match.Status{match.TargetOnly}
	var list []Removal
	at := map[int64]int{}
	err := Review(ctx, of, d, w, func(r Reviewed) error {
		r.Source, r.Target = "", ""
		at[r.ID] = len(list)
		list = append(list, Removal{Reviewed: r})
		return nil
	})
	if err != nil {
		return nil, err
	}
	hangs, err := d.Found.Hangs(ctx)
	if err != nil {
		return nil, err
	}
	edges := make([][]int, len(list)) // from what refers to what it refers to
	for on, from := range hangs {
		to, listed := at[on]
		if !listed {
			continue
		}
		for _, id := range from {
			if i, listed := at[id]; listed {
				edges[i] = append(edges[i], to)
				list[to].By = append(list[to].By, list[i].Address)
			}
		}
	}
	for i := range edges {
		slices.Sort(edges[i])
	}
	out := make([]Removal, 0, len(list))
	for _, together := range slices.Backward(graph.Components(edges)) {
		slices.Sort(together)
		for _, i := range slices.Backward(together) {
			slices.Sort(list[i].By)
			out = append(out, list[i])
		}
	}
	return out, nil
}

// Gone tells how many records of the removal list of the docket before, of the same two
// environments, are no longer only in the target, and which docket that was; 0 where there is
// nothing to tell. Only types count of which the parcel brought all.
func Gone(ctx context.Context, s *session.Session, now docket.Header) (n, before int, err error) {
	if first, err := s.Workspace.FirstDocket(); err != nil || first >= now.Number || now.TargetParcel != "" {
		return 0, 0, err
	}
	entries, err := s.Pasts(ctx)
	if err != nil {
		return 0, 0, err
	}
	for _, e := range entries {
		if e.Err == nil && e.Header.Number < now.Number && e.Header.Source == now.Source && e.Header.Target == now.Target &&
			e.Header.TargetParcel == "" {
			before = e.Header.Number
		}
	}
	if before == 0 {
		return 0, 0, nil
	}
	listed, err := onlyThere(ctx, s, before)
	if err != nil || len(listed) == 0 {
		return 0, 0, err
	}
	still, err := onlyThere(ctx, s, now.Number)
	if err != nil {
		return 0, 0, err
	}
	for record := range listed {
		if since, whole := now.Brings[record.typ]; whole && since == "" && !still[record] {
			n++
		}
	}
	return n, before, nil
}

type recordKey struct{ typ, order string }

// onlyThere gives what only the target has by a docket.
func onlyThere(ctx context.Context, s *session.Session, number int) (map[recordKey]bool, error) {
	d, err := register.Open(ctx, s.Workspace, number)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	out := map[recordKey]bool{}
	for f, err := range d.Found.Findings(ctx, docket.Filter{Statuses: []match.Status{match.TargetOnly}}) {
		if err != nil {
			return nil, err
		}
		out[recordKey{f.Type, f.Order}] = true
	}
	return out, nil
}
