package importing

import (
	"context"
	"errors"
	"iter"

	"anagram/internal/core/record"
	"anagram/internal/flow/agreed"
	"anagram/internal/flow/importing/prepare"
	"anagram/internal/flow/session"
	"anagram/internal/flow/sides"
	"anagram/internal/flow/standing"
	"anagram/internal/store/docket"
)

// remember keeps that both sides now have what was written.
func remember(ctx context.Context, s *session.Session, r prepare.Ready, rest prepare.Rest) error {
	h := r.Docket.Header
	if h.ByHand {
		return nil
	}
	if h.Restores != 0 {
		return agreedBefore(ctx, s, r, rest)
	}
	names, err := sides.PairsOf(r.Docket) // as they were, not as they are now
	if err != nil {
		return err
	}
	between := agreed.Between{Source: h.Source, Target: h.Target, ExportedAt: h.ExportedAt, Catalog: r.Model.Catalog, Shapes: h.Keys,
		Names: names, Fields: map[string][]record.Field{}, Zones: agreed.Zones{Here: r.Model.Here, There: r.Model.There}}
	for _, t := range r.Docket.Types {
		between.Fields[t.Name] = t.Fields
	}
	return agreed.Keep(ctx, s, between, written(ctx, r, rest, func(a *standing.Approval, source record.Key) bool {
		return names.Paired(a.Type, source) && !a.Rekeys(r.Model.Catalog)
	}))
}

// written streams what both sides have by now, those that held it before included. Apart
// says which records keep another key in the target.
func written(ctx context.Context, r prepare.Ready, rest prepare.Rest, apart func(*standing.Approval,
	record.Key) bool) iter.Seq2[agreed.Written, error] {
	rest.Already = map[int64]bool{}
	return func(yield func(agreed.Written, error) bool) {
		stop := errors.New("stopped")
		err := r.Pending(rest, func(t docket.Type, batch []*standing.Approval) error {
			lines, err := r.Lines(ctx, batch)
			if err != nil {
				return err
			}
			for _, a := range batch {
				rec, err := r.Source(t, lines[a.ID])
				if err != nil {
					return err
				}
				for i, field := range t.Fields {
					if !a.Writes(field.Name) {
						rec.Values[i] = record.AbsentValue()
					}
				}
				out := agreed.Written{Type: a.Type, Record: rec, Stands: rec.Key}
				if apart(a, rec.Key) {
					was, err := record.ParseLine([]byte(lines[a.ID].Target), a.Type, t.Fields, r.Model.Shapes)
					if err != nil {
						return err
					}
					out.Stands = was.Key
				}
				if !yield(out, nil) {
					return stop
				}
			}
			return nil
		})
		if err != nil && !errors.Is(err, stop) {
			yield(agreed.Written{}, err)
		}
	}
}
