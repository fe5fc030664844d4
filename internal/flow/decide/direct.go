package decide

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"anagram/internal/core/check"
	"anagram/internal/core/decision"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/run"
)

// What the interactive review does: it decides on findings that are in sight, without going
// through all others each time.

// Look gives one finding in full, with the checks of the match, what was said on it, what it
// refers to and what refers to it.
func Look(ctx context.Context, d *docket.Docket, id int64) (r Reviewed, to, from []docket.Linked, err error) {
	for f, err := range d.Found.Findings(ctx, docket.Filter{IDs: []int64{id}}) {
		if err != nil {
			return r, nil, nil, err
		}
		r.Finding = f
	}
	static, err := d.Found.ChecksOf(ctx, id)
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
	if to, from, err = d.Found.Links(ctx, id); err != nil {
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
	for f, err := range d.Found.Findings(ctx, docket.Filter{IDs: ids}) {
		if err != nil {
			return nil, err
		}
		if !f.IsApproved() {
			at := slices.IndexFunc(to, func(l docket.Linked) bool { return l.Finding == f.ID })
			out = append(out, check.NotApproved(r.Address, check.Need{Field: to[at].Field, Address: f.Address}, d.Header.Target,
				d.Header.Number, ""))
		}
	}
	return out, nil
}

// Before is what a person had said of a finding before they decided on it, so that the decision
// can be taken back.
type Before struct {
	id      int64
	entries []docket.LogEntry
}

// saidBy gives what a person says of a finding.
func saidBy(f docket.Finding, who string) (out []docket.LogEntry) {
	for _, w := range f.Said() {
		if decision.Name(w.Who) == decision.Name(who) {
			out = append(out, docket.LogEntry{At: w.At, Who: w.Who, Finding: f.ID, Field: w.Field, Decision: w.Decision, Note: w.Note,
				Carried: w.Carried, Overrules: w.Overrules})
		}
	}
	return out
}

// Direct says what came of a decision on findings that are in sight.
type Direct struct {
	Now      []docket.Finding // as they stand by now
	Refused  int              // that cannot be decided so
	OfOthers int              // that were to be opened again, and that others decided alone
	Before   []Before         // for Undo
}

// Directly decides on some findings by their ids, durably.
func Directly(ctx context.Context, s *session.Session, d *docket.Docket, ids []int64, r Request) (Direct, error) {
	var out Direct
	if err := Words("the note", r.Note); err != nil {
		return out, err
	}
	if err := Settled(ctx, d); err != nil {
		return out, err
	}
	if err := MayOverrule(s, d, r); err != nil {
		return out, err
	}
	r.who, r.named = s.Who, true // what is in sight is meant
	var verdicts []docket.Verdict
	for batch := range slices.Chunk(ids, mostAtOnce) {
		for f, err := range d.Found.Findings(ctx, docket.Filter{IDs: batch}) {
			if err != nil {
				return Direct{}, err
			}
			fits, ok := Verdicts(f, r)
			switch {
			case !ok:
				out.Refused++
				continue
			case len(fits) == 0 && f.Touched():
				out.OfOthers++
				continue
			}
			verdicts = append(verdicts, fits...)
			out.Before = append(out.Before, Before{f.ID, saidBy(f, s.Who)})
		}
	}
	if err := d.Decide(ctx, s.Who, r.Note, s.Now(), verdicts); err != nil {
		return Direct{}, err
	}
	var err error
	out.Now, err = again(context.WithoutCancel(ctx), d, out.Before)
	return out, err
}

// mostAtOnce is how many findings are asked for in one statement.
const mostAtOnce = 5000

// Undo takes back what a person said of findings since, and says again what they had said before.
// Everything stays in the log; what others say is theirs.
func Undo(ctx context.Context, s *session.Session, d *docket.Docket, before []Before) ([]docket.Finding, error) {
	if err := Settled(ctx, d); err != nil {
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
		verdicts = append(verdicts, takenBack(f, "", s.Who)...)
		for _, e := range b.entries {
			e.At = run.Stamp(s.Now())
			entries = append(entries, e)
		}
	}
	if err := d.Decide(ctx, s.Who, "", s.Now(), verdicts); err != nil {
		return nil, err
	}
	ctx = context.WithoutCancel(ctx) // half of it would be something else
	if err := d.Join(ctx, s.Who, run.Stamp(s.Now()), entries); err != nil {
		return nil, err
	}
	return again(ctx, d, before)
}

// LastOwn gives what the person at work had said before the last decision of theirs in a docket, so
// that it can be undone though the screen was left since; nil where they decided nothing.
func LastOwn(ctx context.Context, s *session.Session, d *docket.Docket) ([]Before, error) {
	log, err := d.Log(ctx)
	if err != nil {
		return nil, err
	}
	own := func(e docket.LogEntry) bool {
		return decision.Name(e.Who) == decision.Name(s.Who) && !e.Rule && e.Carried == 0
	}
	end := len(log)
	for end > 0 && !own(log[end-1]) {
		end--
	}
	if end == 0 {
		return nil, nil
	}
	begin := end - 1
	for begin > 0 && own(log[begin-1]) && log[begin-1].At == log[end-1].At && log[begin-1].Note == log[end-1].Note {
		begin--
	}
	before := map[int64][]decision.Word{}
	for _, e := range log[begin:end] {
		before[e.Finding] = nil
	}
	for i, e := range log {
		if _, wanted := before[e.Finding]; wanted && (i < begin || i >= end) {
			before[e.Finding] = append(before[e.Finding], decision.Word{Who: e.Who, Decision: e.Decision, Field: e.Field, At: e.At,
				Seq: int64(i + 1), Note: e.Note, Carried: e.Carried, Rule: e.Rule, Overrules: e.Overrules})
		}
	}
	var out []Before
	for batch := range slices.Chunk(slices.Sorted(maps.Keys(before)), mostAtOnce) {
		for f, err := range d.Found.Findings(ctx, docket.Filter{IDs: batch}) {
			if err != nil {
				return nil, err
			}
			f.Standing = decision.Sum(f.Of(), before[f.ID])
			out = append(out, Before{f.ID, saidBy(f, s.Who)})
		}
	}
	return out, nil
}

// again reads findings as they stand now.
func again(ctx context.Context, d *docket.Docket, of []Before) ([]docket.Finding, error) {
	var out []docket.Finding
	for batch := range slices.Chunk(of, mostAtOnce) {
		ids := make([]int64, len(batch))
		for i, b := range batch {
			ids[i] = b.id
		}
		for f, err := range d.Found.Findings(ctx, docket.Filter{IDs: ids}) {
			if err != nil {
				return nil, err
			}
			out = append(out, f)
		}
	}
	return out, nil
}
