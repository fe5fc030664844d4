package docket

import (
	"context"
)

// Summary is a docket with what became of it.
type Summary struct {
	Header Header
	Tally  Tally
	Runs   []Run
	// AfterDue says that what is to be run after an import was not.
	AfterDue bool
}

// Tally counts the findings that can be decided, by decision.
type Tally struct {
	Open     int `json:"open"`
	Approved int `json:"approved"`
	Declined int `json:"declined"`
	Held     int `json:"held"`
	// Kept counts those of which the target's side was taken.
	Kept int `json:"target_kept,omitempty"`
	// Stuck counts those open that no decision can bring on: conflicts as they stand.
	Stuck int `json:"stuck"`
}

// Summarize counts the decisions of a docket and lists its runs.
func Summarize(ctx context.Context, d *Docket) (Summary, error) {
	out := Summary{Header: d.Header}
	for f, err := range d.Findings(ctx, Filter{}) {
		if err != nil {
			return out, err
		}
		out.Tally.Count(f)
	}
	var err error
	if out.Runs, err = d.Runs(ctx); err != nil {
		return out, err
	}
	out.AfterDue, err = d.AfterDue(ctx)
	return out, err
}

// Count adds a finding.
func (t *Tally) Count(f Finding) {
	switch f.Stand() {
	case Approved:
		t.Approved++
	case Declined:
		t.Declined++
	case Held:
		t.Held++
	case TargetKept:
		t.Kept++
	default:
		if f.Asks() {
			t.Open++
			if f.Hopeless() {
				t.Stuck++
			}
		}
	}
}
