package importing

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"anagram/internal/core/check"
	"anagram/internal/core/match"
	"anagram/internal/core/sequence"
	"anagram/internal/environment"
	"anagram/internal/flow/session"
	"anagram/internal/flow/standing"
	"anagram/internal/store/docket"
)

// An import into a target without transactions: record by record, each in the journal before
// and after it is written, sent only while the record is as it was read again, and read back
// at once. What was broken off is gone on with, never repeated blindly: of a write of which
// nobody knows whether it happened, the target is read to find out.

// lastUnfinished gives the import that a docket is left with, where it was broken off half way.
func lastUnfinished(ctx context.Context, d *docket.Docket) (docket.Run, bool, error) {
	runs, err := d.Runs(ctx)
	run, open := docket.LastUnfinished(runs)
	return run, open, err
}

// brokenOff refuses an import that does not say that it goes on with the one before.
func brokenOff(ctx context.Context, d *docket.Docket, run docket.Run) error {
	progress, err := d.Progress(ctx, run.Seq)
	if err != nil {
		return err
	}
	written, planned := progress.Counts()
	return &session.BlockedError{Docket: d.Header.Number, Checks: []check.Check{check.BrokenOff(d.Header.Number, d.Header.Target, written, planned)}}
}

// placesWritten lists the places of the approved records.
func (r Ready) placesWritten() []string {
	var out []string
	for _, a := range r.Standing.Approved {
		if t, ok := r.Model.Catalog.Type(a.Type); ok && !slices.Contains(out, t.Place(r.Model.Environment)) {
			out = append(out, t.Place(r.Model.Environment))
		}
	}
	return out
}

