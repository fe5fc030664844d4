package journal

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"anagram/internal/core/match"
	"anagram/internal/core/sequence"
	"anagram/internal/environment"
	"anagram/internal/flow/importing/prepare"
	"anagram/internal/flow/importing/verify"
	"anagram/internal/flow/importing/write"
	"anagram/internal/flow/session"
	"anagram/internal/flow/standing"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/run"
)

// An import into a target without transactions: record by record, each in the journal before
// and after it is written, sent only while the record is as it was read again, and read back
// at once. What was broken off is gone on with, never repeated blindly: of a write of which
// nobody knows whether it happened, the target is read to find out.

// stepped is what happened step by step.
type stepped struct {
	Rest      prepare.Rest
	Written   write.Written
	Failures  []prepare.LeftOut
	Backup    int
	Began     bool         // something may have been written
	Unwritten prepare.Rest // what it did not come to
	Stamps    *prepare.Stamps
}

// stepOf names a write in the journal.
func stepOf(w sequence.Write) run.Step {
	pass := "whole"
	switch {
	case len(w.Only) > 0:
		pass = "references"
	case len(w.Clear) > 0:
		pass = "clear"
	}
	return run.Step{Finding: w.ID, Pass: pass}
}

// InSteps does everything between lock and end.
func InSteps(ctx context.Context, s *session.Session, r prepare.Ready, work environment.Work, rest prepare.Rest,
	resumes bool) (stepped, error) {
	out := stepped{Unwritten: prepare.NewRest(), Stamps: &prepare.Stamps{}}
	out.Rest = rest
	writes, progress, rest, err := planned(ctx, s, r, work, rest, resumes, func(n int) { out.Backup += n })
	out.Rest = rest
	if err != nil {
		return out, err
	}
	out.Began = resumes
	others, err := verify.Watch(ctx, r, work, rest)
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
	err = write.EachChange(ctx, r, writes, true, func(batch []sequence.Write, approvals []*standing.Approval,
		changes []environment.Change) error {
		for i := 0; i < len(batch); i++ {
			w := batch[i]
			at++
			if err := ctx.Err(); err != nil {
				return err
			}
			a := approvals[i]
			if n := together(most, progress, failed, last, at, batch[i:], approvals[i:], changes[i:]); n > 1 {
				out.Began = true
				some := many{r: r, work: work, writes: batch[i : i+n], approvals: approvals[i : i+n], changes: changes[i : i+n],
					stamps: out.Stamps}
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
			one := taking{r: r, work: work, approval: a, write: w, change: changes[i], stamps: out.Stamps}
			out.Began = true
			left, err := one.take(ctx, progress)
			if err != nil {
				return err
			}
			s.Progress.Add(1)
			if last[a.ID] == at || left.Why != "" {
				delete(out.Unwritten.Left, a.ID)
			}
			if left.Why != "" {
				failed[a.ID] = true
				out.Rest.Left[a.ID] = left
				continue
			}
			out.Written.Count(w, changes[i])
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
				out.Failures = append(out.Failures, otherwise...)
				return write.ErrEnough
			}
		}
		return nil
	})
	if err == nil || errors.Is(err, write.ErrEnough) {
		err = out.lookedAround(ctx, r, work, others)
	}
	return out, err
}

// lookedAround looks at what was not to be written, unless something is found out already.
func (out *stepped) lookedAround(ctx context.Context, r prepare.Ready, work environment.Work, others verify.Others) (err error) {
	if len(out.Failures) == 0 {
		out.Failures, err = others.Altered(ctx, r, work)
	}
	return err
}

// ahead notes what there is to write, and gives the last step of each record.
func (out *stepped) ahead(writes []sequence.Write) map[int64]int {
	last := map[int64]int{}
	for i, w := range writes {
		last[w.ID] = i
		out.Unwritten.Left[w.ID] = prepare.LeftOut{}
	}
	return last
}

// stranded leaves a record out that needs one which was left out.
func (out *stepped) stranded(a *standing.Approval, failed map[int64]bool) bool {
	if !slices.ContainsFunc(a.Needs, func(n docket.Need) bool { return failed[n.Finding] }) &&
		!slices.ContainsFunc(a.After, func(id int64) bool { return failed[id] }) {
		return false
	}
	failed[a.ID] = true
	delete(out.Unwritten.Left, a.ID)
	out.Rest.Leave(a, prepare.DependsOnLeft,
		fmt.Sprintf("%s was not imported: it needs another record, which was left out itself.", a.Address))
	return true
}

// planned gives the writes in their order, and how far they came: of a new run after the target
// was read again, of one that goes on as it set out.
func planned(ctx context.Context, s *session.Session, r prepare.Ready, work environment.Work, rest prepare.Rest, resumes bool,
	kept func(int)) ([]sequence.Write, run.Progress, prepare.Rest, error) {
	none := run.Progress{State: map[run.Step]string{}}
	if !resumes {
		writes, rest, err := prepare.StandAgain(ctx, s, r, work, rest, func(images []run.Image) error {
			kept(len(images))
			return run.SaveImages(ctx, r.Docket, r.Run, images)
		})
		if err != nil {
			return nil, none, rest, err
		}
		plan := run.Plan{Run: r.Run, Write: []int64{}}
		for _, a := range r.Standing.Approved {
			if left, ok := rest.Left[a.ID]; ok {
				plan.Left = append(plan.Left, run.Outcome{Finding: a.ID, Outcome: run.WasLeftOut, Why: left.Why, Message: left.Message})
			} else if !rest.Already[a.ID] {
				plan.Write = append(plan.Write, a.ID)
			}
		}
		return writes, none, rest, run.Planned(ctx, r.Docket, plan)
	}
	progress, err := run.ProgressOf(ctx, r.Docket, r.Run)
	if err != nil {
		return nil, none, rest, err
	}
	kept(len(progress.Plan.Write))
	rest = prepare.NewRest()
	planned := make(map[int64]bool, len(progress.Plan.Write))
	for _, id := range progress.Plan.Write {
		planned[id] = true
	}
	for _, o := range progress.Plan.Left {
		rest.Left[o.Finding] = prepare.LeftOut{Why: o.Why, Message: o.Message}
	}
	for _, a := range r.Standing.Approved {
		if left, ok := rest.Left[a.ID]; ok {
			left.Address = a.Address
			rest.Left[a.ID] = left
		} else if !planned[a.ID] {
			rest.Already[a.ID] = true
		}
	}
	writes, err := prepare.Order(r, rest)
	return writes, progress, rest, err
}

