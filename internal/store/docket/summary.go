package docket

import (
	"context"
	"encoding/json"
	"errors"

	"anagram/internal/core/decision"
	"anagram/internal/core/match"
)

// Past is a docket with the runs that it has had.
type Past struct {
	Header Header
	Runs   []Run
	// AfterDue says that what is to be run after an import was not.
	AfterDue bool
}

// Summary is a docket with what became of it.
type Summary struct {
	Past
	Tally Tally
}

// Tally counts the findings that can be decided, by decision; see core/decision.
type Tally = decision.Tally

// Summarize counts the decisions of a docket and lists its runs.
func Summarize(ctx context.Context, d *Docket) (Summary, error) {
	past, err := PastOf(ctx, d)
	if err != nil {
		return Summary{Past: past}, err
	}
	tally, err := d.Tally(ctx)
	return Summary{past, tally}, err
}

// PastOf lists the runs of a docket.
func PastOf(ctx context.Context, d *Docket) (Past, error) {
	out := Past{Header: d.Header}
	var err error
	if out.Runs, err = d.Runs(ctx); err != nil {
		return out, err
	}
	out.AfterDue, err = d.AfterDue(ctx)
	return out, err
}

// Tally counts the findings by decision. Only those on which something was decided are read:
// what is open the index of the statuses tells.
func (d *Docket) Tally(ctx context.Context) (Tally, error) {
	out, err := d.AllOpen(ctx)
	if err != nil {
		return out, err
	}
	for f, err := range d.Stands(ctx) {
		if err != nil {
			return out, err
		}
		out.Decided(f.Of())
	}
	return out, nil
}

// AllOpen counts the findings as if nothing had been decided on any of them.
func (d *Docket) AllOpen(ctx context.Context) (Tally, error) {
	var out Tally
	// Only these have reasons on which it depends whether they ask for something.
	byReasons := []any{match.Conflict, match.TargetOnly}
	for _, query := range []string{
		"SELECT status, '[]', count(*) FROM findings WHERE status NOT IN (?, ?) GROUP BY status",
		"SELECT status, reasons, count(*) FROM findings WHERE status IN (?, ?) GROUP BY status, reasons",
	} {
		rows, err := d.db.QueryContext(ctx, query, byReasons...)
		if err != nil {
			return out, d.wrap(err)
		}
		defer rows.Close()
		for rows.Next() {
			var f Finding
			var reasons string
			var n int
			if err := errors.Join(rows.Scan(&f.Status, &reasons, &n), json.Unmarshal([]byte(reasons), &f.Reasons)); err != nil {
				return out, d.wrap(err)
			}
			out.Take(f.Of(), n)
		}
		if err := rows.Err(); err != nil {
			return out, d.wrap(err)
		}
	}
	return out, nil
}
