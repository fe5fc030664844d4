package flow

import (
	"context"
	"maps"
	"slices"

	"anagram/internal/core/catalog"
	"anagram/internal/environment"
	"anagram/internal/store/docket"
)

// EnvironmentReport is what a test of an environment found.
type EnvironmentReport struct {
	Name  string
	About environment.Description
	Err   error
	// Places that the account may not wholly read, not add to and not change: those of the
	// catalog's record types, or all of them while there is no catalog.
	NoRead, NoInsert, NoUpdate []string
}

// rights lists what the account may not do with the places that matter.
func (r *EnvironmentReport) rights(c *catalog.Catalog) {
	for _, name := range slices.Sorted(maps.Keys(r.About.Places)) {
		place := r.About.Places[name]
		if place.ReadOnly || c != nil && !slices.ContainsFunc(c.Types, func(t *catalog.Type) bool { return t.Place(r.Name) == name }) {
			continue
		}
		if slices.ContainsFunc(place.Columns, func(col catalog.Column) bool { return col.Unreadable }) {
			r.NoRead = append(r.NoRead, name)
		}
		if place.CannotInsert {
			r.NoInsert = append(r.NoInsert, name)
		}
		if place.CannotUpdate {
			r.NoUpdate = append(r.NoUpdate, name)
		}
	}
}

// TestEnvironments opens environments, all of the workspace where none is named.
func (s *Session) TestEnvironments(ctx context.Context, names []string) ([]EnvironmentReport, error) {
	if len(names) == 0 {
		for _, e := range s.Workspace.Environments {
			names = append(names, e.Name)
		}
	}
	c, err := s.Workspace.Catalog()
	if err != nil {
		c = nil // environments are tested before there is a catalog
	}
	var out []EnvironmentReport
	for _, name := range names {
		if _, err := s.Workspace.Environment(name); err != nil {
			return nil, err
		}
		r := EnvironmentReport{Name: name}
		for _, readOnly := range []bool{false, true} {
			env, err := s.open(ctx, name, readOnly)
			if err == nil {
				r.About, err = env.Describe(ctx)
				_ = env.Close()
			}
			if r.Err = err; err == nil {
				break
			}
		}
		r.rights(c)
		out = append(out, r)
	}
	return out, nil
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
		case docket.Asks(f.Status):
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
