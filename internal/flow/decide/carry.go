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
// sides of a finding, or of a field, have the values that they had then, and tells how many
// findings that were. Those approved are kept with the new docket, where they can be given again.
func Carry(ctx context.Context, s *session.Session, header docket.Header) (carried, approvedBefore int, err error) {
	if header.TargetParcel != "" || header.ByHand {
		return 0, 0, nil
	}
	before, err := register.OpenDecided(ctx, s.Workspace, header.Number)
	if err != nil {
		return 0, 0, err
	}
	defer before.Close()
	d, err := register.Open(ctx, s.Workspace, header.Number)
	if err != nil {
		return 0, 0, err
	}
	defer d.Close()
	d.From(s.Origin)
	type said struct{ who, note string }
	verdicts := map[said][]docket.Verdict{}
	var order []said
	n := 0
	var approved []docket.Earlier
	for f, err := range d.Findings(ctx, docket.Filter{Statuses: []match.Status{match.Conflict, match.Changed, match.New, match.TargetEdit, match.TargetOnly}}) {
		if err != nil {
			return 0, 0, err
		}
		before, err := before.Find(ctx, header.Source, header.Target, f)
		if err != nil {
			return 0, 0, err
		}
		carried := false
		for _, was := range before {
			if !slices.Contains([]docket.Decision{docket.Declined, docket.Held, docket.TargetKept}, was.Decision) || !was.On(f) {
				continue
			}
			by := said{was.Who, was.Note}
			if verdicts[by] == nil {
				order = append(order, by)
			}
			verdicts[by] = append(verdicts[by], docket.Verdict{Finding: f.ID, Field: was.Field, Decision: was.Decision, Carried: was.Docket})
			carried = true
		}
		switch {
		case carried:
			n++
		case len(before) > 0 && before[0].Field == "" && before[0].Decision == docket.Approved && before[0].On(f) && f.Asks():
			approved = append(approved, docket.Earlier{Finding: f.ID, Docket: before[0].Docket, Who: before[0].Who, Note: before[0].Note})
		}
	}
	for _, by := range order {
		if err := d.Decide(ctx, by.who, by.note, s.Now(), verdicts[by]); err != nil {
			return 0, 0, err
		}
	}
	return n, len(approved), d.ApprovedBefore(ctx, approved)
}
