package docket

import (
	"context"
	"encoding/json"
	"errors"

	"anagram/internal/core/decision"
	"anagram/internal/core/match"
	"anagram/internal/files/sqlitefile"
	"anagram/internal/store/docket/run"
)

// Past is a docket with the runs that it has had.
type Past struct {
	Header Header
	Runs   []run.Run
	// AfterDue says that what is to be run after an import was not.
	AfterDue bool
	// Earlier says that an earlier version made it, so that nothing new is decided or imported.
	Earlier bool
}

// Summary is a docket with what became of it.
type Summary struct {
	Past
	Tally decision.Tally
}

// Summarize counts the decisions of a docket and lists its runs.
func Summarize(ctx context.Context, d *Docket) (Summary, error) {
	past, err := PastOf(ctx, d)
	if err != nil {
		return Summary{Past: past}, err
	}
	tally, err := d.Found.Tally(ctx)
	return Summary{past, tally}, err
}

// PastOf lists the runs of a docket.
func PastOf(ctx context.Context, d *Docket) (Past, error) {
	out := Past{Header: d.Header, Earlier: d.Current() != nil}
	var err error
	if out.Runs, err = run.List(ctx, d); err != nil {
		return out, err
	}
	out.AfterDue, err = run.AfterDue(ctx, d)
	return out, err
}

// Tally counts the findings by decision. Only those on which something was decided are read:
// what is open the index of the statuses tells.
func (of Found) Tally(ctx context.Context) (decision.Tally, error) {
	out, err := of.AllOpen(ctx)
	if err != nil {
		return out, err
	}
	for f, err := range of.Stands(ctx) {
		if err != nil {
			return out, err
		}
		out.Decided(f.Of())
	}
	return out, nil
}

// AllOpen counts the findings as if nothing had been decided on any of them.
func (of Found) AllOpen(ctx context.Context) (decision.Tally, error) {
	var out decision.Tally
	type counted struct {
		Finding
		n int
	}
	scan := func(row sqlitefile.Row) (c counted, err error) {
		var reasons string
		return c, errors.Join(row.Scan(&c.Status, &reasons, &c.n), json.Unmarshal([]byte(reasons), &c.Reasons))
	}
	// Only these have reasons on which it depends whether they ask for something.
	byReasons := []any{match.Conflict, match.TargetOnly}
	for _, query := range []string{
		"SELECT status, '[]', count(*) FROM findings WHERE status NOT IN (?, ?) GROUP BY status",
		"SELECT status, reasons, count(*) FROM findings WHERE status IN (?, ?) GROUP BY status, reasons",
	} {
		for c, err := range sqlitefile.Rows(ctx, of.db, scan, query, byReasons...) {
			if err != nil {
				return out, of.wrap(err)
			}
			out.Take(c.Of(), c.n)
		}
	}
	return out, nil
}
