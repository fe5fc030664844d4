package importing

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"anagram/internal/core/check"
	"anagram/internal/core/match"
	"anagram/internal/environment"
	"anagram/internal/flow/importing/prepare"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/run"
	"anagram/internal/store/register"
)

// What is run around an import, and what people are reminded of. That it begins is on record
// before anything is run, so that what has to be run afterwards is run whatever happens: at the
// end, or where the program was killed, at the next import or match.

// reminded asks for what the workspace reminds of before an import, and gives what was ticked
// off.
func reminded(h docket.Header, request Request) ([]string, error) {
	if h.Around == nil || request.Rehearse || len(h.Around.RemindBefore) == 0 {
		return nil, nil
	}
	list := h.Around.RemindBefore
	if request.Reminded {
		return list, nil
	}
	if request.Tick == nil {
		return nil, &session.BlockedError{Docket: h.Number, Checks: []check.Check{check.Reminders(h.Number, h.Target, list)}}
	}
	for _, reminder := range list {
		done, err := request.Tick(reminder)
		if err != nil {
			return nil, err
		}
		if !done {
			return nil, &session.BlockedError{Docket: h.Number, Checks: []check.Check{check.Reminders(h.Number, h.Target,
				[]string{reminder})}}
		}
	}
	return list, nil
}

// surrounding is what is done around one import.
type surrounding struct {
	Request
	ticked []string
}

// before runs what comes before an import and gives what comes after it, which has to be run
// whatever happens.
func (a surrounding) before(ctx context.Context, s *session.Session, d *docket.Docket,
	env environment.Environment) (after func(context.Context) error, err error) {
	after = func(context.Context) error { return nil }
	of := d.Header.Around
	if of == nil {
		return after, nil
	}
	if err := run.Surround(ctx, d, run.AroundBegins, s.Who, s.Now(), a.ticked); err != nil {
		return after, err
	}
	after = func(ctx context.Context) error { return runAfter(ctx, s, d, env, of.After) }
	return after, runTogether(ctx, env, of.Before)
}

// runTogether carries out statements in one transaction: all of them, or none.
func runTogether(ctx context.Context, env environment.Environment, statements []string) error {
	if len(statements) == 0 {
		return nil
	}
	work, err := env.Begin(ctx, nil)
	if err != nil {
		return err
	}
	defer func() { _ = work.Rollback() }()
	for _, statement := range statements {
		if err := runOne(ctx, work, statement); err != nil {
			return fmt.Errorf("what anagram.yaml says to run before an import failed, so nothing was imported: %q: %w", statement, err)
		}
	}
	return work.Commit(ctx)
}

func runOne(ctx context.Context, work environment.Work, statement string) error {
	runner, ok := work.(environment.Runner)
	if !ok {
		return errors.New("it runs no statements of its own")
	}
	return runner.Run(ctx, statement)
}

// runAfter carries out what comes after an import, each statement by itself, and records that
// it ended. The error names those that failed; all are due again at the next import or match.
func runAfter(ctx context.Context, s *session.Session, d *docket.Docket, env environment.Environment, statements []string) error {
	var failed []string
	for _, statement := range statements {
		work, err := env.Begin(ctx, nil)
		if err == nil {
			if err = runOne(ctx, work, statement); err == nil {
				err = work.Commit(ctx)
			}
			_ = work.Rollback()
		}
		if err != nil {
			failed = append(failed, fmt.Sprintf("%q: %s", statement, strings.TrimRight(err.Error(), " .")))
		}
	}
	if len(failed) > 0 {
		return fmt.Errorf("what anagram.yaml says to run after an import was not, of docket %d into %s: %s. All of it is run again at the next import or match; where it is wrong, correct it in anagram.yaml first", d.Header.Number, d.Header.Target, strings.Join(failed, "; "))
	}
	return run.Surround(ctx, d, run.AroundEnds, s.Who, s.Now(), nil)
}

// runDue carries out what should have been run after earlier imports into a target, where the
// program was killed before, and gives their dockets.
func runDue(ctx context.Context, s *session.Session, target string) ([]int, error) {
	summaries, err := s.Pasts(ctx)
	if err != nil {
		return nil, err
	}
	var out []int
	for _, summary := range summaries {
		if summary.Err != nil || !summary.AfterDue || summary.Header.Target != target {
			continue
		}
		ran, err := dueIn(ctx, s, summary.Header.Number)
		if err != nil {
			return out, err
		}
		if ran {
			out = append(out, summary.Header.Number)
		}
	}
	return out, nil
}

func dueIn(ctx context.Context, s *session.Session, number int) (ran bool, err error) {
	d, err := register.Open(ctx, s.Workspace, number)
	if err != nil {
		return false, err
	}
	defer d.Close()
	d.From(s.Origin)
	unlock, err := d.LockImport(ctx)
	if errors.Is(err, docket.ErrAtWork) {
		return false, nil // the import is at work itself
	}
	if err != nil {
		return false, err
	}
	defer unlock()
	return dueOf(ctx, s, d)
}

// dueOf carries out what should have been run after the last import of a docket that is locked.
// It is what the workspace says now, as that is what is trusted.
func dueOf(ctx context.Context, s *session.Session, d *docket.Docket) (ran bool, err error) {
	if due, err := run.AfterDue(ctx, d); err != nil || !due {
		return false, err
	}
	e, err := s.Workspace.Environment(d.Header.Target)
	if err != nil {
		return false, err
	}
	env, err := s.Open(ctx, d.Header.Target, false)
	if err != nil {
		return false, err
	}
	defer env.Close()
	return true, runAfter(ctx, s, d, env, e.Around.After)
}

// notTakenBack says what a rehearsal cannot take back.
func notTakenBack(r prepare.Ready) []string {
	var numbers, triggers []string
	for _, a := range r.Standing.Approved {
		typ, ok := r.Model.Catalog.Type(a.Type)
		if !ok {
			continue
		}
		place := r.Places[typ.Place(r.Model.Environment)]
		id, given := place.Column(typ.ID)
		if r.Numbers && a.Status == match.New && given && id.Default && typ.IDFrom.MadeBy == "" && !slices.Contains(numbers, place.Name) {
			numbers = append(numbers, place.Name)
		}
		if place.AnyTrigger && !slices.Contains(triggers, place.Name) {
			triggers = append(triggers, place.Name)
		}
	}
	var out []string
	if len(numbers) > 0 {
		out = append(out, "numbers that "+r.Model.Environment+" gives to new records of "+strings.Join(numbers, ", ")+" are used up")
	}
	if len(triggers) > 0 {
		out = append(out, "what triggers of "+strings.Join(triggers, ", ")+" do outside of the database is done")
	}
	return out
}
