package session

import (
	"context"
	"fmt"
	"slices"

	"anagram/internal/core/match"
	"anagram/internal/store/docket"
)

// OpenDocket opens a docket by its number, "" for the newest, or by a path.
func (s *Session) OpenDocket(ctx context.Context, name string) (*docket.Docket, error) {
	numbers, err := s.Workspace.DocketNumbers()
	if err != nil {
		return nil, err
	}
	if name == "" {
		if len(numbers) == 0 {
			return nil, Usage("This workspace has no docket yet; anagram match makes one")
		}
		return docket.Open(ctx, s.Workspace.DocketPath(numbers[len(numbers)-1]))
	}
	var number int
	if _, err := fmt.Sscanf(name, "%d", &number); err == nil && fmt.Sprint(number) == name {
		if !slices.Contains(numbers, number) {
			return nil, Usage("This workspace has no docket %d; anagram history lists those there are", number)
		}
		return docket.Open(ctx, s.Workspace.DocketPath(number))
	}
	return docket.Open(ctx, name)
}

// DocketSummary is one docket with what became of it.
type DocketSummary struct {
	Header docket.Header
	Path   string
	Types  []docket.Type
	Tally  Tally
	Runs   []docket.Run
	Err    error
}

// Tally counts the findings that can be decided, by decision.
type Tally struct {
	Open, Approved, Declined, Held int
	// Stuck counts those open that no decision can bring on: conflicts as they stand.
	Stuck int
}

// Summaries gives every docket of the workspace, oldest first.
func (s *Session) Summaries(ctx context.Context) ([]DocketSummary, error) {
	numbers, err := s.Workspace.DocketNumbers()
	if err != nil {
		return nil, err
	}
	var out []DocketSummary
	for _, n := range numbers {
		d, err := docket.Open(ctx, s.Workspace.DocketPath(n))
		if err != nil {
			out = append(out, DocketSummary{Header: docket.Header{Number: n}, Path: s.Workspace.DocketPath(n), Err: err})
			continue
		}
		summary, err := Summarize(ctx, d)
		_ = d.Close()
		if err != nil {
			return nil, err
		}
		out = append(out, summary)
	}
	return out, nil
}

// Summarize counts the decisions of a docket and lists its runs.
func Summarize(ctx context.Context, d *docket.Docket) (DocketSummary, error) {
	out := DocketSummary{Header: d.Header, Path: d.Path(), Types: d.Types}
	for f, err := range d.Findings(ctx, docket.Filter{}) {
		if err != nil {
			return out, err
		}
		switch {
		case f.IsApproved():
			out.Tally.Approved++
		case f.Decision == docket.Declined:
			out.Tally.Declined++
		case f.Decision == docket.Held:
			out.Tally.Held++
		case match.Asks(f.Status):
			out.Tally.Open++
			if f.Hopeless() {
				out.Tally.Stuck++
			}
		}
	}
	var err error
	out.Runs, err = d.Runs(ctx)
	return out, err
}
