package decide

import (
	"context"
	"slices"

	"anagram/internal/core/decision"
	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/core/yamldoc"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
	"anagram/internal/store/register"
	"anagram/internal/store/workspace"
)

// ByRule makes the decisions that the workspace makes by rule on what nobody decided yet, and
// tells on how many findings. Of several rules about a finding one that declines it wins, then one
// that holds it, then the first. A type that the docket does not have is no error: rules are about
// all dockets.
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
	for f, err := range d.Found.Findings(ctx, docket.Filter{}) {
		if err != nil {
			return 0, err
		}
		if f.Touched() || !match.Asks(f.Status) && f.Status != match.TargetEdit && f.Status != match.TargetOnly {
			continue
		}
		at := strongest(s.Workspace.Standing, f)
		if at < 0 {
			continue
		}
		rule := s.Workspace.Standing[at]
		fits, _ := Verdicts(f, Request{Decision: decisionOf(rule.Decide), Take: rule.Take})
		for _, v := range fits {
			v.Rule = true
			verdicts[at] = append(verdicts[at], v)
		}
		n++
	}
	for i, rule := range s.Workspace.Standing {
		if err := d.Decide(ctx, s.Who, rule.Note, s.Now(), verdicts[i]); err != nil {
			return 0, err
		}
	}
	return n, nil
}

func decisionOf(word string) decision.Decision {
	return map[string]decision.Decision{"approve": decision.Approved, "decline": decision.Declined, "hold": decision.Held}[word]
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

// strongest gives the rule that decides a finding, -1 for none. What cannot be approved so waits
// for a person.
func strongest(rules []workspace.Rule, f docket.Finding) int {
	best := -1
	for i, rule := range rules {
		if !isAbout(rule, f) {
			continue
		}
		if _, ok := Verdicts(f, Request{Decision: decisionOf(rule.Decide), Take: rule.Take}); !ok {
			continue
		}
		if best < 0 || strength(rule) > strength(rules[best]) {
			best = i
		}
	}
	return best
}

func strength(rule workspace.Rule) int {
	return map[string]int{"decline": 2, "hold": 1}[rule.Decide]
}

// KnownRules refuses standing rules that name a record type which the catalog does not have: what
// they were to decide would be left to nobody.
func KnownRules(s *session.Session) error {
	if len(s.Workspace.Standing) == 0 {
		return nil
	}
	c, err := s.Workspace.Catalog()
	if err != nil {
		return err
	}
	names := c.Names()
	for i, rule := range s.Workspace.Standing {
		wanted := slices.Clone(rule.Type)
		for _, text := range rule.Only {
			if p, err := record.ParsePattern(text); err == nil && p.Type() != "" {
				wanted = append(wanted, p.Type())
			}
		}
		for _, typ := range wanted {
			if !record.HasStar(typ) && !slices.Contains(names, typ) {
				return session.Usage("%s: standing rule %d: the record type %q is not in the catalog%s", workspace.ConfigName, i+1, typ,
					yamldoc.Nearest(typ, names))
			}
		}
	}
	return nil
}
