package decide

import (
	"context"
	"fmt"
	"slices"

	"anagram/internal/core/check"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
)

// What the interactive review does: it decides on findings that are in sight, without going
// through all others each time.

// Look gives one finding in full, with the checks of the match, what was said on it, what it
// refers to and what refers to it.
func Look(ctx context.Context, d *docket.Docket, id int64) (r Reviewed, to, from []docket.Linked, err error) {
	for f, err := range d.Findings(ctx, docket.Filter{IDs: []int64{id}}) {
		if err != nil {
			return r, nil, nil, err
		}
		r.Finding = f
	}
	static, err := d.ChecksOf(ctx, id)
	if err != nil {
		return r, nil, nil, err
	}
	for _, c := range static {
		if !c.Partial {
			r.Checks = append(r.Checks, c.Check)
		}
	}
	said, err := d.Comments(ctx)
	if err != nil {
		return r, nil, nil, err
	}
	for _, c := range said {
		if c.Finding == id {
			r.Said = append(r.Said, c)
		}
	}
	if to, from, err = d.Links(ctx, id); err != nil {
		return r, nil, nil, err
	}
	waits, err := waitsFor(ctx, d, r, to)
	r.Checks = append(r.Checks, waits...)
	return r, to, from, err
}

// waitsFor says what an approved finding waits for.
func waitsFor(ctx context.Context, d *docket.Docket, r Reviewed, to []docket.Linked) ([]check.Check, error) {
	if !r.IsApproved() {
		return nil, nil
	}
	var ids []int64
	for _, l := range to {
		if l.Finding != 0 && l.Finding != r.ID {
			ids = append(ids, l.Finding)
		}
	}
	if len(ids) == 0 {
		return nil, nil
	}
	var out []check.Check
	for f, err := range d.Findings(ctx, docket.Filter{IDs: ids}) {
		if err != nil {
			return nil, err
		}
		if !f.IsApproved() {
			at := slices.IndexFunc(to, func(l docket.Linked) bool { return l.Finding == f.ID })
			out = append(out, check.NotApproved(r.Address, check.Need{Field: to[at].Field, Address: f.Address}, d.Header.Target, d.Header.Number, ""))
		}
	}
	return out, nil
}

// Before is what a finding stood like before a decision, so that it can be taken back.
type Before struct {
	id      int64
	entries []docket.LogEntry
}

// Directly decides on some findings by their ids, durably. Refused counts those that cannot be
// decided so; before is for Undo.
func Directly(ctx context.Context, s *session.Session, d *docket.Docket, ids []int64, r Request) (decided []docket.Finding, refused int, before []Before, err error) {
	if err := words("the note", r.Note); err != nil {
		return nil, 0, nil, err
	}
	if err := settled(ctx, d); err != nil {
		return nil, 0, nil, err
	}
	var verdicts []docket.Verdict
	for batch := range slices.Chunk(ids, mostAtOnce) {
		for f, err := range d.Findings(ctx, docket.Filter{IDs: batch}) {
			if err != nil {
				return nil, 0, nil, err
			}
			fits, ok := verdictsOn(f, r)
			if !ok {
				refused++
				continue
			}
			verdicts = append(verdicts, fits...)
			before = append(before, Before{f.ID, f.Entries()})
		}
	}
	if err := d.Decide(ctx, s.Who, r.Note, s.Now(), verdicts); err != nil {
		return nil, 0, nil, err
	}
	decided, err = again(context.WithoutCancel(ctx), d, before)
	return decided, refused, before, err
}

// mostAtOnce is how many findings are asked for in one statement.
const mostAtOnce = 5000

// Undo brings findings back to what they stood like: what was decided since stays in the log.
func Undo(ctx context.Context, s *session.Session, d *docket.Docket, before []Before) ([]docket.Finding, error) {
	if err := settled(ctx, d); err != nil {
		return nil, err
	}
	now := map[int64]docket.Finding{}
	current, err := again(ctx, d, before)
	if err != nil {
		return nil, err
	}
	for _, f := range current {
		now[f.ID] = f
	}
	var verdicts []docket.Verdict
	var entries []docket.LogEntry
	for _, b := range before {
		f, ok := now[b.id]
		if !ok {
			return nil, fmt.Errorf("finding %d is gone", b.id)
		}
		verdicts = append(verdicts, takenBack(f, "")...)
		for _, e := range b.entries {
			if e.Who == s.Who { // who takes back their own word says the one before again, now
				e.At = docket.Stamp(s.Now())
			}
			entries = append(entries, e)
		}
	}
	if err := d.Decide(ctx, s.Who, "", s.Now(), verdicts); err != nil {
		return nil, err
	}
	ctx = context.WithoutCancel(ctx) // half of it would be something else
	// What others said before stands again as they said it, by whom and when.
	if err := d.Join(ctx, s.Who, docket.Stamp(s.Now()), entries); err != nil {
		return nil, err
	}
	return again(ctx, d, before)
}

// again reads findings as they stand now.
func again(ctx context.Context, d *docket.Docket, of []Before) ([]docket.Finding, error) {
	var out []docket.Finding
	for batch := range slices.Chunk(of, mostAtOnce) {
		ids := make([]int64, len(batch))
		for i, b := range batch {
			ids[i] = b.id
		}
		for f, err := range d.Findings(ctx, docket.Filter{IDs: ids}) {
			if err != nil {
				return nil, err
			}
			out = append(out, f)
		}
	}
	return out, nil
}
