package importing

import (
	"context"
	"errors"

	"anagram/internal/flow/importing/prepare"
	"anagram/internal/flow/importing/verify"
	"anagram/internal/flow/session"
	"anagram/internal/flow/standing"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/run"
	"anagram/internal/store/register"
)

// How an import ended of which nobody was told: the program was killed while everything was
// made lasting, or the answer was lost. The target knows.

// Settled is an import of which was found out later how it ended.
type Settled struct {
	Docket int
	Run    run.Run
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
		if _, open := run.LastUnsettled(summary.Runs); !open || summary.Err != nil || summary.Header.Target != target ||
			summary.Header.TargetParcel != "" {
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
	runs, err := run.List(ctx, d)
	if err != nil {
		return nil, err
	}
	last, open := run.LastUnsettled(runs)
	if !open {
		return nil, nil
	}
	r, _, err := prepare.Read(ctx, d, standing.Demand{}) // what was begun had met it
	if err != nil {
		return nil, err
	}
	r.Run = last.Seq
	rest, err := begun(ctx, r)
	if err != nil {
		return nil, err
	}
	last.Outcome = verify.Found(ctx, r, s, rest)
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	if last.Outcome == run.Unknown {
		return nil, nil
	}
	outcomes := []run.Outcome{}
	if last.Outcome == run.Imported {
		for _, a := range r.Standing.Approved {
			if !rest.Skips(a) {
				outcomes = append(outcomes, run.Outcome{Finding: a.ID, Outcome: run.WasWritten})
			}
		}
		if err := remember(ctx, s, r, rest, nil); err != nil {
			return nil, err
		}
	} else {
		last.New, last.Changed, last.Removed = 0, 0, 0
	}
	return &Settled{Docket: d.Header.Number, Run: last}, run.End(ctx, d, last, s.Now(), outcomes)
}

// begun gives as rest the approvals of which the run kept no image: it did not come to them.
func begun(ctx context.Context, r prepare.Ready) (prepare.Rest, error) {
	rest := prepare.NewRest()
	return rest, r.Pending(rest, func(_ docket.Type, batch []*standing.Approval) error {
		images, err := r.Images(ctx, batch)
		for _, a := range batch {
			if _, has := images[a.ID]; !has {
				rest.Already[a.ID] = true
			}
		}
		return err
	})
}
