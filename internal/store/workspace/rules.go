package workspace

import (
	"fmt"
	"slices"

	"anagram/internal/core/decision"
	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/core/yamldoc"
)

// Rule is a decision that is made by rule on every docket. What is empty does not limit.
type Rule struct {
	Decide string   // approve, decline or hold
	Only   []string // patterns of addresses
	Status []string
	Type   []string
	Take   string // source or target, of an approval
	Note   string
}

type ruleForm struct {
	Decide string `yaml:"decide"`
	Only   words  `yaml:"only"`
	Status words  `yaml:"status"`
	Type   words  `yaml:"type"`
	Take   string `yaml:"take"`
	Note   string `yaml:"note"`
}

// words is one text or a list of them.
type words []string

// UnmarshalYAML reads a text or a list.
func (w *words) UnmarshalYAML(decode func(any) error) error {
	var one string
	if decode(&one) == nil {
		*w = words{one}
		return nil
	}
	var list []string
	err := decode(&list)
	*w = list
	return err
}

// readRules reads what stands under standing:.
func readRules(doc *yamldoc.Document, forms []ruleForm) ([]Rule, error) {
	var statuses []string
	for _, s := range match.Statuses() {
		statuses = append(statuses, string(s))
	}
	var out []Rule
	for i, form := range forms {
		at := []string{"standing"}
		r := Rule{Decide: form.Decide, Only: form.Only, Status: form.Status, Type: form.Type, Take: form.Take, Note: form.Note}
		decisions, sides := []string{"approve", "decline", "hold"}, []string{"source", "target"}
		switch {
		case !slices.Contains(decisions, r.Decide):
			return nil, doc.Errorf(at, "standing rule %d: decide: is %s, not %q%s", i+1, "approve, decline or hold", r.Decide,
				yamldoc.Nearest(r.Decide, decisions))
		case len(r.Only)+len(r.Status)+len(r.Type) == 0:
			return nil, doc.Errorf(at, "standing rule %d: say which findings it is about with only:, status: or type:", i+1)
		case r.Take != "" && (r.Decide != "approve" || !slices.Contains(sides, r.Take)):
			return nil, doc.Errorf(at, "standing rule %d: take: is source or target, and goes with decide: approve", i+1)
		}
		for _, pattern := range r.Only {
			if _, err := record.ParsePattern(pattern); err != nil {
				return nil, doc.Errorf(at, "standing rule %d: only: %v", i+1, err)
			}
		}
		for _, status := range r.Status {
			if !slices.Contains(statuses, status) {
				return nil, doc.Errorf(at, "standing rule %d: the status %q is not known%s", i+1, status, yamldoc.Nearest(status, statuses))
			}
		}
		out = append(out, r)
	}
	return out, nil
}

// String says a rule in a few words.
func (r Rule) String() string {
	text := r.Decide + " by rule"
	for _, of := range []struct {
		name  string
		words []string
	}{{"only", r.Only}, {"status", r.Status}, {"type", r.Type}} {
		for _, word := range of.words {
			text += fmt.Sprintf(" %s %s", of.name, word)
		}
	}
	if r.Take != "" {
		text += " take " + r.Take
	}
	return text
}

// readPeople reads what stands under people: each has to be a name, and another one than the rest.
func readPeople(doc *yamldoc.Document, names []string) ([]string, error) {
	var out []string
	for i, name := range names {
		if why := decision.Unfit(name); why != "" {
			return nil, doc.Errorf([]string{"people"}, "people: name %d cannot be used: %s", i+1, why)
		}
		if slices.ContainsFunc(out, func(had string) bool { return decision.Name(had) == decision.Name(name) }) {
			return nil, doc.Errorf([]string{"people"}, "people: %s stands there twice", name)
		}
		out = append(out, name)
	}
	return out, nil
}
