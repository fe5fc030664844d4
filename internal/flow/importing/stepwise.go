package importing

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"anagram/internal/core/check"
	"anagram/internal/environment"
	"anagram/internal/flow/importing/journal"
	"anagram/internal/flow/importing/prepare"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/run"
)

// lastUnfinished gives the import that a docket is left with, where it was broken off half way.
func lastUnfinished(ctx context.Context, d *docket.Docket) (run.Run, bool, error) {
	runs, err := run.List(ctx, d)
	last, open := run.LastUnfinished(runs)
	return last, open, err
}

// brokenOff refuses an import that does not say that it goes on with the one before.
func brokenOff(ctx context.Context, d *docket.Docket, last run.Run) error {
	progress, err := run.ProgressOf(ctx, d, last.Seq)
	if err != nil {
		return err
	}
	written, planned := progress.Counts()
	return &session.BlockedError{Docket: d.Header.Number, Checks: []check.Check{check.BrokenOff(d.Header.Number, d.Header.Target,
		written, planned)}}
}

// placesWritten lists the places of the approved records.
func placesWritten(r prepare.Ready) []string {
	var out []string
	for _, a := range r.Standing.Approved {
		if t, ok := r.Model.Catalog.Type(a.Type); ok && !slices.Contains(out, t.Place(r.Model.Environment)) {
			out = append(out, t.Place(r.Model.Environment))
		}
	}
	return out
}

// lasting says which places have no transactions; of a service on the web that is all of it.
func lasting(r prepare.Ready, s *session.Session) string {
	var out []string
	for _, name := range placesWritten(r) {
		if r.Places[name].NoRollback {
			out = append(out, name)
		}
	}
	e, err := s.Workspace.Environment(r.Model.Environment)
	switch {
	case len(out) == 0 || err == nil && e.IsWeb():
		return "it has no transactions"
	case len(out) == 1:
		return "its table " + out[0] + " has no transactions"
	default:
		return "its tables " + strings.Join(out, ", ") + " have no transactions"
	}
}

// step imports step by step, from the beginning, or from where the run with this number was
// broken off.
func step(ctx context.Context, s *session.Session, r prepare.Ready, work environment.Work, rest prepare.Rest, result Result,
	seq int64) (Result, error) {
	start, resumes := time.Now(), r.Run != 0
	r.Run, r.Checked = seq, true
	result.Steps = true
	one, err := journal.InSteps(ctx, s, r, work, rest, resumes)
	result.Backup, result.Failures = one.Backup, one.Failures
	result.New, result.Changed, result.Removed = one.Written.New, one.Written.Changed, one.Written.Removed
	result.Outcome = run.Imported
	switch {
	case len(one.Failures) > 0:
		result.Outcome = run.WrittenOtherwise
	case err != nil && !one.Began:
		result.Outcome = run.Failed
	case err != nil:
		result.Outcome = run.Interrupted
	default:
		result.Verified = true
		err = work.Commit(context.WithoutCancel(ctx))
	}
	if ctx.Err() != nil && result.Outcome != run.Imported {
		err = ctx.Err()
	}
	if result.Outcome != run.Failed {
		// What was written stays written, whatever becomes of this.
		result.Forgotten = remember(context.WithoutCancel(ctx), s, r, one.Rest.And(one.Unwritten), one.Stamps)
	}
	result.Ended(r, one.Rest, start)
	result.unwritten = one.Unwritten.Left
	ended := End(context.WithoutCancel(ctx), s, r, seq, result, one.Rest, err)
	switch result.Outcome {
	case run.Imported, run.WrittenOtherwise:
		result.Unrecorded = ended
		return result, nil
	case run.Interrupted:
		written := result.New + result.Changed + result.Removed
		return result, errors.Join(&session.BrokenOffError{Docket: r.Docket.Header.Number, Target: r.Model.Environment,
			Written: written, Left: len(one.Unwritten.Left), Cause: err}, ended)
	}
	return result, errors.Join(err, ended)
}
