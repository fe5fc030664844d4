package importing

import (
	"context"
	"errors"
	"slices"
	"time"

	"anagram/internal/core/check"
	"anagram/internal/environment"
	"anagram/internal/flow/importing/prepare"
	"anagram/internal/flow/importing/verify"
	"anagram/internal/flow/importing/write"
	"anagram/internal/flow/session"
	"anagram/internal/flow/sides"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/run"
)

// Result says what was written.
type Result struct {
	Header   docket.Header
	Outcome  string
	New      int
	Changed  int
	Removed  int
	Steps    bool // each write was lasting by itself
	Already  int  // approved records that held the approved values before
	LeftOut  []prepare.LeftOut
	Failures []prepare.LeftOut // why nothing was written, of a failed import
	Verified bool
	Backup   int  // before-images in the docket
	Earlier  bool // an earlier import of this docket was interrupted
	Seconds  float64
	Open     int // findings that still ask for a decision
	// Undecided are those of them that a decision would bring on.
	Undecided int
	// Before is an earlier import of which was found out only now how it ended.
	Before *Settled
	// Around is what is run and reminded of around the import; nil is nothing, or was not.
	Around *docket.Around
	// Overdue are imports of which what is to be run afterwards was run only now.
	Overdue []int
	// AfterFailed is why what is to be run after the import was not.
	AfterFailed error
	// Settled says that the answer to the commit was lost, and reading the target showed
	// what came of it.
	Settled bool
	// Forgotten is why it could not be remembered that both sides agree now.
	Forgotten error
	// Unrecorded is why the docket does not have the outcome.
	Unrecorded error
	// unwritten are approvals that an import into a target without transactions did not come to.
	unwritten map[int64]prepare.LeftOut
}

// Request says how a docket is imported.
type Request struct {
	Rehearse bool   // do everything in the target and take it back
	To       string // the target as the person names it; "" where they did not
	Resume   bool   // go on with an import that was broken off half way
	Complete bool   // only where every finding is decided
	// Reminded says that what the workspace reminds of before an import was seen to. Tick, where
	// it is given, asks a person instead, one by one.
	Reminded bool
	Tick     func(reminder string) (bool, error)
	// Told, where it is given, hears before a rehearsal what it cannot take back.
	Told func(what []string)
}

