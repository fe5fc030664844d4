package decide

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"anagram/internal/core/match"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
)

// Decisions carry over: a finding that was declined or held, and of which both sides
// have the values that they had then, need not be decided again.

// earlier is a decision on a finding of another docket.
type earlier struct {
	docket         int
	decision       docket.Decision
	who, note      string
	source, target string
}

// Carry fills in decisions of earlier dockets of the same pair, and tells how many.
func Carry(ctx context.Context, s *session.Session, path string, header docket.Header) (int, error) {
	if header.TargetParcel != "" || header.ByHand {
		return 0, nil
	}
	before, err := decided(ctx, s, header)
	if err != nil || len(before) == 0 {
		return 0, err
	}
	d, err := docket.Open(ctx, path)
	if err != nil {
		return 0, err
	}
	defer d.Close()
	type said struct{ who, note string }
	verdicts := map[said][]docket.Verdict{}
	var order []said
	n := 0
	for f, err := range d.Findings(ctx, docket.Filter{Statuses: []match.Status{match.Conflict, match.Changed, match.New, match.TargetEdit}}) {
		if err != nil {
			return 0, err
		}
		was, ok := before[f.Type+"\x00"+f.Order]
		if !ok || was.source != f.Source || was.target != f.Target {
			continue
		}
		by := said{was.who, fmt.Sprintf("carried over from docket %d", was.docket)}
		if was.note != "" {
			by.note += ": " + was.note
		}
		if verdicts[by] == nil {
			order = append(order, by)
		}
		verdicts[by] = append(verdicts[by], docket.Verdict{Finding: f.ID, Decision: was.decision})
		n++
	}
	for _, by := range order {
		if err := d.Decide(ctx, by.who, by.note, s.Now(), verdicts[by]); err != nil {
			return 0, err
		}
	}
	return n, nil
}

// decided gives what was declined or held in earlier dockets of a pair, by type and key;
// the latest docket that has a finding counts.
func decided(ctx context.Context, s *session.Session, header docket.Header) (map[string]earlier, error) {
	numbers, err := s.Workspace.DocketNumbers()
	if err != nil {
		return nil, err
	}
	out := map[string]earlier{}
	for _, n := range numbers {
		if n >= header.Number {
			continue
		}
		d, err := docket.Open(ctx, s.Workspace.DocketPath(n))
		if err != nil {
			continue // one that cannot be read says nothing; anagram history names it
		}
		if h := d.Header; h.Source == header.Source && h.Target == header.Target && h.TargetParcel == "" {
			err = readDecided(ctx, d, out)
		}
		_ = d.Close()
		if err != nil {
			return nil, err
		}
	}
	return out, nil
}

func readDecided(ctx context.Context, d *docket.Docket, out map[string]earlier) error {
	for f, err := range d.Findings(ctx, docket.Filter{Statuses: []match.Status{match.Conflict, match.Changed, match.New, match.TargetEdit}}) {
		if err != nil {
			return err
		}
		at := f.Type + "\x00" + f.Order
		if !slices.Contains([]docket.Decision{docket.Declined, docket.Held}, f.Decision) || len(f.ByField) > 0 {
			delete(out, at)
			continue
		}
		was := earlier{docket: d.Header.Number, decision: f.Decision, who: f.DecidedBy, note: f.Note, source: f.Source, target: f.Target}
		// A decision that was carried over itself keeps its first docket.
		if rest, ok := strings.CutPrefix(f.Note, "carried over from docket "); ok {
			if first, note, _ := strings.Cut(rest, ": "); first != "" {
				if _, err := fmt.Sscan(first, &was.docket); err == nil {
					was.note = note
				}
			}
		}
		out[at] = was
	}
	return nil
}
