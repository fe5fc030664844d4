package docket

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
)

// Replaying the chain, and holding the tables against it.

func (r *replay) take(kind, content string) error {
	read := func(into any) error { return json.Unmarshal([]byte(content), into) }
	switch kind {
	case linkDecide:
		var c decided
		err := read(&c)
		r.decisions = append(r.decisions, c.Verdicts...)
		return err
	case linkComment:
		var c commented
		err := read(&c)
		r.comments = append(r.comments, c.Comments...)
		return err
	case linkSign:
		var c signedOff
		err := read(&c)
		r.signatures = append(r.signatures, c.Signatures...)
		return err
	case linkEarlier:
		var c earlierApproved
		err := read(&c)
		r.earlier = append(r.earlier, c.Earlier...)
		return err
	default:
		return r.takeRun(kind, content)
	}
}

// takeRun takes a link that is about imports and rehearsals.
func (r *replay) takeRun(kind, content string) error {
	read := func(into any) error { return json.Unmarshal([]byte(content), into) }
	run := func(seq int64) (*Run, error) {
		if seq < 1 || seq > int64(len(r.runs)) {
			return nil, fmt.Errorf("it is about run %d, which did not begin", seq)
		}
		return &r.runs[seq-1], nil
	}
	switch kind {
	case linkStart:
		var c started
		if err := read(&c); err != nil {
			return err
		}
		r.runs = append(r.runs, Run{Seq: c.Run, Kind: c.Kind, Who: c.Who, StartedAt: c.Started})
		if c.Run != int64(len(r.runs)) {
			return fmt.Errorf("run %d begins out of turn", c.Run)
		}
		return nil
	case linkImages:
		var c imagesKept
		err := read(&c)
		r.images[c.Run] = c.Sum
		return err
	case linkAround:
		var c around
		return read(&c)
	case linkPlan, linkStep:
		return r.takeJournal(kind, content, run)
	case linkCommit:
		var c committing
		if err := read(&c); err != nil {
			return err
		}
		of, err := run(c.Run)
		if err == nil {
			of.Outcome, of.New, of.Changed, of.Removed, of.LeftOut = Unknown, c.New, c.Changed, c.Removed, c.LeftOut
			r.afters[c.Run] = c.Afters
		}
		return err
	case linkEnd:
		var c ended
		if err := read(&c); err != nil {
			return err
		}
		of, err := run(c.Run)
		if err == nil {
			of.EndedAt, of.Outcome, of.New, of.Changed, of.Removed, of.LeftOut, of.Message = c.At, c.Outcome, c.New, c.Changed, c.Removed, c.LeftOut, c.Message
			r.outcomes[c.Run] = c.Outcomes
		}
		return err
	default:
		return fmt.Errorf("its kind %q is not known", kind)
	}
}

// takeJournal takes a link of an import without one transaction: the plan, or
// a step of it.
func (r *replay) takeJournal(kind, content string, run func(int64) (*Run, error)) error {
	if kind == linkPlan {
		var c Plan
		if err := json.Unmarshal([]byte(content), &c); err != nil {
			return err
		}
		of, err := run(c.Run)
		if err == nil {
			of.Journaled = true
		}
		return err
	}
	var c stepped
	if err := json.Unmarshal([]byte(content), &c); err != nil {
		return err
	}
	if _, err := run(c.Run); err != nil {
		return err
	}
	if c.State == stepMade {
		if r.made[c.Run] == nil {
			r.made[c.Run] = map[int64]After{}
		}
		r.made[c.Run][c.Finding] = After{c.Finding, c.Sum, c.ID}
	}
	return nil
}

// compare holds the tables against the chain.
func (d *Docket) compare(ctx context.Context, q queryer, r replay) error {
	log, err := d.log(ctx, q)
	if err != nil {
		return err
	}
	for i := range max(len(log), len(r.decisions)) {
		if i >= len(log) || i >= len(r.decisions) || log[i] != r.decisions[i] {
			return d.altered("decision %d is not as its log says", i+1)
		}
	}
	if err := errors.Join(d.compareComments(ctx, q, r.comments), d.compareSignatures(ctx, q, r.signatures), d.compareEarlier(ctx, q, r.earlier)); err != nil {
		return err
	}
	runs, err := d.runs(ctx, q)
	if err != nil {
		return err
	}
	for i := range max(len(runs), len(r.runs)) {
		if i >= len(runs) || i >= len(r.runs) || runs[i] != r.runs[i] {
			return d.altered("run %d is not as its log says", i+1)
		}
	}
	for _, run := range runs {
		if err := d.compareRun(ctx, q, r, run); err != nil {
			return err
		}
	}
	return nil
}

// compareRun holds what a run kept against the chain.
func (d *Docket) compareRun(ctx context.Context, q queryer, r replay, run Run) error {
	sum, err := outcomesSum(ctx, q, run.Seq)
	if err != nil {
		return d.wrap(err)
	}
	if was, ok := r.outcomes[run.Seq]; ok && was != sum {
		return d.altered("what became of the records in run %d is not as its log says", run.Seq)
	}
	if sum, err = imagesSum(ctx, q, run.Seq); err != nil {
		return d.wrap(err)
	}
	if was, ok := r.images[run.Seq]; ok && was != sum {
		return d.altered("the before-images of run %d are not as its log says", run.Seq)
	}
	if sum, err = aftersSum(ctx, q, run.Seq); err != nil {
		return d.wrap(err)
	}
	was, ok := r.afters[run.Seq]
	if run.Journaled {
		made, err := afters(ctx, q, run.Seq)
		if err != nil {
			return d.wrap(err)
		}
		if ok = true; maps.Equal(made, r.made[run.Seq]) {
			was = sum
		}
	}
	if ok && was != sum {
		return d.altered("what was read back of the new records of run %d is not as its log says", run.Seq)
	}
	return nil
}
