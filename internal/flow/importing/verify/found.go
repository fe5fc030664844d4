package verify

import (
	"context"
	"fmt"

	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/flow/importing/prepare"
	"anagram/internal/flow/session"
	"anagram/internal/flow/sides"
	"anagram/internal/flow/standing"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/run"
)

// Found reads the target to find out what came of a run: imported where records are as
// approved and none is as before, failed where none is as approved, else unknown.
func Found(ctx context.Context, r prepare.Ready, s *session.Session, rest prepare.Rest) string {
	env, err := s.Open(ctx, r.Model.Environment, true)
	if err != nil {
		return run.Unknown
	}
	defer env.Close()
	names, err := sides.PairsOf(r.Docket) // as they were, not as they are now
	if err != nil {
		return run.Unknown
	}
	now, before, err := stands(ctx, r, sides.Renamed(env, names), rest)
	switch {
	case err != nil, now > 0 && before > 0, now+before == 0:
		return run.Unknown
	case now > 0:
		return run.Imported
	default:
		return run.Failed
	}
}

// stands counts the records that are as approved, and those that are as they were before.
func stands(ctx context.Context, r prepare.Ready, target environment.Reader, rest prepare.Rest) (now, before int, err error) {
	r.Beside = nil
	for l, err := range r.Lots(ctx, target, rest, true) {
		if err != nil {
			return now, before, err
		}
		for _, n := range l.List {
			image := l.Images[n.ID]
			switch {
			case r.Holds(n, l.Typ):
				now++
			case image.Line == "" && len(n.Here) == 0:
				before++
			case image.Line != "" && len(n.Here) == 1:
				is, err := AsBefore(r, n, l.Typ, image)
				if err != nil {
					return now, before, err
				}
				if is {
					before++
				}
			}
		}
	}
	return now, before, nil
}

// AsBefore reports whether a record is as its before-image says.
func AsBefore(r prepare.Ready, n prepare.Now, t docket.Type, image run.Image) (bool, error) {
	if image.Line == "" || len(n.Here) != 1 {
		return image.Line == "" && len(n.Here) == 0, nil
	}
	was, err := record.ParseLine([]byte(image.Line), t.Name, t.Fields, r.Model.Shapes)
	return err == nil && len(match.Compare(t.Fields, was.Values, n.Here[0].Values, nil)) == 0, err
}

// MovedSince reads the target once more and names the records that somebody else changed while
// an import was at work.
func MovedSince(ctx context.Context, r prepare.Ready, s *session.Session, rest prepare.Rest) []prepare.LeftOut {
	env, err := s.Open(ctx, r.Model.Environment, true)
	if err != nil {
		return nil
	}
	defer env.Close()
	names, err := sides.PairsOf(r.Docket) // as they were, not as they are now
	if err != nil {
		return nil
	}
	var out []prepare.LeftOut
	for l, err := range r.Lots(ctx, sides.Renamed(env, names), rest, false) {
		if err != nil {
			break
		}
		for _, n := range l.List {
			if moved, _, err := r.Compare(n, l.Typ); err == nil && moved != "" && len(out) < prepare.MaxFailures {
				out = append(out, prepare.LeftOut{Address: n.Address, Why: prepare.MovedSinceMatch,
					Message: fmt.Sprintf("%s: %s, while the import was at work. %s to see it as it is now.", n.Address, moved,
						r.Docket.Header.Again())})
			}
		}
	}
	return out
}

// EachNow tells of each approval that was to be written whether the target holds what was
// approved.
func EachNow(ctx context.Context, r prepare.Ready, target environment.Reader, rest prepare.Rest, give func(a *standing.Approval,
	asApproved bool)) error {
	for l, err := range r.Lots(ctx, target, rest, false) {
		if err != nil {
			return err
		}
		for _, n := range l.List {
			give(n.Approval, r.Holds(n, l.Typ))
		}
	}
	return nil
}
