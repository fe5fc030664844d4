package importing

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"slices"
	"time"

	"anagram/internal/core/check"
	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/flow/agreed"
	"anagram/internal/flow/fit"
	"anagram/internal/flow/session"
	"anagram/internal/flow/sides"
	"anagram/internal/flow/standing"
	"anagram/internal/store/docket"
)

// Result says what was written.
type Result struct {
	Header   docket.Header
	Outcome  string
	New      int
	Changed  int
	Already  int // approved records that held the approved values before
	LeftOut  []LeftOut
	Failures []LeftOut // why nothing was written, of a failed import
	Verified bool
	Backup   int  // before-images in the docket
	Earlier  bool // an earlier import of this docket was interrupted
	Seconds  float64
	Open     int // findings that still ask for a decision
	// Undecided are those of them that a decision would bring on.
	Undecided int
	// Before is an earlier import of which was found out only now how it ended.
	Before *Settled
	// Settled says that the answer to the commit was lost, and reading the target showed
	// what came of it.
	Settled bool
	// Forgotten is why it could not be remembered that both sides agree now.
	Forgotten error
	// Unrecorded is why the docket does not have the outcome.
	Unrecorded error
}

// Request says how a docket is imported.
type Request struct {
	Rehearse bool   // do everything in the target and take it back
	To       string // the target as the person names it; "" where they did not
}

// Import writes what is approved in a docket into its target, in one transaction; a
// rehearsal does the same and takes it back.
func Import(ctx context.Context, s *session.Session, d *docket.Docket, request Request) (Result, error) {
	start, rehearse := time.Now(), request.Rehearse
	result := Result{Header: d.Header}
	if err := Known(s, d); err != nil {
		return result, err
	}
	if err := direction(ctx, s, d.Header, request.To); err != nil {
		return result.Refused(err), err
	}
	unlock, err := d.LockImport(ctx)
	if err != nil {
		return result, err
	}
	defer unlock()
	// An import of which nobody knows how it ended comes first.
	if result.Before, err = settleLast(ctx, s, d); err != nil {
		return result, err
	}
	r, rest, err := Prepare(ctx, s, d)
	if err != nil {
		return result.Refused(err), err
	}
	result.Open, result.Undecided, result.Earlier = r.Open, r.Undecided, r.Earlier
	idle, kind := docket.Imported, docket.ImportRun
	if rehearse {
		idle, kind = docket.Rehearsed, docket.RehearsalRun
	}
	if outcome, nothing := r.NothingLeft(rest, idle); nothing {
		result.Outcome, result.LeftOut = outcome, rest.List(r.Standing.Approved)
		return result, nil
	}
	result, err = into(ctx, s, r, rest, result, idle, kind)
	result.Seconds = time.Since(start).Seconds()
	return result, err
}

// direction refuses an import against the direction in which records were brought so far,
// where the person did not name the target, and one that goes elsewhere than they say.
func direction(ctx context.Context, s *session.Session, h docket.Header, to string) error {
	refuse := func(c check.Check) error {
		return &session.BlockedError{Docket: h.Number, Checks: []check.Check{c}}
	}
	if to == h.Target || h.TargetParcel != "" {
		return nil
	}
	if to != "" {
		return refuse(check.NotTo(h.Source, h.Target, to, h.Number, 0))
	}
	before, err := s.OtherWay(ctx, h.Source, h.Target)
	if err != nil || before == 0 {
		return err
	}
	return refuse(check.NotTo(h.Source, h.Target, "", h.Number, before))
}

// into writes what is ready into the target. Idle is the outcome where all goes well.
func into(ctx context.Context, s *session.Session, r Ready, rest Rest, result Result, idle, kind string) (Result, error) {
	start, d, rehearse := time.Now(), r.Docket, kind == docket.RehearsalRun
	env, err := s.Open(ctx, d.Header.Target, false)
	if err != nil {
		return result, err
	}
	defer env.Close()
	if r, err = Fits(ctx, s, r, env); err != nil {
		return result.Refused(err), err
	}
	begun, err := env.Begin(ctx)
	if err != nil {
		return result, err
	}
	work := sides.Into(begun, r.Names)
	defer func() { _ = work.Rollback() }()
	if !work.Transaction() {
		return result, session.Usage("%s cannot take back what was written, so nothing is imported into it", d.Header.Target)
	}
	// Nobody else imports from here on, so what holds now holds to the end.
	if err := Guarded(ctx, s, r, begun); err != nil {
		return result.Refused(err), err
	}
	run, err := d.StartRun(ctx, kind, s.Who, s.Now())
	if err != nil {
		return result, err
	}
	r.Run = run
	one, err := inTransaction(ctx, s, r, work, rest)
	result.Backup, result.Failures = one.backup, one.failures
	if err == nil && len(one.failures) == 0 {
		result.New, result.Changed, result.Verified = one.written.New, one.written.Changed, true
		if rehearse {
			err = work.Rollback()
		} else if err = d.AboutToCommit(ctx, run, result.New, result.Changed, len(one.rest.left)); err == nil {
			err = work.Commit(ctx)
		}
	}
	result.Outcome, err = outcomeOf(ctx, idle, err, one.failures)
	if result.Outcome == docket.Unknown { // the answer was lost; the target knows
		if outcome := r.found(context.WithoutCancel(ctx), s, one.rest); outcome != docket.Unknown {
			result.Outcome, result.Settled, err = outcome, true, nil
		}
	}
	if result.Outcome == docket.Imported {
		// What was imported stays imported, whatever becomes of this.
		result.Forgotten = remember(context.WithoutCancel(ctx), s, r, one.rest)
	}
	if result.Outcome != idle && result.Outcome != docket.Unknown {
		result.New, result.Changed, result.Verified = 0, 0, false
		_ = work.Rollback()
	}
	result.Ended(r, one.rest, start)
	// The outcome is kept even where the person pressed Ctrl-C.
	ended := End(context.WithoutCancel(ctx), s, r, run, result, one.rest, err)
	if result.Outcome == docket.Imported { // it stands, even if the docket does not say so
		result.Unrecorded = ended
		return result, nil
	}
	return result, errors.Join(err, ended)
}

