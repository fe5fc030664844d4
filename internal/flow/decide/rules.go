package decide

import (
	"context"

	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
	"anagram/internal/store/register"
	"anagram/internal/store/workspace"
)

// ByRule makes the decisions that the workspace makes by rule on what nobody decided yet, and
// tells on how many findings. The first rule that fits a finding decides it. A type that the
// docket does not have is no error: rules are about all dockets.
func ByRule(ctx context.Context, s *session.Session, number int) (int, error) {
	if len(s.Workspace.Standing) == 0 {
		return 0, nil
	}
	d, err := register.Open(ctx, s.Workspace, number)
	if err != nil {
		return 0, err
	}
	defer d.Close()
	d.From(s.Origin)
	verdicts := make([][]docket.Verdict, len(s.Workspace.Standing))
	n := 0
	for f, err := range d.Findings(ctx, docket.Filter{}) {
		if err != nil {
			return 0, err
		}
		if f.Touched() || !match.Asks(f.Status) && f.Status != match.TargetEdit && f.Status != match.TargetOnly {
			continue
		}
		for i, rule := range s.Workspace.Standing {
			if !isAbout(rule, f) {
				continue
			}
			fits, ok := verdictsOn(f, Request{Decision: decisionOf(rule.Decide), Take: rule.Take})
			if !ok {
				continue // what cannot be approved so waits for a person
			}
			for _, v := range fits {
				v.Rule = true
				verdicts[i] = append(verdicts[i], v)
			}
			n++
			break
		}
	}
	for i, rule := range s.Workspace.Standing {
		if err := d.Decide(ctx, s.Who, rule.Note, s.Now(), verdicts[i]); err != nil {
			return 0, err
		}
	}
	return n, nil
}

func decisionOf(word string) docket.Decision {
	return map[string]docket.Decision{"approve": docket.Approved, "decline": docket.Declined, "hold": docket.Held}[word]
}

// isAbout reports whether a rule is about a finding.
func isAbout(rule workspace.Rule, f docket.Finding) bool {
	among := func(words []string, word string) bool {
		for _, w := range words {
			if w == word {
				return true
			}
		}
		return len(words) == 0
	}
	if !among(rule.Status, string(f.Status)) || !among(rule.Type, f.Type) {
		return false
	}
	for _, text := range rule.Only {
		if p, err := record.ParsePattern(text); err == nil && p.Match(f.Address) {
			return true
		}
	}
	return len(rule.Only) == 0
}
