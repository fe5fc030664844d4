package run

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"

	"anagram/internal/files/sqlitefile"
	"anagram/internal/store/docket/form"
)

// Replay is what the chain says of the runs, as it is gone through.
type Replay struct {
	runs     []Run
	outcomes map[int64]string
	images   map[int64]string
	afters   map[int64]string
	made     map[int64]map[int64]After // of journaled runs
}

// NewReplay begins before the first link.
func NewReplay() *Replay {
	return &Replay{outcomes: map[int64]string{}, images: map[int64]string{}, afters: map[int64]string{}, made: map[int64]map[int64]After{}}
}

// Take takes a link that is about imports and rehearsals.
func (r *Replay) Take(kind, content string) error {
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
			of.EndedAt, of.Outcome, of.New, of.Changed, of.Removed, of.LeftOut, of.Message = c.At, c.Outcome, c.New, c.Changed,
				c.Removed, c.LeftOut, c.Message
			r.outcomes[c.Run] = c.Outcomes
		}
		return err
	default:
		return fmt.Errorf("its kind %q is not known", kind)
	}
}

// takeJournal takes a link of an import without one transaction: the plan, or
// a step of it.
func (r *Replay) takeJournal(kind, content string, run func(int64) (*Run, error)) error {
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

// Differs says in what the tables of the runs are not as the chain says, "" where they are.
func (r *Replay) Differs(ctx context.Context, q sqlitefile.Queryer) (string, error) {
	have, err := runs(ctx, q)
	if err != nil {
		return "", err
	}
	for i := range max(len(have), len(r.runs)) {
		if i >= len(have) || i >= len(r.runs) || have[i] != r.runs[i] {
			return fmt.Sprintf("run %d is not as its log says", i+1), nil
		}
	}
	for _, run := range have {
		if wrong, err := r.kept(ctx, q, run); err != nil || wrong != "" {
			return wrong, err
		}
	}
	return "", nil
}

// kept holds what a run kept against the chain.
func (r *Replay) kept(ctx context.Context, q sqlitefile.Queryer, run Run) (string, error) {
	sum, err := form.OutcomesSum(ctx, q, run.Seq)
	if err != nil {
		return "", err
	}
	if was, ok := r.outcomes[run.Seq]; ok && was != sum {
		return fmt.Sprintf("what became of the records in run %d is not as its log says", run.Seq), nil
	}
	if sum, err = form.ImagesSum(ctx, q, run.Seq); err != nil {
		return "", err
	}
	if was, ok := r.images[run.Seq]; ok && was != sum {
		return fmt.Sprintf("the before-images of run %d are not as its log says", run.Seq), nil
	}
	if sum, err = form.AftersSum(ctx, q, run.Seq); err != nil {
		return "", err
	}
	was, ok := r.afters[run.Seq]
	if run.Journaled {
		made, err := afters(ctx, q, run.Seq)
		if err != nil {
			return "", err
		}
		if ok = true; maps.Equal(made, r.made[run.Seq]) {
			was = sum
		}
	}
	if ok && was != sum {
		return fmt.Sprintf("what was read back of the new records of run %d is not as its log says", run.Seq), nil
	}
	return "", nil
}
