package decide

import (
	"context"
	"slices"

	"anagram/internal/core/match"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
	"anagram/internal/store/register"
)

// Carry fills in what was declined or held in earlier dockets of the same pair, where both
// sides of a finding have the values that they had then, and tells how many.
func Carry(ctx context.Context, s *session.Session, path string, header docket.Header) (int, error) {
	if header.TargetParcel != "" || header.ByHand {
		return 0, nil
	}
	before, err := register.OpenDecided(ctx, s.Workspace, header.Number)
	if err != nil {
		return 0, err
	}
	defer before.Close()
	d, err := docket.Open(ctx, path)
	if err != nil {
		return 0, err
	}
	defer d.Close()
	type said struct{ who, note string }
	verdicts := map[said][]docket.Verdict{}
	var order []said
	n := 0
	for f, err := range d.Findings(ctx, docket.Filter{Statuses: []match.Status{match.Conflict, match.Changed, match.New, match.TargetEdit}}) {
		if err != nil {
			return 0, err
		}
		was, ok, err := before.Find(ctx, header.Source, header.Target, f)
		if err != nil {
			return 0, err
		}
		if !ok || !slices.Contains([]docket.Decision{docket.Declined, docket.Held}, was.Decision) || !was.On(f) {
			continue
		}
		by := said{was.Who, was.Note}
		if verdicts[by] == nil {
			order = append(order, by)
		}
		verdicts[by] = append(verdicts[by], docket.Verdict{Finding: f.ID, Decision: was.Decision, Carried: was.Docket})
		n++
	}
	for _, by := range order {
		if err := d.Decide(ctx, by.who, by.note, s.Now(), verdicts[by]); err != nil {
			return 0, err
		}
	}
	return n, nil
}