// lasting says which places have no transactions; of a service on the web that is all of it.
func (r Ready) lasting(s *session.Session) string {
	var out []string
	for _, name := range r.placesWritten() {
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
func step(ctx context.Context, s *session.Session, r Ready, work environment.Work, rest Rest, result Result, run int64) (Result, error) {
	start, resumes := time.Now(), r.Run != 0
	r.Run, r.Checked = run, true
	result.Steps = true
	one, err := inSteps(ctx, s, r, work, rest, resumes)
	result.Backup, result.Failures = one.backup, one.failures
	result.New, result.Changed, result.Removed = one.written.New, one.written.Changed, one.written.Removed
	result.Outcome = docket.Imported
	switch {
	case len(one.failures) > 0:
		result.Outcome = docket.WrittenOtherwise
	case err != nil && !one.began:
		result.Outcome = docket.Failed
	case err != nil:
		result.Outcome = docket.Interrupted
	default:
		result.Verified = true
		err = work.Commit(context.WithoutCancel(ctx))
	}
	if ctx.Err() != nil && result.Outcome != docket.Imported {
		err = ctx.Err()
	}
	if result.Outcome != docket.Failed {
		// What was written stays written, whatever becomes of this.
		result.Forgotten = remember(context.WithoutCancel(ctx), s, r, one.rest.and(one.unwritten))
	}
	result.Ended(r, one.rest, start)
	result.unwritten = one.unwritten.left
	ended := End(context.WithoutCancel(ctx), s, r, run, result, one.rest, err)
	switch result.Outcome {
	case docket.Imported, docket.WrittenOtherwise:
		result.Unrecorded = ended
		return result, nil
	case docket.Interrupted:
		written := result.New + result.Changed + result.Removed
		return result, errors.Join(&session.BrokenOffError{Docket: r.Docket.Header.Number, Target: r.Model.Environment, Written: written, Left: len(one.unwritten.left), Cause: err}, ended)
	}
	return result, errors.Join(err, ended)
}

// stepped is what happened step by step.
type stepped struct {
	done
	began     bool // something may have been written
	unwritten Rest // what it did not come to
}

// stepOf names a write in the journal.
func stepOf(w sequence.Write) docket.Step {
	pass := "whole"
	switch {
	case len(w.Only) > 0:
		pass = "references"
	case len(w.Clear) > 0:
		pass = "clear"
	}
	return docket.Step{Finding: w.ID, Pass: pass}
}

// inSteps does everything between lock and end.
func inSteps(ctx context.Context, s *session.Session, r Ready, work environment.Work, rest Rest, resumes bool) (stepped, error) {
	out := stepped{unwritten: newRest()}
	out.rest = rest
	writes, progress, rest, err := planned(ctx, s, r, work, rest, resumes, func(n int) { out.backup += n })
	out.rest = rest
	if err != nil {
		return out, err
	}
	out.began = resumes
	others, err := watch(ctx, r, work, rest)
	if err != nil {
		return out, err
	}
	last := out.ahead(writes)
	s.Progress.Start("writing", len(writes))
	defer s.Progress.Done()
	most, err := work.Together(ctx)
	if err != nil {
		return out, err
	}
	failed := map[int64]bool{}
	at := -1
	err = r.EachChange(ctx, writes, true, func(batch []sequence.Write, approvals []*standing.Approval, changes []environment.Change) error {
		for i := 0; i < len(batch); i++ {
			w := batch[i]
			at++
			if err := ctx.Err(); err != nil {
				return err
			}
			a := approvals[i]
			if n := r.together(most, progress, failed, last, at, batch[i:], approvals[i:], changes[i:]); n > 1 {
				out.began = true
				some := many{r: r, work: work, writes: batch[i : i+n], approvals: approvals[i : i+n], changes: changes[i : i+n]}
				if err := some.take(ctx, &out, failed); err != nil {
					return err
				}
				s.Progress.Add(n)
				i, at = i+n-1, at+n-1
				continue
			}
			if failed[a.ID] {
				continue
			}
			if out.stranded(a, failed) {
				continue
			}
			one := taking{r: r, work: work, approval: a, write: w, change: changes[i]}
			out.began = true
			left, err := one.take(ctx, progress)
			if err != nil {
				return err
			}
			s.Progress.Add(1)
			if last[a.ID] == at || left.Why != "" {
				delete(out.unwritten.left, a.ID)
			}
			if left.Why != "" {
				failed[a.ID] = true
				out.rest.left[a.ID] = left
				continue
			}
			out.written.Count(w, changes[i])
			if last[a.ID] != at {
				if err := one.keep(context.WithoutCancel(ctx)); err != nil {
					return err
				}
				continue
			}
			otherwise, err := one.back(context.WithoutCancel(ctx))
			if err != nil {
				return err
			}
			if len(otherwise) > 0 {
				out.failures = append(out.failures, otherwise...)
				return errEnough
			}
		}
		return nil
	})
	if err == nil || errors.Is(err, errEnough) {
		err = out.lookedAround(ctx, r, work, others)
	}
	return out, err
}

// lookedAround looks at what was not to be written, unless something is found out already.
func (out *stepped) lookedAround(ctx context.Context, r Ready, work environment.Work, others others) (err error) {
	if len(out.failures) == 0 {
		out.failures, err = others.altered(ctx, r, work)
	}
	return err
}

// ahead notes what there is to write, and gives the last step of each record.
func (out *stepped) ahead(writes []sequence.Write) map[int64]int {
	last := map[int64]int{}
	for i, w := range writes {
		last[w.ID] = i
		out.unwritten.left[w.ID] = LeftOut{}
	}
	return last
}

// stranded leaves a record out that needs one which was left out.
func (out *stepped) stranded(a *standing.Approval, failed map[int64]bool) bool {
	if !slices.ContainsFunc(a.Needs, func(n docket.Need) bool { return failed[n.Finding] }) && !slices.ContainsFunc(a.After, func(id int64) bool { return failed[id] }) {
		return false
	}
	failed[a.ID] = true
	delete(out.unwritten.left, a.ID)
	out.rest.leave(a, DependsOnLeft, fmt.Sprintf("%s was not imported: it needs another record, which was left out itself.", a.Address))
	return true
}

// planned gives the writes in their order, and how far they came: of a new run after the target
// was read again, of one that goes on as it set out.
func planned(ctx context.Context, s *session.Session, r Ready, work environment.Work, rest Rest, resumes bool, kept func(int)) ([]sequence.Write, docket.Progress, Rest, error) {
	none := docket.Progress{State: map[docket.Step]string{}}
	if !resumes {
		writes, rest, err := StandAgain(ctx, s, r, work, rest, func(images []docket.Image) error {
			kept(len(images))
			return r.Docket.SaveBackup(ctx, r.Run, images)
		})
		if err != nil {
			return nil, none, rest, err
		}
		plan := docket.Plan{Run: r.Run, Write: []int64{}}
		for _, a := range r.Standing.Approved {
			if left, ok := rest.left[a.ID]; ok {
				plan.Left = append(plan.Left, docket.Outcome{Finding: a.ID, Outcome: docket.WasLeftOut, Why: left.Why, Message: left.Message})
			} else if !rest.already[a.ID] {
				plan.Write = append(plan.Write, a.ID)
			}
		}
		return writes, none, rest, r.Docket.PlanRun(ctx, plan)
	}
	progress, err := r.Docket.Progress(ctx, r.Run)
	if err != nil {
		return nil, none, rest, err
	}
	kept(len(progress.Plan.Write))
	rest = newRest()
	for _, o := range progress.Plan.Left {
		rest.left[o.Finding] = LeftOut{Why: o.Why, Message: o.Message}
	}
	for _, a := range r.Standing.Approved {
		if left, ok := rest.left[a.ID]; ok {
			left.Address = a.Address
			rest.left[a.ID] = left
		} else if !slices.Contains(progress.Plan.Write, a.ID) {
			rest.already[a.ID] = true
		}
	}
	writes, err := order(r, rest)
	return writes, progress, rest, err
}

// taking is one step as it is taken.
type taking struct {
	r        Ready
	work     environment.Work
	approval *standing.Approval
	write    sequence.Write
	change   environment.Change
}

// take writes, unless the journal says that it was done. What the target refuses is left out.
func (t taking) take(ctx context.Context, progress docket.Progress) (LeftOut, error) {
	d, step := t.r.Docket, stepOf(t.write)
	left := func(why, message string) LeftOut {
		return LeftOut{Address: t.approval.Address, Why: why, Message: message}
	}
	switch progress.State[step] {
	case docket.StepDone:
		return LeftOut{}, nil
	case docket.StepRefused:
		return left(Refused, progress.Why[step]), nil
	case docket.StepBegun:
		came, err := t.came(ctx)
		if err != nil {
			return LeftOut{}, err
		}
		switch came {
		case cameWritten:
			return LeftOut{}, d.Journal(ctx, t.r.Run, step, docket.StepDone, "")
		case cameElse:
			return left(MovedSinceMatch, fmt.Sprintf("%s was being written when the import was broken off, and is now neither as it was before nor as approved. Look at it in %s; then %s.", t.approval.Address, t.r.Model.Environment, d.Header.AgainInside())), nil
		}
	}
	if err := d.Journal(ctx, t.r.Run, step, docket.StepBegun, ""); err != nil {
		return LeftOut{}, err
	}
	// From here on it is not stopped: who breaks off a write does not learn what came of it.
	ctx = context.WithoutCancel(ctx)
	refused, err := t.work.Write(ctx, t.r.Model, []environment.Change{t.change})
	if err != nil {
		return LeftOut{}, err
	}
	if refused[0] != nil {
		out := t.r.refusedAs(t.approval, refused[0])
		return out, d.Journal(ctx, t.r.Run, step, docket.StepRefused, out.Message)
	}
	if err := t.work.Settle(ctx); err != nil {
		return LeftOut{}, err
	}
	return LeftOut{}, d.Journal(ctx, t.r.Run, step, docket.StepDone, "")
}

// What came of a step that was begun.
const (
	cameNothing = "nothing"
	cameWritten = "written"
	cameElse    = "else"
)

// came reads the target to find out what came of a step of which that is not known.
func (t taking) came(ctx context.Context) (string, error) {
	typ, _ := t.r.Docket.Type(t.approval.Type)
	list, images, err := t.r.besideImages(ctx, t.work, typ, []*standing.Approval{t.approval})
	if err != nil {
		return "", err
	}
	n, image := list[0], images[t.approval.ID]
	switch {
	case t.approval.Removes && len(n.here) == 0:
		return cameWritten, nil
	case t.approval.Removes:
		return cameNothing, nil // to empty a reference again does no harm
	case len(n.here) == 0 && t.change.Insert:
		return cameNothing, nil
	case len(n.here) != 1:
		return cameElse, nil
	}
	has := true // all that this step writes
	for i, field := range t.change.Fields {
		for at, of := range typ.Fields {
			has = has && (of.Name != field.Name || of.Same(t.change.Values[i], n.here[0].Values[at]))
		}
	}
	if t.change.Was != nil && n.here[0].Was != nil {
		has = false
	}
	if has {
		return cameWritten, nil
	}
	if t.change.Insert || n.Status == match.New && len(t.write.Only) == 0 {
		return cameElse, nil
	}
	if len(t.write.Only) > 0 {
		return cameNothing, nil
	}
	before, err := t.r.asBefore(n, typ, image)
	if before {
		return cameNothing, err
	}
	return cameElse, err
}

// back reads a record back once all of it was written.
func (t taking) back(ctx context.Context) ([]LeftOut, error) {
	typ, _ := t.r.Docket.Type(t.approval.Type)
	list, images, err := t.r.besideImages(ctx, t.work, typ, []*standing.Approval{t.approval})
	if err != nil {
		return nil, err
	}
	n := list[0]
	message, err := t.r.otherwise(n, typ, images[n.ID])
	if err != nil {
		return nil, err
	}
	if message != "" {
		return []LeftOut{{Address: n.Address, Why: ReadBackDiffers, Message: message}}, nil
	}
	twice, err := t.r.heldTwice(ctx, t.work, typ, list)
	if err != nil || len(twice) > 0 {
		return twice, err
	}
	return nil, t.journal(ctx, typ, list)
}

// keep keeps how a new record is that another step has still to complete, so that it can be
// taken back as it is.
func (t taking) keep(ctx context.Context) error {
	typ, _ := t.r.Docket.Type(t.approval.Type)
	list, err := t.r.current(ctx, t.work, typ, []*standing.Approval{t.approval})
	if err != nil {
		return err
	}
	return t.journal(ctx, typ, list)
}

func (t taking) journal(ctx context.Context, typ docket.Type, list []now) error {
	for _, after := range t.r.made(typ, list) {
		if err := t.r.Docket.JournalMade(ctx, t.r.Run, after); err != nil {
			return err
		}
	}
	return nil
}
