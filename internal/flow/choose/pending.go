package choose

import (
	"context"

	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
	"anagram/internal/store/register"
)

// What earlier dockets of a pair had and no import brought: left out, open, held or declined. What
// changed since the last import does not tell it.

// waiting are records by type and the order of their key, with the key as in a record line.
type waiting map[string]map[string]string

// notBrought goes through the dockets of a pair, oldest first: a later one that has the record, or
// compared all of its type, knows better.
func notBrought(ctx context.Context, s *session.Session, source, target string) (waiting, error) {
	pasts, err := s.Pasts(ctx)
	if err != nil {
		return nil, err
	}
	out := waiting{}
	for _, p := range pasts {
		h := p.Header
		if p.Err != nil || h.Source != source || h.Target != target || h.TargetParcel != "" || h.ByHand {
			continue
		}
		d, err := register.Open(ctx, s.Workspace, h.Number)
		if err != nil {
			return nil, err
		}
		err = out.after(ctx, d)
		if closed := d.Close(); err == nil {
			err = closed
		}
		if err != nil {
			return nil, err
		}
	}
	return out, nil
}

// after takes down what a docket leaves waiting.
func (w waiting) after(ctx context.Context, d *docket.Docket) error {
	brought, err := docket.Brought(ctx, d)
	if err != nil {
		return err
	}
	now := waiting{}
	for f, err := range d.Found.Findings(ctx, docket.Filter{Statuses: []match.Status{match.Conflict, match.Changed, match.New}}) {
		if err != nil {
			return err
		}
		if brought[f.ID] || f.Source == "" {
			continue
		}
		if now[f.Type] == nil {
			now[f.Type] = map[string]string{}
		}
		now[f.Type][f.Order] = f.Key
	}
	for typ, since := range d.Header.Brings {
		if since == "" {
			delete(w, typ)
		}
	}
	for f, err := range d.Found.Keys(ctx) {
		if err != nil {
			return err
		}
		delete(w[f.Type], f.Order)
	}
	for typ, keys := range now {
		for order, key := range keys {
			if w[typ] == nil {
				w[typ] = map[string]string{}
			}
			w[typ][order] = key
		}
	}
	return nil
}

// pending picks what waits of a type and was not chosen anyway.
func (g *Related) pending(ctx context.Context, typ string, pick func(record.Record) error) error {
	var keys []record.Key
	flush := func() error {
		if len(keys) == 0 {
			return nil
		}
		err := g.read(ctx, environment.Reading{Type: typ, Keys: keys}, func(rec record.Record) error {
			had, err := g.Set.Has(typ, rec.Key.Order())
			if err != nil || had {
				return err
			}
			g.Earlier++
			return pick(rec)
		})
		keys = keys[:0]
		return err
	}
	for _, text := range g.Chosen.waiting[typ] {
		key, err := g.Model.Shapes.ParseKey([]byte(text), typ)
		if err != nil {
			continue // its key was another one then
		}
		if keys = append(keys, key); len(keys) == gatherBatch {
			if err := flush(); err != nil {
				return err
			}
		}
	}
	return flush()
}
