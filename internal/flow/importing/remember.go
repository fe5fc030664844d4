package importing

import (
	"context"
	"errors"
	"iter"
	"slices"

	"anagram/internal/core/known"
	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/flow/agreed"
	"anagram/internal/flow/importing/prepare"
	"anagram/internal/flow/session"
	"anagram/internal/flow/sides"
	"anagram/internal/flow/standing"
	"anagram/internal/store/docket"
)

// remember keeps that both sides now have what was written, and by which stamps it is known as our own.
func remember(ctx context.Context, s *session.Session, r prepare.Ready, rest prepare.Rest, stamps *prepare.Stamps) error {
	h := r.Docket.Header
	if h.ByHand || h.Then != "" {
		return nil
	}
	if h.Restores != 0 {
		return agreedBefore(ctx, s, r, rest, stamps)
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
	return agreed.Keep(ctx, s, between, written(ctx, r, rest, stamps, func(a *standing.Approval, source record.Key) bool {
		return names.Paired(a.Type, source) && !a.Rekeys(r.Model.Catalog)
	}))
}

// ownWrite is by what the write of a finding is known later, nil where the target has no stamp.
func ownWrite(r prepare.Ready, finding int64, stamps *prepare.Stamps) *known.Own {
	at, by := stamps.Of(finding)
	if at == "" {
		return nil
	}
	return &known.Own{Docket: r.Docket.Header.Number, In: r.Docket.Header.Target, At: at, By: by}
}

// settled reports whether both sides have the same by now in all fields: of a record that either side
// made on its own nothing is known before.
func settled(a *standing.Approval, fields []record.Field, source, target record.Record) bool {
	return !slices.ContainsFunc(match.Compare(fields, source.Values, target.Values, nil), func(d match.Difference) bool {
		return !a.Writes(fields[d.Field].Name)
	})
}

// written streams what both sides have by now, those that held it before included. Apart
// says which records keep another key in the target.
func written(ctx context.Context, r prepare.Ready, rest prepare.Rest, stamps *prepare.Stamps, apart func(*standing.Approval,
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
				out := agreed.Written{Type: a.Type, Record: rec, Stands: rec.Key, Own: ownWrite(r, a.ID, stamps)}
				elsewhere, twice := apart(a, rec.Key), slices.Contains(lines[a.ID].Reasons, match.CreatedOnBoth)
				if elsewhere || twice {
					was, err := record.ParseLine([]byte(lines[a.ID].Target), a.Type, t.Fields, r.Model.Shapes)
					if err != nil {
						return err
					}
					if twice && !settled(a, t.Fields, rec, was) {
						continue
					}
					if elsewhere {
						out.Stands = was.Key
					}
				}
				for i, field := range t.Fields {
					if !a.Writes(field.Name) {
						rec.Values[i] = record.AbsentValue()
					}
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
