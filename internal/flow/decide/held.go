package decide

import (
	"cmp"
	"context"
	"slices"

	"anagram/internal/core/check"
	"anagram/internal/flow/session"
	"anagram/internal/flow/standing"
	"anagram/internal/store/docket"
)

// What holds approved records up, and what a decision changes about that.

// Cause is a check that holds up so many records.
type Cause struct {
	check.Check
	Records int
}

// Causes gives what is in the way of records, once for each cause.
func Causes(records []BlockedRecord) []Cause {
	var out []Cause
	at := map[string]int{}
	for _, b := range records {
		for _, c := range b.Checks {
			key := string(c.Code) + "\n" + c.Mend
			if i, known := at[key]; known && c.Shared() {
				out[i].Records++
				continue
			}
			at[key] = len(out)
			out = append(out, Cause{c, 1})
		}
	}
	return out
}

// Held gives what stands in the way of approved findings, by finding.
func Held(ctx context.Context, s *session.Session, d *docket.Docket) (map[int64][]check.Check, error) {
	demand, err := standing.Demanded(s, d)
	if err != nil {
		return nil, err
	}
	now, err := standing.Read(ctx, d, demand)
	return now.Blocked, err
}

// Since gives what holds findings up that did not before, and how many are not held up any more.
// Names gives their addresses.
func Since(before, now map[int64][]check.Check, name func(id int64) string) (newly []BlockedRecord, freed int) {
	for id, checks := range now {
		var fresh []check.Check
		for _, c := range checks {
			if !slices.ContainsFunc(before[id], c.Is) {
				fresh = append(fresh, c)
			}
		}
		if len(fresh) > 0 {
			newly = append(newly, BlockedRecord{Address: name(id), Checks: fresh})
		}
	}
	slices.SortFunc(newly, func(a, b BlockedRecord) int { return cmp.Compare(a.Address, b.Address) })
	for id := range before {
		if len(now[id]) == 0 {
			freed++
		}
	}
	return newly, freed
}
