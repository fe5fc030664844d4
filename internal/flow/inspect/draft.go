package inspect

import (
	"context"
	"io"
	"os"
	"path/filepath"
	"slices"

	"anagram/internal/core/catalog"
	"anagram/internal/core/draft"
	"anagram/internal/core/evidence"
	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/files/safe"
	"anagram/internal/flow/session"
)

// How much of the data a draft looks at.
const (
	countRows = 50_001     // rows are counted up to here
	lookRows  = 50_000     // rows of a place that are looked at
	fewRows   = 5_000      // the same once much was looked at
	muchCells = 20_000_000 // values
)

// Drafting says what to draft from, and what of it a person wants whatever the data say.
type Drafting struct {
	Environments []string // one, or a source and a target
	Wish         draft.Wish
}

// Draft makes a first catalog from one or two live environments. With a path the text is
// written there; what is there already is never overwritten.
func Draft(ctx context.Context, s *session.Session, of Drafting, path string) (*draft.Draft, []byte, error) {
	if path != "" {
		if _, err := os.Lstat(path); err == nil {
			return nil, nil, session.Usage("%s already exists; name another file with --out, or bring in what is new with --into", path)
		}
	}
	d, err := drafted(ctx, s, of)
	if err != nil {
		return nil, nil, err
	}
	text := d.YAML()
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
	return d, text, err
}

// drafted looks at the environments and drafts a catalog of them.
func drafted(ctx context.Context, s *session.Session, of Drafting) (*draft.Draft, error) {
	if len(of.Environments) == 2 && of.Environments[0] == of.Environments[1] {
		return nil, session.Usage("A catalog is drafted from a source and a target, and both are %s", of.Environments[0])
	}
	var sights []draft.Sight
	l := &looker{ctx: ctx, progress: s.Progress}
	for _, name := range of.Environments {
		env, err := s.Open(ctx, name, true)
		if err != nil {
			return nil, err
		}
		defer env.Close()
		about, err := env.Describe(ctx)
		if err != nil {
			return nil, err
		}
		prober := env.Can().Prober
		if prober == nil {
			return nil, session.Usage("A catalog cannot be drafted from %s, as its connector cannot look at data", name)
		}
		if len(about.Places) == 0 {
			return nil, session.Usage("%s has no tables to draft a catalog from", name)
		}
		l.total += len(about.Places)
		sights = append(sights, draft.Sight{Name: name, Places: about.Places,
			Look: func(place string, columns []string) (*evidence.Table, error) {
				return l.look(prober, place, columns)
			}})
	}
	if len(sights) == 2 && !common(sights[0], sights[1]) {
		return nil, session.Usage("%s have no table in common, so they are not two environments of one application", join(of.Environments))
	}
	for _, wanted := range slices.Concat(of.Wish.With, of.Wish.Without) {
		if !draft.Names(wanted, sights) {
			return nil, session.Usage("No table of %s is called %q", join(of.Environments), wanted)
		}
	}
	s.Progress.Start("looking at tables", l.total)
	d, err := draft.Make(sights, of.Wish)
	s.Progress.Done()
	if err != nil {
		return nil, err
	}
	if len(d.Types) > 0 { // what is written must be readable
		if _, err := catalog.Parse("draft", d.YAML()); err != nil {
			return nil, err
		}
	}
	return d, nil
}

func common(a, b draft.Sight) bool {
	for name := range a.Places {
		if _, both := b.Places[name]; both {
			return true
		}
	}
	return false
}

func join(names []string) string {
	if len(names) == 1 {
		return names[0]
	}
	return names[0] + " and " + names[1]
}

// looker reads what a draft is to see, within bounds.
type looker struct {
	ctx      context.Context
	progress session.Progress
	total    int
	cells    int
}

func (l *looker) look(prober environment.Prober, place string, columns []string) (*evidence.Table, error) {
	defer l.progress.Add(1)
	rows, err := prober.CountUpTo(l.ctx, place, countRows)
	if err != nil {
		return nil, err
	}
	most := lookRows
	if l.cells > muchCells {
		most = fewRows
	}
	table := evidence.New(columns)
	table.Rows = rows
	if rows == 0 {
		return table, nil
	}
	err = prober.Look(l.ctx, place, columns, most, func(row []record.Value) error {
		l.cells += len(row)
		table.Add(row)
		return l.ctx.Err()
	})
	return table, err
}
