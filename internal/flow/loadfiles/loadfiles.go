// Package loadfiles writes what is approved in a docket as files for somebody else to load,
// and finds out later whether they were loaded.
//
// The contract: the target is only read. The files appear in a new folder, all of them or
// none, in import order and with approved fields only. What was loaded is found by reading
// the target and recorded in the docket where all of it is there.
package loadfiles

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"time"

	"anagram/internal/core/sequence"
	"anagram/internal/environment"
	"anagram/internal/flow/importing"
	"anagram/internal/flow/importing/prepare"
	"anagram/internal/flow/importing/write"
	"anagram/internal/flow/session"
	"anagram/internal/flow/sides"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/run"
)

// Forms lists the forms of load files.
func Forms() []string { return []string{"csv", "jsonl", "sql"} }

// Write writes the approved records and fields of a docket into a new folder, in import
// order.
func Write(ctx context.Context, s *session.Session, d *docket.Docket, dir, form string) (importing.Result, error) {
	start := time.Now()
	result := importing.Result{Header: d.Header}
	if !slices.Contains(Forms(), form) {
		return result, session.Usage("--form is csv, jsonl or sql, not %q", form)
	}
	if info, err := os.Lstat(dir); err == nil {
		entries, _ := os.ReadDir(dir)
		if !info.IsDir() || len(entries) > 0 {
			return result, session.Usage("%s is there already and is no empty folder; name a new one with --into-files", dir)
		}
	}
	if err := prepare.Known(s, d); err != nil {
		return result, err
	}
	unlock, err := d.LockImport(ctx)
	if err != nil {
		return result, err
	}
	defer unlock()
	if err := d.Current(); err != nil {
		return result, err
	}
	r, rest, err := prepare.Prepare(ctx, s, d)
	if err != nil {
		return result.Refused(err), err
	}
	result.Open, result.Earlier = r.Open, r.Earlier
	rest = r.WithoutRemovals(rest)
	if outcome, nothing := r.NothingLeft(rest, run.WrittenOut); nothing {
		result.Outcome, result.LeftOut = outcome, rest.List(r.Standing.Approved)
		return result, nil
	}
	env, err := s.Open(ctx, d.Header.Target, true)
	if err != nil {
		return result, err
	}
	defer env.Close()
	if r, err = prepare.Fits(ctx, s, r, env); err == nil {
		err = prepare.Guarded(ctx, s, r, env)
	}
	if err != nil {
		return result.Refused(err), err
	}
	one, err := run.Start(ctx, d, run.FilesRun, s.Who, s.Now())
	if err != nil {
		return result, err
	}
	r.Run = one
	writes, rest, err := prepare.StandAgain(ctx, s, r, sides.Renamed(env, r.Names), rest, func(images []run.Image) error {
		return run.SaveImages(ctx, d, one, images)
	})
	if err == nil {
		var written write.Written
		written, err = into(ctx, s, r, env, dir, form, writes)
		result.New, result.Changed = written.New, written.Changed
	}
	switch {
	case err != nil && ctx.Err() != nil:
		result.Outcome, err = run.Interrupted, ctx.Err()
	case err != nil:
		result.Outcome = run.Failed
	default:
		result.Outcome = run.WrittenOut
	}
	result.Ended(r, rest, start)
	return result, errors.Join(err, importing.End(context.WithoutCancel(ctx), s, r, one, result, rest, err))
}

// into writes into a folder beside the wanted one, which it becomes at the end.
func into(ctx context.Context, s *session.Session, r prepare.Ready, env environment.Environment, dir, form string,
	writes []sequence.Write) (write.Written, error) {
	none := write.Written{}
	if err := os.MkdirAll(filepath.Dir(dir), 0o700); err != nil {
		return none, err
	}
	made, err := os.MkdirTemp(filepath.Dir(dir), ".load-files-")
	if err != nil {
		return none, err
	}
	defer os.RemoveAll(made)
	l := &loadWriter{session: s, ready: r, dir: made, form: form}
	if form == "sql" {
		scripter := env.Can().Scripter
		if scripter == nil {
			return none, session.Usage("%s takes no SQL; write the files as csv or jsonl", r.Docket.Header.Target)
		}
		l.script, l.lasting = scripter.Script(), lasting(r, writes)
	}
	if err := l.write(ctx, writes); err != nil {
		return none, err
	}
	_ = os.Remove(dir) // an empty folder
	return l.written, os.Rename(made, dir)
}

// lasting gives the places among those that are written to in which nothing can be taken back.
func lasting(r prepare.Ready, writes []sequence.Write) []string {
	types := map[int64]string{}
	for _, a := range r.Standing.Approved {
		types[a.ID] = a.Type
	}
	var out []string
	for _, w := range writes {
		t, _ := r.Model.Catalog.Type(types[w.ID])
		if place := r.Places[t.Place(r.Model.Environment)]; place.NoRollback && !slices.Contains(out, place.Name) {
			out = append(out, place.Name)
		}
	}
	return out
}
