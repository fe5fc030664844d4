package run

import (
	"context"
	"database/sql"
	"encoding/json"

	"anagram/internal/files/sqlitefile"
)

// The journal of an import into a target without transactions: what it set out to write, and
// of each write when it began and when it was done. It stands in the chain, so that nobody can
// say that something was written by it which was not.

// Plan is what an import sets out to write.
type Plan struct {
	Run   int64   `json:"run"`
	Write []int64 `json:"write"` // findings
	// Left are those approved that are left out, with why.
	Left []Outcome `json:"left,omitempty"`
}

// Step is one write: a finding, and which pass over it.
type Step struct {
	Finding int64  `json:"finding"`
	Pass    string `json:"pass"`
}

// What is known of a step.
const (
	StepBegun   = "begun" // it was sent, or is about to be
	StepDone    = "done"
	StepRefused = "refused"
)

// stepped is a link of the journal.
type stepped struct {
	Run int64 `json:"run"`
	Step
	State string `json:"state"`
	Why   string `json:"why,omitempty"`
	More  []Step `json:"more,omitempty"` // steps of which the same is said
	Sum   string `json:"sum,omitempty"`  // of a record that was made, as in After
	ID    string `json:"id,omitempty"`
}

// stepMade is a link that says what was read back of a new record.
const stepMade = "made"

// Planned records durably what a run sets out to write.
func Planned(ctx context.Context, b Book, plan Plan) error {
	return b.Change(ctx, func(tx *sql.Tx, link func(string, any) error) error {
		if err := link(linkPlan, plan); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, "UPDATE runs SET journaled = 1 WHERE seq = ?", plan.Run)
		return err
	})
}

// Journal records durably how far a step is. Why is the refusal.
func Journal(ctx context.Context, b Book, run int64, step Step, state, why string) error {
	return changed(ctx, b, linkStep, stepped{Run: run, Step: step, State: state, Why: why})
}

// JournalAll records durably of several steps at once how far they are.
func JournalAll(ctx context.Context, b Book, run int64, steps []Step, state string) error {
	if len(steps) == 0 {
		return nil
	}
	return changed(ctx, b, linkStep, stepped{Run: run, Step: steps[0], State: state, More: steps[1:]})
}

// JournalMade records durably what was read back of a new record.
func JournalMade(ctx context.Context, b Book, run int64, after After) error {
	return b.Change(ctx, func(tx *sql.Tx, link func(string, any) error) error {
		if err := link(linkStep, stepped{Run: run, Step: Step{Finding: after.Finding}, State: stepMade, Sum: after.Sum,
			ID: after.ID}); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, "INSERT OR REPLACE INTO afters VALUES (?,?,?,?)", run, after.Finding, after.Sum, after.ID)
		return err
	})
}

// Progress is how far a run came.
type Progress struct {
	Plan  Plan
	State map[Step]string
	Why   map[Step]string // of those refused
	Last  int64           // the finding of the last step, 0 for none
}

// entry is a link as it stands in the file.
type entry struct{ kind, content string }

func scanEntry(row sqlitefile.Row) (e entry, err error) { return e, row.Scan(&e.kind, &e.content) }

// ProgressOf reads the journal of a run.
func ProgressOf(ctx context.Context, b Book, run int64) (Progress, error) {
	out := Progress{State: map[Step]string{}, Why: map[Step]string{}}
	q, done := b.Reading()
	defer done()
	for e, err := range sqlitefile.Rows(ctx, q, scanEntry, "SELECT kind, content FROM links WHERE kind IN (?, ?) ORDER BY seq",
		linkPlan, linkStep) {
		if err == nil {
			err = out.take(e, run)
		}
		if err != nil {
			return out, b.Wrap(err)
		}
	}
	return out, nil
}

// take takes a link of the journal, where it is of this run.
func (p *Progress) take(e entry, run int64) error {
	if e.kind == linkPlan {
		var plan Plan
		err := json.Unmarshal([]byte(e.content), &plan)
		if plan.Run == run {
			p.Plan = plan
		}
		return err
	}
	var one stepped
	err := json.Unmarshal([]byte(e.content), &one)
	if one.Run != run || one.State == stepMade {
		return err
	}
	for _, step := range append([]Step{one.Step}, one.More...) {
		p.State[step], p.Why[step], p.Last = one.State, one.Why, step.Finding
	}
	return err
}

// Counts tells how many findings of the plan were written, or may have been.
func (p Progress) Counts() (written, planned int) {
	seen := map[int64]bool{}
	for step, state := range p.State {
		if state != StepRefused {
			seen[step.Finding] = true
		}
	}
	return len(seen), len(p.Plan.Write)
}
