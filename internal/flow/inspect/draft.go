package inspect

import (
	"context"
	"io"
	"os"
	"path/filepath"

	"anagram/internal/core/catalog"
	"anagram/internal/core/draft"
	"anagram/internal/environment"
	"anagram/internal/files/safe"
	"anagram/internal/flow/session"
)

// How much of the data a draft looks at.
const (
	setupRows  = 50_000 // a place with more rows is taken for transactions
	sampleRows = 2_000
)

// Draft makes a first catalog from a live environment. With a path the text is written
// there; what is there already is never overwritten.
func Draft(ctx context.Context, s *session.Session, name, path string) (*draft.Draft, []byte, error) {
	if path != "" {
		if _, err := os.Lstat(path); err == nil {
			return nil, nil, session.Usage("%s already exists; name another file with --out", path)
		}
	}
	env, err := s.Open(ctx, name, true)
	if err != nil {
		return nil, nil, err
	}
	defer env.Close()
	about, err := env.Describe(ctx)
	if err != nil {
		return nil, nil, err
	}
	prober := env.Can().Prober
	if prober == nil {
		return nil, nil, session.Usage("a catalog cannot be drafted from %s, as its connector cannot look at data", name)
	}
	if len(about.Places) == 0 {
		return nil, nil, session.Usage("%s has no tables to draft a catalog from", name)
	}
	s.Progress.Start("looking at the tables of "+name, len(about.Places))
	d, err := draft.Make(about.Places, &asker{ctx: ctx, prober: prober, progress: s.Progress, rows: map[string]int{}})
	s.Progress.Done()
	if err != nil {
		return nil, nil, err
	}
	text := d.YAML(name)
	if len(d.Types) > 0 { // what is written must be readable
		if _, err := catalog.Parse("draft", text); err != nil {
			return nil, nil, err
		}
	}
	if path == "" {
		return d, text, nil
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return nil, nil, err
	}
	err = safe.WriteNew(path, func(out io.Writer) error {
		_, err := out.Write(text)
		return err
	})
	if err != nil {
		return nil, nil, err
	}
	return d, text, nil
}

// asker answers the draft's questions from the environment, and remembers counts.
type asker struct {
	ctx      context.Context
	prober   environment.Prober
	progress session.Progress
	rows     map[string]int
}

func (a *asker) Rows(place string) (int, bool, error) {
	if n, ok := a.rows[place]; ok {
		return min(n, setupRows), n > setupRows, nil
	}
	n, err := a.prober.CountUpTo(a.ctx, place, setupRows+1)
	a.rows[place] = n
	a.progress.Add(1)
	return min(n, setupRows), n > setupRows, err
}

func (a *asker) Distinct(place string, columns, nullable []string) (int, error) {
	return a.prober.Distinct(a.ctx, place, columns, nullable, setupRows)
}

func (a *asker) Sample(place, column string) ([]string, error) {
	return a.prober.Sample(a.ctx, place, column, sampleRows)
}

func (a *asker) Resolves(place, column, to, toColumn string) (bool, error) {
	n, err := a.prober.Dangling(a.ctx, place, column, to, toColumn, sampleRows)
	return n == 0, err
}