// Nothing reports whether no approval was even tried.
func (r Result) Nothing() bool {
	return r.New+r.Changed+r.Already+len(r.LeftOut)+len(r.Failures) == 0
}

// Refused gives the outcome of an import that a guard stopped.
func (r Result) Refused(err error) Result {
	var blocked *session.BlockedError
	if errors.As(err, &blocked) {
		r.Outcome = docket.Blocked
	}
	return r
}

// Ended completes the result with what nothing was written of, and the time it took.
func (r *Result) Ended(ready Ready, rest Rest, start time.Time) {
	r.LeftOut, r.Already = rest.List(ready.Standing.Approved), len(rest.already)
	r.Seconds = time.Since(start).Seconds()
}

// outcomeOf says how a transaction ended; good is the outcome where nothing went wrong.
func outcomeOf(ctx context.Context, good string, err error, failures []LeftOut) (string, error) {
	var unknown *environment.UnknownOutcomeError
	switch {
	case errors.As(err, &unknown):
		return docket.Unknown, err
	case err != nil && ctx.Err() != nil:
		return docket.Interrupted, ctx.Err()
	case err != nil || len(failures) > 0:
		return docket.Failed, err
	default:
		return good, nil
	}
}

// done is what happened between lock and commit.
type done struct {
	rest     Rest
	written  Written
	failures []LeftOut
	backup   int
}

// inTransaction does everything between lock and commit.
func inTransaction(ctx context.Context, s *session.Session, r Ready, work environment.Work, rest Rest) (done, error) {
	out := done{rest: rest}
	writes, rest, err := StandAgain(ctx, s, r, work, rest, func(images []docket.Image) error {
		out.backup += len(images)
		return r.Docket.SaveBackup(ctx, r.Run, images)
	})
	out.rest = rest
	if err != nil {
		return out, err
	}
	others, err := watch(ctx, r, work, rest)
	if err != nil {
		return out, err
	}
	if out.written, out.failures, err = write(ctx, s, r, work, writes); err != nil || len(out.failures) > 0 {
		return out, err
	}
	if err := work.Settle(ctx); err != nil {
		return out, err
	}
	if out.failures, err = readBack(ctx, s, r, work, rest, out.written.New+out.written.Changed); err != nil || len(out.failures) > 0 {
		return out, err
	}
	if out.failures, err = others.altered(ctx, r, work); err != nil {
		return out, err
	}
	return out, ctx.Err()
}

// Fits refuses a target in which the catalog of the docket no longer holds, and gives what
// is ready with the target's places.
func Fits(ctx context.Context, s *session.Session, r Ready, env environment.Environment) (Ready, error) {
	about, err := env.Describe(ctx)
	if err != nil {
		return r, err
	}
	var types []string
	for _, a := range r.Standing.Approved {
		if !slices.Contains(types, a.Type) {
			types = append(types, a.Type)
		}
	}
	name, c := r.Model.Environment, r.Model.Catalog
	for _, typ := range types {
		t, _ := c.Type(typ)
		place := about.Places[t.Place(name)]
		if place.NoRollback || place.ReadOnly {
			why := "cannot take back what was written (its table has no transactions), so an import could not be all or nothing"
			if place.ReadOnly {
				why = "is a view, which is only read"
			}
			return r, session.Usage("%s of %s %s. Decline the findings of %s, or keep it elsewhere", place.Name, name, why, typ)
		}
	}
	address := r.Docket.Header.TargetAddress
	if now := s.AddressOf(name, about.Address); now != address {
		return r, &session.BlockedError{Docket: r.Docket.Header.Number, Checks: []check.Check{{Code: check.OtherTarget, Level: check.Blocker,
			Message: fmt.Sprintf("%s is %s now; when docket %d was matched it was %s.", name, now, r.Docket.Header.Number, address),
			Mend:    "Correct connect: of this environment in anagram.yaml, or match again."}}}
	}
	target := session.Described{Environment: env, About: about, Fit: c.Fits(name, about.Places)}
	if problems := target.Problems(c, types); len(problems) > 0 {
		return r, &session.CatalogError{Catalog: "the catalog in docket " + fmt.Sprint(r.Docket.Header.Number), Environment: name, Problems: problems}
	}
	r.Fit = target.Fit
	return r.In(about.Places), nil
}

