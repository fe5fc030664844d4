package library

import (
	"context"
	"fmt"
	"strings"
	"time"

	"anagram/internal/core/check"
	"anagram/internal/core/condition"
	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/flow/session"
	"anagram/internal/store/parcel"
)

// reachWithin is how long a source is waited for that is asked only for a caution.
const reachWithin = 5 * time.Second

// SourceMoved counts the records in a parcel's scope whose stamps in the source are later
// than any in the parcel. Reached is false where the source could not be asked.
func SourceMoved(ctx context.Context, s *session.Session, p *parcel.Reader) (moved []check.Moved, reached bool) {
	m := p.Manifest
	if m.Origin != "" {
		return nil, false
	}
	ctx, cancel := context.WithTimeout(ctx, reachWithin)
	defer cancel()
	if _, err := s.Workspace.Environment(m.Source); err != nil {
		return nil, false
	}
	env, err := s.OpenDescribed(ctx, m.Source, p.Catalog)
	if err != nil {
		return nil, false
	}
	defer env.Close()
	model := &environment.Model{Environment: m.Source, Catalog: p.Catalog, Shapes: m.Keys, Here: s.Zone(m.Source)}
	for _, pt := range m.Types {
		t, ok := p.Catalog.Type(pt.Name)
		if !ok || t.StampAt == "" || pt.Newest == "" || len(env.Problems(p.Catalog, []string{pt.Name})) > 0 {
			continue
		}
		n, err := laterThan(ctx, env, model, p, pt, t.StampAt)
		if err != nil {
			return nil, false
		}
		if n > 0 {
			moved = append(moved, check.Moved{Type: pt.Name, Records: n})
		}
	}
	return moved, true
}

func laterThan(ctx context.Context, env session.Described, model *environment.Model, p *parcel.Reader, pt parcel.Type,
	stamp string) (int, error) {
	t, _ := p.Catalog.Type(pt.Name)
	moment := strings.TrimSuffix(pt.Newest, "Z") + "Z"
	later, err := condition.Compile(fmt.Sprintf("%s > timestamp('%s')", stamp, moment), pt.Name,
		t.Known(env.About.Places[t.Place(model.Environment)]))
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
		err = EachKeys(ctx, p, pt.Name, nil, count)
	}
	return n, err
}

// EachKeys gives the keys of the parcel's records of a type in batches; wanted, where it
// is given, chooses among them.
func EachKeys(ctx context.Context, p *parcel.Reader, typ string, wanted func(record.Record) bool, do func([]record.Key) error) error {
	const size = 1000
	keys := []record.Key{}
	for rec, err := range p.Records(ctx, typ) {
		if err != nil {
			return err
		}
		if wanted != nil && !wanted(rec) {
			continue
		}
		if keys = append(keys, rec.Key); len(keys) == size {
			if err := do(keys); err != nil {
				return err
			}
			keys = keys[:0]
		}
	}
	if len(keys) == 0 {
		return nil
	}
	return do(keys)
}
