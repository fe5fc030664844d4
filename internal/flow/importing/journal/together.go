package journal

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"anagram/internal/core/sequence"
	"anagram/internal/environment"
	"anagram/internal/flow/importing/prepare"
	"anagram/internal/flow/importing/verify"
	"anagram/internal/flow/importing/write"
	"anagram/internal/flow/standing"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/run"
)

// Several steps that go in one request: none of them needs another, so that each is for itself.

// together tells how many of the steps at the head can be taken at once, at most so many: the
// only steps of new or changed records of one type that are not begun yet, of which none needs
// another one.
func together(most int, progress run.Progress, failed map[int64]bool, last map[int64]int, at int, writes []sequence.Write,
	approvals []*standing.Approval, changes []environment.Change) int {
	among := map[int64]bool{}
	n := 0
	for ; n < len(writes) && n < most; n++ {
		a, c := approvals[n], changes[n]
		alone := len(writes[n].Only)+len(writes[n].Clear)+len(writes[n].Without) > 0 || c.Remove || c.Was != nil || last[a.ID] != at+n
		needs := func(id int64) bool { return failed[id] || among[id] }
		if alone || a.Type != approvals[0].Type || progress.State[stepOf(writes[n])] != "" || failed[a.ID] ||
			slices.ContainsFunc(a.Needs, func(of docket.Need) bool { return needs(of.Finding) }) || slices.ContainsFunc(a.After, needs) {
			break
		}
		among[a.ID] = true
	}
	return n
}

// many are steps that are taken at once.
type many struct {
	r         prepare.Ready
	work      environment.Work
	writes    []sequence.Write
	approvals []*standing.Approval
	changes   []environment.Change
	stamps    *prepare.Stamps
}

// take writes them, and reads them back. What the target refuses is left out; where something
// reads back otherwise the error is errEnough.
func (m many) take(ctx context.Context, out *stepped, failed map[int64]bool) error {
	d := m.r.Docket
	steps := make([]run.Step, len(m.writes))
	for i, w := range m.writes {
		steps[i] = stepOf(w)
	}
	if err := run.JournalAll(ctx, d, m.r.Run, steps, run.StepBegun); err != nil {
		return err
	}
	// From here on it is not stopped: who breaks off a write does not learn what came of it.
	ctx = context.WithoutCancel(ctx)
	refused, err := m.work.Write(ctx, m.r.Model, m.changes)
	if err != nil {
		return err
	}
	if err := m.work.Settle(ctx); err != nil {
		return err
	}
	var done []run.Step
	var written []*standing.Approval
	for i, a := range m.approvals {
		delete(out.Unwritten.Left, a.ID)
		if refused[i] == nil {
			done, written = append(done, steps[i]), append(written, a)
			out.Written.Count(m.writes[i], m.changes[i])
			continue
		}
		left := refusedAs(m.r, a, refused[i])
		failed[a.ID] = true
		out.Rest.Left[a.ID] = left
		if err := run.Journal(ctx, d, m.r.Run, steps[i], run.StepRefused, left.Message); err != nil {
			return err
		}
	}
	if err := run.JournalAll(ctx, d, m.r.Run, done, run.StepDone); err != nil || len(written) == 0 {
		return err
	}
	otherwise, err := m.back(ctx, written)
	if err == nil && len(otherwise) > 0 {
		out.Failures, err = append(out.Failures, otherwise...), write.ErrEnough
	}
	return err
}

// back reads records back.
func (m many) back(ctx context.Context, written []*standing.Approval) ([]prepare.LeftOut, error) {
	typ, _ := m.r.Docket.Type(written[0].Type)
	list, images, err := verify.BesideImages(ctx, m.r, m.work, typ, written)
	if err != nil {
		return nil, err
	}
	var differ []prepare.LeftOut
	for _, n := range list {
		message, err := verify.Otherwise(m.r, n, typ, images[n.ID])
		if err != nil {
			return nil, err
		}
		if message != "" {
			differ = append(differ, prepare.LeftOut{Address: n.Address, Why: prepare.ReadBackDiffers, Message: message})
		}
	}
	if len(differ) > 0 {
		return differ, nil
	}
	twice, err := verify.HeldTwice(ctx, m.r, m.work, typ, list)
	if err != nil || len(twice) > 0 {
		return twice, err
	}
	one := taking{r: m.r, work: m.work, stamps: m.stamps}
	return nil, one.journal(ctx, typ, list)
}

// refusedAs says why a record that the target refused is left out.
func refusedAs(r prepare.Ready, a *standing.Approval, err error) prepare.LeftOut {
	if errors.Is(err, environment.ErrMoved) {
		return prepare.LeftOut{Address: a.Address, Why: prepare.MovedSinceMatch,
			Message: fmt.Sprintf("%s was not imported: %v. %s to see it as it is now.", a.Address, environment.ErrMoved,
				r.Docket.Header.Again())}
	}
	return prepare.LeftOut{Address: a.Address, Why: prepare.Refused, Message: err.Error()}
}