// Guarded asks again whether source and target fit, as they are now and as the workspace
// says now.
func Guarded(ctx context.Context, s *session.Session, r Ready, target environment.Reader) error {
	h := r.Docket.Header
	e, err := s.Workspace.Environment(h.Target)
	if err != nil {
		return err
	}
	there, err := fit.SideOf(ctx, s, fit.Seen{Reader: target, Fit: r.Fit}, r.Model.Catalog, h.Target)
	if err != nil {
		return err
	}
	var blockers []check.Check
	for _, c := range fit.Checks(s, fit.Side{Name: h.Source, Release: h.Release, Settings: h.Settings}, there, e.Guard.Release) {
		if c.Level == check.Blocker {
			blockers = append(blockers, c)
		}
	}
	if len(blockers) > 0 {
		return &session.BlockedError{Docket: h.Number, Checks: blockers}
	}
	return nil
}

// EachNow tells of each approval that was to be written whether the target holds what was
// approved.
func EachNow(ctx context.Context, r Ready, target environment.Reader, rest Rest, give func(a *standing.Approval, asApproved bool)) error {
	return r.pending(rest, func(t docket.Type, batch []*standing.Approval) error {
		list, err := r.current(ctx, target, t, batch)
		for _, n := range list {
			give(n.Approval, r.holds(n, t))
		}
		return err
	})
}

// remember keeps that both sides now have what was written.
func remember(ctx context.Context, s *session.Session, r Ready, rest Rest) error {
	h := r.Docket.Header
	if h.ByHand {
		return nil
	}
	names, err := sides.PairsOf(r.Docket) // as they were, not as they are now
	if err != nil {
		return err
	}
	between := agreed.Between{Source: h.Source, Target: h.Target, ExportedAt: h.ExportedAt, Catalog: r.Model.Catalog, Shapes: h.Keys, Names: names, Fields: map[string][]record.Field{}, Zones: agreed.Zones{Here: r.Model.Here, There: r.Model.There}}
	for _, t := range r.Docket.Types {
		between.Fields[t.Name] = t.Fields
	}
	return agreed.Keep(ctx, s, between, r.written(ctx, rest, func(a *standing.Approval, source record.Key) bool {
		return names.Paired(a.Type, source) && !a.Rekeys(r.Model.Catalog)
	}))
}

// written streams what both sides have by now, those that held it before included. Apart
// says which records keep another key in the target.
func (r Ready) written(ctx context.Context, rest Rest, apart func(*standing.Approval, record.Key) bool) iter.Seq2[agreed.Written, error] {
	rest.already = map[int64]bool{}
	return func(yield func(agreed.Written, error) bool) {
		stop := errors.New("stopped")
		err := r.pending(rest, func(t docket.Type, batch []*standing.Approval) error {
			lines, err := r.lines(ctx, batch)
			if err != nil {
				return err
			}
			for _, a := range batch {
				rec, err := r.source(t, lines[a.ID])
				if err != nil {
					return err
				}
				for i, field := range t.Fields {
					if !a.Writes(field.Name) {
						rec.Values[i] = record.AbsentValue()
					}
				}
				out := agreed.Written{Type: a.Type, Record: rec, Stands: rec.Key}
				if apart(a, rec.Key) {
					was, err := record.ParseLine([]byte(lines[a.ID].Target), a.Type, t.Fields, r.Model.Shapes)
					if err != nil {
						return err
					}
					out.Stands = was.Key
				}
				if !yield(out, nil) {
					return stop
				}
			}
			return nil
		})
		if err != nil && !errors.Is(err, stop) {
			yield(agreed.Written{}, err)
		}
	}
}

// End records the outcome of a run in the docket.
func End(ctx context.Context, s *session.Session, r Ready, seq int64, result Result, rest Rest, cause error) error {
	run := docket.Run{Seq: seq, Outcome: result.Outcome, New: result.New, Changed: result.Changed, LeftOut: len(rest.left)}
	if cause != nil {
		run.Message = cause.Error()
	}
	if len(result.Failures) > 0 {
		run.Message = result.Failures[0].Message
	}
	var outcomes []docket.Outcome
	for _, a := range r.Standing.Approved {
		o := docket.Outcome{Finding: a.ID, Outcome: docket.WasWritten}
		left, isLeft := rest.left[a.ID]
		switch {
		case isLeft:
			o.Outcome, o.Why, o.Message = docket.WasLeftOut, left.Why, left.Message
		case rest.already[a.ID]:
			o.Outcome = docket.WasAlready
		case result.Outcome != docket.Imported:
			continue
		}
		outcomes = append(outcomes, o)
	}
	return r.Docket.EndRun(ctx, run, s.Now(), outcomes)
}