// taking is one step as it is taken.
type taking struct {
	r        prepare.Ready
	work     environment.Work
	approval *standing.Approval
	write    sequence.Write
	change   environment.Change
	stamps   *prepare.Stamps
}

// take writes, unless the journal says that it was done. What the target refuses is left out.
func (t taking) take(ctx context.Context, progress run.Progress) (prepare.LeftOut, error) {
	d, step := t.r.Docket, stepOf(t.write)
	left := func(why, message string) prepare.LeftOut {
		return prepare.LeftOut{Address: t.approval.Address, Why: why, Message: message}
	}
	switch progress.State[step] {
	case run.StepDone:
		return prepare.LeftOut{}, nil
	case run.StepRefused:
		return left(prepare.Refused, progress.Why[step]), nil
	case run.StepBegun:
		came, err := t.came(ctx)
		if err != nil {
			return prepare.LeftOut{}, err
		}
		switch came {
		case cameWritten:
			return prepare.LeftOut{}, run.Journal(ctx, d, t.r.Run, step, run.StepDone, "")
		case cameElse:
			return left(prepare.MovedSinceMatch,
				fmt.Sprintf("%s was being written when the import was broken off, and is now neither as it was before nor as approved. Look at it in %s; then %s.", t.approval.Address, t.r.Model.Environment, d.Header.AgainInside())), nil
		}
	}
	if err := run.Journal(ctx, d, t.r.Run, step, run.StepBegun, ""); err != nil {
		return prepare.LeftOut{}, err
	}
	// From here on it is not stopped: who breaks off a write does not learn what came of it.
	ctx = context.WithoutCancel(ctx)
	refused, err := t.work.Write(ctx, t.r.Model, []environment.Change{t.change})
	if err != nil {
		return prepare.LeftOut{}, err
	}
	if refused[0] != nil {
		out := refusedAs(t.r, t.approval, refused[0])
		return out, run.Journal(ctx, d, t.r.Run, step, run.StepRefused, out.Message)
	}
	if err := t.work.Settle(ctx); err != nil {
		return prepare.LeftOut{}, err
	}
	return prepare.LeftOut{}, run.Journal(ctx, d, t.r.Run, step, run.StepDone, "")
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
	list, images, err := verify.BesideImages(ctx, t.r, t.work, typ, []*standing.Approval{t.approval})
	if err != nil {
		return "", err
	}
	n, image := list[0], images[t.approval.ID]
	switch {
	case t.approval.Removes && len(n.Here) == 0:
		return cameWritten, nil
	case t.approval.Removes:
		return cameNothing, nil // to empty a reference again does no harm
	case len(n.Here) == 0 && t.change.Insert:
		return cameNothing, nil
	case len(n.Here) != 1:
		return cameElse, nil
	}
	has := true // all that this step writes
	for i, field := range t.change.Fields {
		for at, of := range typ.Fields {
			has = has && (of.Name != field.Name || of.Same(t.change.Values[i], n.Here[0].Values[at]))
		}
	}
	if t.change.Was != nil && n.Here[0].Was != nil {
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
	before, err := verify.AsBefore(t.r, n, typ, image)
	if before {
		return cameNothing, err
	}
	return cameElse, err
}

// back reads a record back once all of it was written.
func (t taking) back(ctx context.Context) ([]prepare.LeftOut, error) {
	typ, _ := t.r.Docket.Type(t.approval.Type)
	list, images, err := verify.BesideImages(ctx, t.r, t.work, typ, []*standing.Approval{t.approval})
	if err != nil {
		return nil, err
	}
	n := list[0]
	message, err := verify.Otherwise(t.r, n, typ, images[n.ID])
	if err != nil {
		return nil, err
	}
	if message != "" {
		return []prepare.LeftOut{{Address: n.Address, Why: prepare.ReadBackDiffers, Message: message}}, nil
	}
	twice, err := verify.HeldTwice(ctx, t.r, t.work, typ, list)
	if err != nil || len(twice) > 0 {
		return twice, err
	}
	return nil, t.journal(ctx, typ, list)
}

// keep keeps how a new record is that another step has still to complete, so that it can be
// taken back as it is.
func (t taking) keep(ctx context.Context) error {
	typ, _ := t.r.Docket.Type(t.approval.Type)
	list, err := t.r.Current(ctx, t.work, typ, []*standing.Approval{t.approval})
	if err != nil {
		return err
	}
	return t.journal(ctx, typ, list)
}

func (t taking) journal(ctx context.Context, typ docket.Type, list []prepare.Now) error {
	t.stamps.Note(list)
	for _, after := range t.r.Made(typ, list) {
		if err := run.JournalMade(ctx, t.r.Docket, t.r.Run, after); err != nil {
			return err
		}
	}
	return nil
}
