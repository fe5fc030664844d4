package session

import (
	"context"
	"fmt"
	"os"
	"slices"

	"anagram/internal/store/docket"
	"anagram/internal/store/docket/run"
	"anagram/internal/store/register"
)

// OpenDocket opens a docket by its number, "" for the newest, or by a path.
func (s *Session) OpenDocket(ctx context.Context, name string) (*docket.Docket, error) {
	d, err := s.openDocket(ctx, name)
	if err == nil {
		d.From(s.Origin)
	}
	return d, err
}

func (s *Session) openDocket(ctx context.Context, name string) (*docket.Docket, error) {
	numbers, err := s.Workspace.DocketNumbers()
	if err != nil {
		return nil, err
	}
	if name == "" {
		newest, err := s.newest(ctx, numbers)
		if err != nil {
			return nil, err
		}
		return register.Open(ctx, s.Workspace, newest)
	}
	var number int
	if _, err := fmt.Sscanf(name, "%d", &number); err == nil && fmt.Sprint(number) == name {
		if !slices.Contains(numbers, number) {
			return nil, Usage("This workspace has no docket %d; anagram history lists those there are", number)
		}
		return register.Open(ctx, s.Workspace, number)
	}
	for _, n := range numbers { // one of the workspace's own, named by its path
		here, err := os.Stat(s.Workspace.DocketPath(n))
		if err != nil {
			continue
		}
		if it, err := os.Stat(name); err == nil && os.SameFile(here, it) {
			return register.Open(ctx, s.Workspace, n)
		}
	}
	d, err := docket.Open(ctx, name)
	if err != nil {
		return nil, err
	}
	if _, err := d.Verify(ctx); err != nil {
		_ = d.Close()
		return nil, err
	}
	return d, nil
}

// newest gives the newest docket that could be imported; one that only compares, or leads to
// an environment that refuses imports, is never meant where none is named.
func (s *Session) newest(ctx context.Context, numbers []int) (int, error) {
	if len(numbers) == 0 {
		return 0, Usage("This workspace has no docket yet; anagram match makes one")
	}
	entries, err := s.Pasts(ctx)
	if err != nil {
		return 0, err
	}
	for _, e := range slices.Backward(entries) {
		if e.Err != nil { // opening it says what is wrong
			return e.Header.Number, nil
		}
		if s.Imports(e.Header) {
			return e.Header.Number, nil
		}
	}
	last := numbers[len(numbers)-1]
	return 0,
		Usage("No docket of this workspace can be imported: each compares two parcels, or leads to an environment that refuses imports. Name one, such as: anagram review %d", last)
}

// NewestImported gives the newest docket of which an import wrote, 0 for none.
func (s *Session) NewestImported(ctx context.Context) (int, error) {
	entries, err := s.Pasts(ctx)
	if err != nil {
		return 0, err
	}
	for _, e := range slices.Backward(entries) {
		if e.Err == nil && slices.ContainsFunc(e.Runs, func(r run.Run) bool { return r.Done() || r.Unfinished() }) {
			return e.Header.Number, nil
		}
	}
	return 0, nil
}

// Imports reports whether a docket is one to import.
func (s *Session) Imports(h docket.Header) bool {
	if h.TargetParcel != "" {
		return false
	}
	e, err := s.Workspace.Environment(h.Target)
	return err != nil || !e.NoImports
}

// OtherWay gives the last docket that was imported the other way round, where none was
// imported this way before; 0 where there is none.
func (s *Session) OtherWay(ctx context.Context, source, target string) (int, error) {
	entries, err := s.Pasts(ctx)
	if err != nil {
		return 0, err
	}
	other := 0
	for _, e := range entries {
		if e.Err != nil || !slices.ContainsFunc(e.Runs, run.Run.Done) {
			continue
		}
		switch {
		case e.Header.Source == source && e.Header.Target == target:
			return 0, nil
		case e.Header.Source == target && e.Header.Target == source:
			other = e.Header.Number
		}
	}
	return other, nil
}

// Summaries gives every docket of the workspace, oldest first; one that cannot be read has
// its error.
func (s *Session) Summaries(ctx context.Context) ([]register.Entry, error) {
	return register.Dockets(ctx, s.Workspace)
}

// Pasts gives the same with the decisions uncounted.
func (s *Session) Pasts(ctx context.Context) ([]register.Past, error) {
	return register.Pasts(ctx, s.Workspace)
}

// TakenBack gives the dockets whose imports were taken back, by their numbers: another docket
// that does so was imported.
func TakenBack(all []register.Past) map[int]bool {
	out := map[int]bool{}
	for _, e := range all {
		if e.Err == nil && e.Header.Restores != 0 && slices.ContainsFunc(e.Runs, run.Run.Done) {
			out[e.Header.Restores] = true
		}
	}
	return out
}
