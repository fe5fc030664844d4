package flow

import (
	"context"
	"fmt"
	"strings"
	"time"

	"anagram/internal/core/check"
	"anagram/internal/core/condition"
	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/store/docket"
	"anagram/internal/store/parcel"
)

// reachWithin is how long a source is waited for that is asked only for a caution.
const reachWithin = 5 * time.Second

// checkTimes adds what time has to say about the whole docket.
func (m *matching) checkTimes(ctx context.Context, fresh bool) error {
	p := m.parcel.Manifest
	name := m.session.libraryName(m.parcel)
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
		moved, reached := m.session.SourceMoved(ctx, m.parcel)
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
		case imports == 0 && d.Tally.Approved > 0 && !waits(d.Runs):
			if err := add(check.Open(d.Header.Number, m.target, d.Tally.Approved)); err != nil {
				return err
			}
		}
	}
	return nil
}

// SourceMoved counts the records in a parcel's scope whose stamps in the source are later
// than any in the parcel. Reached is false where the source could not be asked.
func (s *Session) SourceMoved(ctx context.Context, p *parcel.Reader) (moved []check.Moved, reached bool) {
	m := p.Manifest
	if m.Origin != "" {
		return nil, false
	}
	ctx, cancel := context.WithTimeout(ctx, reachWithin)
	defer cancel()
	if _, err := s.Workspace.Environment(m.Source); err != nil {
		return nil, false
	}
	env, err := s.openDescribed(ctx, m.Source, p.Catalog)
	if err != nil {
		return nil, false
	}
	defer env.Close()
	model := &environment.Model{Environment: m.Source, Catalog: p.Catalog, Shapes: m.Keys}
	for _, pt := range m.Types {
		t, ok := p.Catalog.Type(pt.Name)
		if !ok || t.StampAt == "" || pt.Newest == "" || len(env.problems(p.Catalog, []string{pt.Name})) > 0 {
			continue
		}
		n, err := s.laterThan(ctx, env, model, p, pt, t.StampAt)
		if err != nil {
			return nil, false
		}
		if n > 0 {
			moved = append(moved, check.Moved{Type: pt.Name, Records: n})
		}
	}
	return moved, true
}

func (s *Session) laterThan(ctx context.Context, env described, model *environment.Model, p *parcel.Reader, pt parcel.Type, stamp string) (int, error) {
	t, _ := p.Catalog.Type(pt.Name)
	moment := strings.TrimSuffix(pt.Newest, "Z") + "Z"
	later, err := condition.Compile(fmt.Sprintf("%s > timestamp('%s')", stamp, moment), pt.Name, t.Known(env.about.Places[t.Place(model.Environment)]))
	if err != nil {
		return 0, nil // stamps that are no times say nothing
	}
	n := 0
	count := func(keys []record.Key) error {
		for _, err := range env.Read(ctx, model, environment.Reading{Type: pt.Name, Keys: keys, Where: []*condition.Condition{later}}) {
			if err != nil {
				return err
			}
			n++
		}
		return nil
	}
	if pt.Whole {
		err = count(nil)
	} else {
		err = (&matching{parcel: p}).eachKeys(ctx, pt.Name, nil, count)
	}
	return n, err
}
