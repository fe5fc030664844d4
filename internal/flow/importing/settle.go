package importing

import (
	"context"
	"errors"

	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/flow/session"
	"anagram/internal/flow/sides"
	"anagram/internal/flow/standing"
	"anagram/internal/store/docket"
	"anagram/internal/store/register"
)

// How an import ended of which nobody was told: the program was killed while everything was
// made lasting, or the answer was lost. The target knows.

// Settled is an import of which was found out later how it ended.
type Settled struct {
	Docket int
	Run    docket.Run
}

// Settle finds out how the imports into a target ended of which that is not known yet.
// What should have been run after an import is run now; due are the dockets of which it was.
func Settle(ctx context.Context, s *session.Session, target string) (settled []Settled, due []int, err error) {
	if due, err = runDue(ctx, s, target); err != nil {
		return nil, due, err
	}
	settled, err = settleAll(ctx, s, target)
	return settled, due, err
}

func settleAll(ctx context.Context, s *session.Session, target string) ([]Settled, error) {
	summaries, err := s.Pasts(ctx)
	if err != nil {
		return nil, err
	}
	var out []Settled
	for _, summary := range summaries {
		if _, open := docket.LastUnsettled(summary.Runs); !open || summary.Err != nil || summary.Header.Target != target || summary.Header.TargetParcel != "" {
			continue
		}
		one, err := settleIn(ctx, s, summary.Header.Number)
		if err != nil {
			return out, err
		}
		if one != nil {
			out = append(out, *one)
		}
	}
	return out, nil
}

func settleIn(ctx context.Context, s *session.Session, number int) (*Settled, error) {
	d, err := register.Open(ctx, s.Workspace, number)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	unlock, err := d.LockImport(ctx)
	if errors.Is(err, docket.ErrAtWork) {
		return nil, nil // whoever is at work finds out
	}
	if err != nil {
		return nil, err
	}
	defer unlock()
	return settleLast(ctx, s, d)
}

// settleLast finds out how the last import of a docket ended, where that is not known, and
// records it; nil where there is nothing to find out, or it cannot be told.
func settleLast(ctx context.Context, s *session.Session, d *docket.Docket) (*Settled, error) {
	runs, err := d.Runs(ctx)
	if err != nil {
		return nil, err
	}
	run, open := docket.LastUnsettled(runs)
	if !open {
		return nil, nil
	}
	r, _, err := Read(ctx, d, standing.Demand{}) // what was begun had met it
	if err != nil {
		return nil, err
	}
	r.Run = run.Seq
	rest, err := r.begun(ctx)
	if err != nil {
		return nil, err
	}
	run.Outcome = r.found(ctx, s, rest)
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	if run.Outcome == docket.Unknown {
		return nil, nil
	}
	outcomes := []docket.Outcome{}
	if run.Outcome == docket.Imported {
		for _, a := range r.Standing.Approved {
			if !rest.skips(a) {
				outcomes = append(outcomes, docket.Outcome{Finding: a.ID, Outcome: docket.WasWritten})
			}
		}
		if err := remember(ctx, s, r, rest); err != nil {
			return nil, err
		}
	} else {
		run.New, run.Changed, run.Removed = 0, 0, 0
	}
	return &Settled{Docket: d.Header.Number, Run: run}, d.EndRun(ctx, run, s.Now(), outcomes)
}

// begun gives as rest the approvals of which the run kept no image: it did not come to them.
func (r Ready) begun(ctx context.Context) (Rest, error) {
	rest := newRest()
	return rest, r.pending(rest, func(_ docket.Type, batch []*standing.Approval) error {
		images, err := r.images(ctx, batch)
		for _, a := range batch {
			if _, has := images[a.ID]; !has {
				rest.already[a.ID] = true
			}
		}
		return err
	})
}

// found reads the target to find out what came of a run: imported where records are as
// approved and none is as before, failed where none is as approved, else unknown.
func (r Ready) found(ctx context.Context, s *session.Session, rest Rest) string {
	env, err := s.Open(ctx, r.Model.Environment, true)
	if err != nil {
		return docket.Unknown
	}
	defer env.Close()
	names, err := sides.PairsOf(r.Docket) // as they were, not as they are now
	if err != nil {
		return docket.Unknown
	}
	now, before, err := r.stands(ctx, sides.Renamed(env, names), rest)
	switch {
	case err != nil, now > 0 && before > 0, now+before == 0:
		return docket.Unknown
	case now > 0:
		return docket.Imported
	default:
		return docket.Failed
	}
}

// stands counts the records that are as approved, and those that are as they were before.
func (r Ready) stands(ctx context.Context, target environment.Reader, rest Rest) (now, before int, err error) {
	r.Beside = nil
	for l, err := range r.lots(ctx, target, rest, true) {
		if err != nil {
			return now, before, err
		}
		for _, n := range l.list {
			image := l.images[n.ID]
			switch {
			case r.holds(n, l.typ):
				now++
			case image.Line == "" && len(n.here) == 0:
				before++
			case image.Line != "" && len(n.here) == 1:
				is, err := r.asBefore(n, l.typ, image)
				if err != nil {
					return now, before, err
				}
				if is {
					before++
				}
			}
		}
	}
	return now, before, nil
}

// asBefore reports whether a record is as its before-image says.
func (r Ready) asBefore(n now, t docket.Type, image docket.Image) (bool, error) {
	if image.Line == "" || len(n.here) != 1 {
		return image.Line == "" && len(n.here) == 0, nil
	}
	was, err := record.ParseLine([]byte(image.Line), t.Name, t.Fields, r.Model.Shapes)
	return err == nil && len(match.Compare(t.Fields, was.Values, n.here[0].Values, nil)) == 0, err
}
