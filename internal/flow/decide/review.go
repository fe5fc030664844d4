package decide

import (
	"context"
	"slices"

	"anagram/internal/core/check"
	"anagram/internal/core/match"
	"anagram/internal/flow/standing"
	"anagram/internal/store/docket"
)

// Reviewed is a finding with its checks, static ones and those that follow from the
// decisions as they are.
type Reviewed struct {
	docket.Finding
	Checks []check.Check
}

// Review gives the findings that fit, by type in dependency order, status and key.
func Review(ctx context.Context, d *docket.Docket, patterns []string, statuses []match.Status, types []string, give func(Reviewed) error) error {
	filter, err := findingFilter(d, patterns, statuses, types)
	if err != nil {
		return err
	}
	filter.ByStatus = true
	static, err := d.Checks(ctx)
	if err != nil {
		return err
	}
	standing, err := standing.Read(ctx, d)
	if err != nil {
		return err
	}
	for f, err := range d.Findings(ctx, filter) {
		if err != nil {
			return err
		}
		r := Reviewed{Finding: f}
		for _, c := range static[f.ID] {
			// Of what is decided only those blockers count that stand in the way of it.
			decided := c.Level == check.Blocker && slices.Contains([]docket.Decision{docket.Approved, docket.Declined, docket.TargetKept}, f.Stand())
			if !c.Partial && !decided {
				r.Checks = append(r.Checks, c.Check)
			}
		}
		for _, c := range standing.Blocked[f.ID] {
			if !slices.Contains(r.Checks, c) {
				r.Checks = append(slices.Clone(r.Checks), c)
			}
		}
		if err := give(r); err != nil {
			return err
		}
	}
	return nil
}
