package decide

import (
	"context"
	"slices"

	"anagram/internal/core/decision"
	"anagram/internal/core/match"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/run"
	"anagram/internal/store/register"
)

// Carry fills in what was declined or held in earlier dockets of the same pair, where both
// sides of a finding, or of a field, have the values that they had then, and tells how many
// findings that were. Those approved are kept with the new docket, where they can be given again.
func Carry(ctx context.Context, s *session.Session, header docket.Header) (carried, approvedBefore int, err error) {
	if header.TargetParcel != "" || header.ByHand {
		return 0, 0, nil
	}
	if first, err := s.Workspace.FirstDocket(); err != nil || first >= header.Number {
		return 0, 0, err
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
	return carry(ctx, s, header, d, before)
}

// carry is Carry of one docket, by what was decided before.
func carry(ctx context.Context, s *session.Session, header docket.Header, d *docket.Docket, before *register.Decided) (carried,
	approvedBefore int, err error) {
	var entries []docket.LogEntry
	n := 0
	var approved []docket.Earlier
	for f, err := range d.Found.Findings(ctx, docket.Filter{Statuses: []match.Status{match.Conflict, match.Changed, match.New,
		match.TargetEdit, match.TargetOnly}}) {
		if err != nil {
			return 0, 0, err
		}
		before, err := before.Find(ctx, header.Source, header.Target, f)
		if err != nil {
			return 0, 0, err
		}
		carried := false
		for _, was := range before {
			if !slices.Contains([]decision.Decision{decision.Declined, decision.Held, decision.TargetKept}, was.Decision) || !was.On(f) {
				continue
			}
			entries = append(entries, docket.LogEntry{At: was.At, Who: was.Who, Finding: f.ID, Field: was.Field,
				Decision: was.Decision, Note: was.Note, Carried: was.Docket})
			carried = true
		}
		switch {
		case carried:
			n++
		case len(before) > 0 && before[0].Field == "" && before[0].Decision == decision.Approved && before[0].On(f) && f.Asks():
			approved = append(approved, docket.Earlier{Finding: f.ID, Docket: before[0].Docket, Who: before[0].Who, Note: before[0].Note})
		}
	}
	// What one person said for one reason is one entry of the history.
	at := map[[2]string]int{}
	for _, e := range entries {
		if by := [2]string{e.Who, e.Note}; at[by] == 0 {
			at[by] = len(at) + 1
		}
	}
	slices.SortStableFunc(entries, func(a, b docket.LogEntry) int { return at[[2]string{a.Who, a.Note}] - at[[2]string{b.Who, b.Note}] })
	// Whoever said it said it then: what is carried over keeps its person and its time.
	if err := d.Join(ctx, s.Who, run.Stamp(s.Now()), entries); err != nil {
		return 0, 0, err
	}
	return n, len(approved), d.ApprovedBefore(ctx, approved)
}
