package session

import (
	"context"
	"fmt"
	"os"
	"slices"

	"anagram/internal/store/docket"
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
		if len(numbers) == 0 {
			return nil, Usage("This workspace has no docket yet; anagram match makes one")
		}
		newest := numbers[len(numbers)-1]
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

// Summaries gives every docket of the workspace, oldest first; one that cannot be read has
// its error.
func (s *Session) Summaries(ctx context.Context) ([]register.Entry, error) {
	return register.Dockets(ctx, s.Workspace)
}
