package importing

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"anagram/internal/core/sequence"
	"anagram/internal/environment"
	"anagram/internal/flow/standing"
	"anagram/internal/store/docket"
)

// Several steps that go in one request: none of them needs another, so that each is for itself.

// together tells how many of the steps at the head can be taken at once, at most so many: the
// only steps of new or changed records of one type that are not begun yet, of which none needs
// another one.
func (r Ready) together(most int, progress docket.Progress, failed map[int64]bool, last map[int64]int, at int, writes []sequence.Write, approvals []*standing.Approval, changes []environment.Change) int {
	among := map[int64]bool{}
	n := 0
	for ; n < len(writes) && n < most; n++ {
		a, c := approvals[n], changes[n]
		alone := len(writes[n].Only)+len(writes[n].Clear)+len(writes[n].Without) > 0 || c.Remove || c.Was != nil || last[a.ID] != at+n
		needs := func(id int64) bool { return failed[id] || among[id] }
		if alone || a.Type != approvals[0].Type || progress.State[stepOf(writes[n])] != "" || failed[a.ID] || slices.ContainsFunc(a.Needs, func(of docket.Need) bool { return needs(of.Finding) }) || slices.ContainsFunc(a.After, needs) {
			break
		}
		among[a.ID] = true
	}
	return n
}

// many are steps that are taken at once.
type many struct {
	r         Ready
	work      environment.Work
	writes    []sequence.Write
	approvals []*standing.Approval
	changes   []environment.Change
}

// take writes them, and reads them back. What the target refuses is left out; where something
// reads back otherwise the error is errEnough.
func (m many) take(ctx context.Context, out *stepped, failed map[int64]bool) error {
	d := m.r.Docket
	steps := make([]docket.Step, len(m.writes))
	for i, w := range m.writes {
		steps[i] = stepOf(w)
	}
	if err := d.JournalAll(ctx, m.r.Run, steps, docket.StepBegun); err != nil {
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
	var done []docket.Step
	var written []*standing.Approval
	for i, a := range m.approvals {
		delete(out.unwritten.left, a.ID)
		if refused[i] == nil {
			done, written = append(done, steps[i]), append(written, a)
			out.written.Count(m.writes[i], m.changes[i])
			continue
		}
		left := m.r.refusedAs(a, refused[i])
		failed[a.ID] = true
		out.rest.left[a.ID] = left
		if err := d.Journal(ctx, m.r.Run, steps[i], docket.StepRefused, left.Message); err != nil {
			return err
		}
	}
	if err := d.JournalAll(ctx, m.r.Run, done, docket.StepDone); err != nil || len(written) == 0 {
		return err
	}
	otherwise, err := m.back(ctx, written)
	if err == nil && len(otherwise) > 0 {
		out.failures, err = append(out.failures, otherwise...), errEnough
	}
	return err
}

// back reads records back.
func (m many) back(ctx context.Context, written []*standing.Approval) ([]LeftOut, error) {
	typ, _ := m.r.Docket.Type(written[0].Type)
	list, images, err := m.r.besideImages(ctx, m.work, typ, written)
	if err != nil {
		return nil, err
	}
	var otherwise []LeftOut
	for _, n := range list {
		message, err := m.r.otherwise(n, typ, images[n.ID])
		if err != nil {
			return nil, err
		}
		if message != "" {
			otherwise = append(otherwise, LeftOut{Address: n.Address, Why: ReadBackDiffers, Message: message})
		}
	}
	if len(otherwise) > 0 {
		return otherwise, nil
	}
	twice, err := m.r.heldTwice(ctx, m.work, typ, list)
	if err != nil || len(twice) > 0 {
		return twice, err
	}
	one := taking{r: m.r, work: m.work}
	return nil, one.journal(ctx, typ, list)
}

// refusedAs says why a record that the target refused is left out.
func (r Ready) refusedAs(a *standing.Approval, err error) LeftOut {
	if errors.Is(err, environment.ErrMoved) {
		return LeftOut{Address: a.Address, Why: MovedSinceMatch, Message: fmt.Sprintf("%s was not imported: %v. %s to see it as it is now.", a.Address, environment.ErrMoved, r.Docket.Header.Again())}
	}
	return LeftOut{Address: a.Address, Why: Refused, Message: err.Error()}
}