// Import writes what is approved in a docket into its target, in one transaction; a
// rehearsal does the same and takes it back.
func Import(ctx context.Context, s *session.Session, d *docket.Docket, request Request) (Result, error) {
	start, rehearse := time.Now(), request.Rehearse
	result := Result{Header: d.Header}
	if err := prepare.Known(s, d); err != nil {
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
	if result, err = before(ctx, s, d, result, rehearse); err != nil {
		return result, err
	}
	r, rest, err := prepare.Prepare(ctx, s, d)
	if err != nil {
		return result.Refused(err), err
	}
	result.Open, result.Undecided, result.Earlier = r.Open, r.Undecided, r.Earlier
	idle, kind := run.Imported, run.ImportRun
	if rehearse {
		idle, kind = run.Rehearsed, run.RehearsalRun
	}
	if request.Complete && r.Open > 0 {
		return result, &session.OpenError{Docket: d.Header.Number, Open: r.Open}
	}
	if r.Run, err = goesOn(ctx, d, request, r.Earlier); err != nil {
		return result.Refused(err), err
	}
	if r.Run == 0 {
		if err := d.Current(); err != nil {
			return result, err
		}
	}
	if outcome, nothing := r.NothingLeft(rest, idle); nothing && r.Run == 0 {
		result.Outcome, result.LeftOut = outcome, rest.List(r.Standing.Approved)
		return result, nil
	}
	ticked, err := reminded(d.Header, request)
	if err != nil {
		return result.Refused(err), err
	}
	result, err = into(ctx, s, r, rest, result, idle, kind, surrounding{request, ticked})
	result.Seconds = time.Since(start).Seconds()
	return result, err
}

// before does what comes before anything else: it finds out how the last import ended where that
// is not known, and runs what should have been run after earlier ones.
func before(ctx context.Context, s *session.Session, d *docket.Docket, result Result, rehearse bool) (Result, error) {
	var err error
	if result.Before, err = settleLast(ctx, s, d); err != nil || rehearse {
		return result, err
	}
	if result.Overdue, err = runDue(ctx, s, d.Header.Target); err != nil {
		return result, err
	}
	own, err := dueOf(ctx, s, d) // its own lock is held here
	if own {
		result.Overdue = append(result.Overdue, d.Header.Number)
	}
	return result, err
}

// goesOn gives the run that an import goes on with, as it was broken off half way, 0 for none;
// and refuses an import that does not say so.
func goesOn(ctx context.Context, d *docket.Docket, request Request, earlier bool) (int64, error) {
	unfinished, open, err := lastUnfinished(ctx, d)
	switch {
	case err != nil:
		return 0, err
	case open && !request.Resume:
		return 0, brokenOff(ctx, d, unfinished)
	case open && request.Rehearse:
		return 0, session.Usage("--rehearse and --resume do not go together: what was written is not taken back")
	case request.Resume && !open && !earlier:
		return 0, session.Usage("No import of docket %d was broken off, so there is nothing to resume", d.Header.Number)
	case open:
		return unfinished.Seq, nil
	}
	return 0, nil
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
	if h.Then != "" {
		return refuse(check.BackToThen(h.Source, h.Target, h.Number))
	}
	before, err := s.OtherWay(ctx, h.Source, h.Target)
	if err != nil || before == 0 {
		return err
	}
	return refuse(check.NotTo(h.Source, h.Target, "", h.Number, before))
}

// into writes what is ready into the target. Idle is the outcome where all goes well.
func into(ctx context.Context, s *session.Session, r prepare.Ready, rest prepare.Rest, result Result, idle, kind string,
	around surrounding) (out Result, failed error) {
	d, rehearse := r.Docket, kind == run.RehearsalRun
	env, err := s.Open(ctx, d.Header.Target, false)
	if err != nil {
		return result, err
	}
	defer env.Close()
	if r, err = prepare.Fits(ctx, s, r, env); err != nil {
		return result.Refused(err), err
	}
	if rehearse && around.Told != nil {
		around.Told(notTakenBack(r))
	}
	if !rehearse {
		result.Around = d.Header.Around
		after, err := around.before(ctx, s, d, env)
		defer func() { out.AfterFailed = after(context.WithoutCancel(ctx)) }()
		if err != nil {
			return result, err
		}
	}
	begun, err := env.Begin(ctx, placesWritten(r))
	if err != nil {
		return result, err
	}
	work := sides.Into(begun, r.Names)
	defer func() { _ = work.Rollback() }()
	if !work.Transaction() && rehearse {
		return result,
			session.Usage("%s cannot take back what was written (%s), so nothing can be rehearsed there. Import without --rehearse: each write is journaled and read back at once, and can be resumed and taken back", d.Header.Target, lasting(r, s))
	}
	// Nobody else imports from here on, so what holds now holds to the end.
	if err := prepare.Guarded(ctx, s, r, begun); err != nil {
		return result.Refused(err), err
	}
	seq := r.Run
	if seq == 0 {
		if seq, err = run.Start(ctx, d, kind, s.Who, s.Now()); err != nil {
			return result, err
		}
	}
	if !work.Transaction() {
		return step(ctx, s, r, work, rest, result, seq)
	}
	r.Run = seq
	r.Judge, _ = begun.(environment.Judge)
	return transaction(ctx, s, r, work, rest, result, idle)
}

// transaction imports in one transaction, or rehearses.
func transaction(ctx context.Context, s *session.Session, r prepare.Ready, work environment.Work, rest prepare.Rest, result Result,
	idle string) (Result, error) {
	start, d, seq, rehearse := time.Now(), r.Docket, r.Run, idle == run.Rehearsed
	one, err := inTransaction(ctx, s, r, work, rest, !rehearse)
	result.Backup, result.Failures = one.backup, one.failures
	if err == nil && len(one.failures) == 0 && one.usedUp() {
		_ = work.Rollback()
		result.Outcome = run.Blocked
		result.Ended(r, one.rest, start)
		return result, End(context.WithoutCancel(ctx), s, r, seq, result, one.rest, nil)
	}
	if err == nil && len(one.failures) == 0 {
		result.New, result.Changed, result.Removed, result.Verified = one.written.New, one.written.Changed, one.written.Removed, true
		if rehearse {
			err = work.Rollback()
		} else if err = run.AboutToCommit(ctx, d, run.Run{Seq: seq, New: result.New, Changed: result.Changed, Removed: result.Removed,
			LeftOut: len(one.rest.Left)}); err == nil {
			err = work.Commit(ctx)
		}
	}
	var lost *environment.Error
	if errors.As(err, &lost) && lost.Conflict {
		// Nothing was written. Which records it was about, the target shows once that is over.
		_ = work.Rollback()
		if moved := verify.MovedSince(ctx, r, s, one.rest); len(moved) > 0 {
			one.failures, err = moved, nil
			result.Failures = moved
		}
	}
	result, err = became(ctx, s, r, result, one, idle, err)
	if result.Outcome != idle && result.Outcome != run.Unknown {
		_ = work.Rollback()
	}
	result.Ended(r, one.rest, start)
	// The outcome is kept even where the person pressed Ctrl-C.
	ended := End(context.WithoutCancel(ctx), s, r, seq, result, one.rest, err)
	if result.Outcome == run.Imported { // it stands, even if the docket does not say so
		result.Unrecorded = ended
		return result, nil
	}
	return result, errors.Join(err, ended)
}

// became says what became of a transaction that ended, well or with an error.
func became(ctx context.Context, s *session.Session, r prepare.Ready, result Result, one done, idle string, err error) (Result, error) {
	result.Outcome, err = outcomeOf(ctx, idle, err, one.failures)
	if result.Outcome == run.Unknown { // the answer was lost; the target knows
		if outcome := verify.Found(context.WithoutCancel(ctx), r, s, one.rest); outcome != run.Unknown {
			result.Outcome, result.Settled, err = outcome, true, nil
		}
	}
	if result.Outcome == run.Imported {
		// What was imported stays imported, whatever becomes of this.
		result.Forgotten = remember(context.WithoutCancel(ctx), s, r, one.rest, one.stamps)
	}
	if result.Outcome != idle && result.Outcome != run.Unknown {
		result.New, result.Changed, result.Removed, result.Verified = 0, 0, 0, false
	}
	return result, err
}

// Nothing reports whether no approval was even tried.
func (r Result) Nothing() bool {
	return r.New+r.Changed+r.Removed+r.Already+len(r.LeftOut)+len(r.Failures) == 0
}

// Refused gives the outcome of an import that a guard stopped.
func (r Result) Refused(err error) Result {
	var blocked *session.BlockedError
	if errors.As(err, &blocked) {
		r.Outcome = run.Blocked
	}
	return r
}

// Ended completes the result with what nothing was written of, and the time it took.
func (r *Result) Ended(ready prepare.Ready, rest prepare.Rest, start time.Time) {
	r.LeftOut, r.Already = rest.List(ready.Standing.Approved), len(rest.Already)
	r.Seconds = time.Since(start).Seconds()
}

// outcomeOf says how a transaction ended; good is the outcome where nothing went wrong.
func outcomeOf(ctx context.Context, good string, err error, failures []prepare.LeftOut) (string, error) {
	var unknown *environment.UnknownOutcomeError
	switch {
	case errors.As(err, &unknown):
		return run.Unknown, err
	case err != nil && ctx.Err() != nil:
		return run.Interrupted, ctx.Err()
	case err != nil || len(failures) > 0:
		return run.Failed, err
	default:
		return good, nil
	}
}

// done is what happened between lock and commit.
type done struct {
	rest     prepare.Rest
	written  write.Written
	failures []prepare.LeftOut
	backup   int
	stamps   *prepare.Stamps // of what was read back
}

// usedUp reports whether nothing is left to write as approvals do not count any more.
func (d done) usedUp() bool {
	if d.written.New+d.written.Changed+d.written.Removed+len(d.rest.Already) > 0 || len(d.rest.Left) == 0 {
		return false
	}
	for _, left := range d.rest.Left {
		if !slices.Contains([]check.Code{check.ApprovalUsed, check.DecidedLater, check.ApprovalsCode}, check.Code(left.Why)) {
			return false
		}
	}
	return true
}

// inTransaction does everything between lock and commit.
func inTransaction(ctx context.Context, s *session.Session, r prepare.Ready, work environment.Work, rest prepare.Rest,
	lasting bool) (done, error) {
	out := done{rest: rest, stamps: &prepare.Stamps{}}
	writes, rest, err := prepare.StandAgain(ctx, s, r, work, rest, func(images []run.Image) error {
		out.backup += len(images)
		return run.SaveImages(ctx, r.Docket, r.Run, images)
	})
	out.rest = rest
	if err != nil {
		return out, err
	}
	others, err := verify.Watch(ctx, r, work, rest)
	if err != nil {
		return out, err
	}
	if out.written, out.failures, err = write.Write(ctx, s, r, work, writes); err != nil || len(out.failures) > 0 {
		return out, err
	}
	if err := work.Settle(ctx); err != nil {
		return out, err
	}
	keep := func(t docket.Type, list []prepare.Now) error {
		if !lasting {
			return nil
		}
		out.stamps.Note(list)
		return run.SaveAfters(ctx, r.Docket, r.Run, r.Made(t, list))
	}
	if out.failures, err = verify.ReadBack(ctx, s, r, work, rest, out.written.New+out.written.Changed+out.written.Removed,
		keep); err != nil || len(out.failures) > 0 {
		return out, err
	}
	if out.failures, err = others.Altered(ctx, r, work); err != nil {
		return out, err
	}
	return out, ctx.Err()
}

// End records the outcome of a run in the docket.
func End(ctx context.Context, s *session.Session, r prepare.Ready, seq int64, result Result, rest prepare.Rest, cause error) error {
	one := run.Run{Seq: seq, Outcome: result.Outcome, New: result.New, Changed: result.Changed, Removed: result.Removed,
		LeftOut: len(rest.Left)}
	if cause != nil {
		one.Message = cause.Error()
	}
	if len(result.Failures) > 0 {
		one.Message = result.Failures[0].Message
	}
	var outcomes []run.Outcome
	for _, a := range r.Standing.Approved {
		o := run.Outcome{Finding: a.ID, Outcome: run.WasWritten}
		left, isLeft := rest.Left[a.ID]
		if _, not := result.unwritten[a.ID]; not {
			continue
		}
		switch {
		case isLeft:
			o.Outcome, o.Why, o.Message = run.WasLeftOut, left.Why, left.Message
		case rest.Already[a.ID]:
			o.Outcome = run.WasAlready
		case result.Outcome != run.Imported && !result.Steps || result.Outcome == run.Failed:
			continue
		}
		outcomes = append(outcomes, o)
	}
	return run.End(ctx, r.Docket, one, s.Now(), outcomes)
}
