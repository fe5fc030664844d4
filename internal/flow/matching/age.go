package matching

import (
	"context"
	"time"

	"anagram/internal/core/check"
	"anagram/internal/flow/library"
	"anagram/internal/store/docket"
)

// checkTimes adds what time has to say about the whole docket.
func (m *matching) checkTimes(ctx context.Context, fresh bool) error {
	p := m.parcel.Manifest
	name := library.LibraryName(m.session, m.parcel)
	add := func(c check.Check) error {
		m.whole = append(m.whole, c)
		return m.check(ctx, 0, c)
	}
	if exported, err := time.Parse(time.RFC3339, p.ExportedAt); err == nil {
		if c, old := check.Age(name, exported, m.session.Now()); old {
			if err := add(c); err != nil {
				return err
			}
		}
	}
	if !fresh {
		moved, reached := library.SourceMoved(ctx, m.session, m.parcel)
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if c, ok := check.Source(name, p.Source, moved); reached && ok {
			if err := add(c); err != nil {
				return err
			}
		}
	}
	if m.against != nil {
		return nil
	}
	summaries, err := m.session.Summaries(ctx)
	if err != nil {
		return err
	}
	for _, d := range summaries {
		if d.Err != nil || d.Header.Target != m.target {
			continue
		}
		imports, open := 0, false
		for _, r := range d.Runs {
			if r.Kind == docket.ImportRun || r.Kind == docket.ConfirmRun {
				imports++
				open = r.EndedAt == ""
			}
		}
		switch {
		case open:
			if err := add(check.Unfinished(d.Header.Number, m.target)); err != nil {
				return err
			}
		case imports == 0 && d.Tally.Approved > 0 && !docket.LoadsWait(d.Runs):
			if err := add(check.Open(d.Header.Number, m.target, d.Tally.Approved)); err != nil {
				return err
			}
		}
	}
	return nil
}
