package prepare

import (
	"context"
	"slices"

	"anagram/internal/core/check"
	"anagram/internal/core/decision"
	"anagram/internal/flow/session"
	"anagram/internal/flow/standing"
	"anagram/internal/store/docket"
	"anagram/internal/store/register"
)

// An approval is for one import. One that was carried out does not write again what was taken back
// since, or changed; and what somebody declined later, in another docket and on the same values, is
// not written by an older docket.

// isUsed reports whether what is approved was all said before an import that wrote it.
func (r Ready) isUsed(a *standing.Approval) bool {
	last, wrote := r.used[a.ID]
	return wrote && a.Seq <= last
}

// decidedLater leaves out what was declined or held in a later docket of the same pair, after it
// was approved in this one.
func decidedLater(ctx context.Context, s *session.Session, r Ready, rest Rest) error {
	h := r.Docket.Header
	numbers, err := s.Workspace.DocketNumbers()
	if err != nil || len(numbers) == 0 || slices.Max(numbers) <= h.Number || h.Restores != 0 || len(r.Standing.Approved) == 0 {
		return err
	}
	all, err := register.OpenDecided(ctx, s.Workspace, slices.Max(numbers)+1)
	if err != nil {
		return err
	}
	defer all.Close()
	return r.Pending(rest, func(_ docket.Type, batch []*standing.Approval) error {
		byID := map[int64]*standing.Approval{}
		ids := make([]int64, len(batch))
		for i, a := range batch {
			ids[i], byID[a.ID] = a.ID, a
		}
		for f, err := range r.Docket.Found.Findings(ctx, docket.Filter{IDs: ids}) {
			if err != nil {
				return err
			}
			said, err := all.Find(ctx, h.Source, h.Target, f)
			if err != nil {
				return err
			}
			a := byID[f.ID]
			for _, one := range said {
				if one.Docket <= h.Number || one.Decision != decision.Declined && one.Decision != decision.Held || !one.On(f) ||
					one.Field != "" && !a.Writes(one.Field) {
					continue
				}
				if one.At > a.Said {
					r.stop(a, check.Later(a.Address, one.Who, string(one.Decision), one.Docket, h.Number), rest)
					break
				}
			}
		}
		return nil
	})
}
