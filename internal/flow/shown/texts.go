package shown

import (
	"fmt"
	"slices"
	"strings"

	"anagram/internal/core/decision"
	"anagram/internal/core/group"
	"anagram/internal/core/match"
	"anagram/internal/core/show"
	"anagram/internal/flow/decide"
	"anagram/internal/store/docket"
)

// StatusText says the status of a finding with its reasons.
func StatusText(f docket.Finding) string {
	if len(f.Reasons) == 0 {
		return string(f.Status)
	}
	return string(f.Status) + " (" + reasonsText(f.Reasons) + ")"
}

// RemovalText says what becomes of a record that an import made, where that is taken back; "" of
// any other finding.
func RemovalText(h docket.Header, f docket.Finding) string {
	if !f.Removes() {
		return ""
	}
	return fmt.Sprintf("the import of docket %d made it; approved, it is removed", h.Restores)
}

// FilledText says what an import gives a new record beside what the source brings; "" for
// nothing.
func FilledText(h docket.Header, f docket.Finding) string {
	if !f.Adds() || f.Hopeless() {
		return ""
	}
	words := map[string]string{"time": "the time of the import", "person": "who imports"}
	var parts []string
	for _, of := range h.Fills[f.Type].New {
		what, ok := words[of.What]
		if !ok {
			what = show.Readable(&of.Value)
		}
		parts = append(parts, show.Harmless(of.Field)+": "+what)
	}
	return strings.Join(parts, "; ")
}

// AroundTexts says what an import of a docket runs, and reminds people of; nil for nothing.
func AroundTexts(h docket.Header) []string {
	if h.Around == nil {
		return nil
	}
	var out []string
	for _, of := range []struct {
		what string
		list []string
	}{{"before the import, run", h.Around.Before}, {"before the import, to do", h.Around.RemindBefore},
		{"after the import, run", h.Around.After}, {"after the import, to do", h.Around.RemindAfter}} {
		for _, text := range of.list {
			out = append(out, of.what+": "+show.Harmless(text))
		}
	}
	return out
}

// CauseText says what holds a group together.
func CauseText(g docket.Group, target string) string {
	switch g.Cause {
	case group.Awaiting:
		return "is neither in " + target + " nor in this docket; all of these wait for it"
	case group.OfOwner:
		return "parts of it"
	default:
		return "with its parts and what waits for it"
	}
}

// standsText says how a finding stands, by whom, when and why.
func standsText(h docket.Header, r decide.Reviewed) string {
	text := string(r.Decision)
	stand := r.Stand()
	if r.Stands() == decision.ToSee && r.Decision == decision.Undecided {
		text = "to see"
	}
	if r.Decision == decision.Undecided && stand != decision.Approved && stand != decision.Undecided {
		text = string(stand)
	}
	fields := r.ApprovedFields()
	chosen := slices.ContainsFunc(r.Fields, func(f docket.Field) bool {
		return slices.Contains(fields, f.Field) && r.Proposes(f) != match.Write
	})
	switch {
	case text == string(decision.TargetKept):
		text = h.Target + " keeps its values, approved"
	case stand != decision.Approved:
	case r.Removes():
		text = "removal approved"
	case r.Adds():
		text = string(decision.Approved)
	default:
		text = string(decision.Approved)
		if n := len(fields); n < len(r.Fields) {
			text = fmt.Sprintf("%d of %s approved", n, show.Count(len(r.Fields), "field", ""))
		}
		if chosen {
			text += " with the values of " + h.Source
		}
	}
	if len(r.Wanted) > 0 && stand == decision.Undecided {
		return wantedText(h, r.Wanted)
	}
	return text + byWhom(r, stand)
}

// wantedText says who wants which side of what.
func wantedText(h docket.Header, wanted []decision.Wanted) string {
	var parts []string
	for _, w := range wanted {
		of := ""
		if w.Field != "" {
			of = " of " + w.Field
		}
		parts = append(parts, fmt.Sprintf("%s for the value%s in %s, %s for that in %s", strings.Join(w.Source, ", "), of, h.Source,
			strings.Join(w.Target, ", "), h.Target))
		if w.Field == "" {
			break // of the record, which its fields follow
		}
	}
	return "open, as different sides are wanted: " + strings.Join(parts, "; ")
}

// wordsOf gives everybody's last word beside the one that says how the finding stands.
func wordsOf(r decide.Reviewed) []Word {
	said := r.Finding.Said()
	if len(said) < 2 && len(r.Overruled) == 0 {
		return nil
	}
	var out []Word
	for _, w := range said {
		if w.Field == "" && w.Who == r.DecidedBy && w.At == r.DecidedAt && w.Decision == r.Decision {
			continue // it is how the finding stands
		}
		what := string(w.Decision)
		if w.Decision == decision.TargetKept {
			what = "approved the target's side"
		}
		if w.Field != "" {
			what += ", field " + w.Field
		}
		if w.Overrules {
			what += ", overruling others"
		}
		for _, o := range r.Overruled {
			if o.Who == w.Who && w.Stops() {
				what += ", overruled by " + o.By
				break
			}
		}
		out = append(out, Word{Who: show.Harmless(w.Who), What: show.Harmless(what), At: w.At, Note: show.Harmless(w.Note)})
	}
	return out
}

// Text is a word in one line.
func (w Word) Text() string {
	text := w.Who + ": " + w.What + ", " + show.When(w.At)
	if w.Note != "" {
		text += ": " + w.Note
	}
	return text
}

func without(names []string, name string) []string {
	return slices.DeleteFunc(slices.Clone(names), func(n string) bool { return n == name })
}

func reasonsText(reasons []match.Reason) string {
	words := make([]string, len(reasons))
	for i, reason := range reasons {
		words[i] = string(reason)
	}
	return strings.Join(words, ", ")
}

// overruledBy lists whose words somebody overruled, so that it counts.
func overruledBy(r decide.Reviewed, who string) []string {
	var out []string
	for _, o := range r.Overruled {
		if o.By == who && !slices.Contains(out, o.Who) {
			out = append(out, o.Who)
		}
	}
	return out
}

// byWhom says who made a finding stand as it does, when and why.
func byWhom(r decide.Reviewed, stand decision.Decision) string {
	text := ""
	if r.DecidedBy != "" {
		text += " by " + r.DecidedBy + ", " + show.When(r.DecidedAt)
		if others := without(r.Approvers, r.DecidedBy); len(others) > 0 && r.Decision == decision.Approved {
			text += ", and by " + strings.Join(others, ", ")
		}
	}
	if names := overruledBy(r, r.DecidedBy); len(names) > 0 {
		text += ", overruling " + strings.Join(names, ", ")
	}
	if r.ByRule {
		text = strings.Replace(text, " by "+r.DecidedBy, " by a standing rule", 1)
	}
	if r.Before.Docket != 0 && stand == decision.Undecided {
		text += fmt.Sprintf("; approved before by %s in docket %d, as it still is", r.Before.Who, r.Before.Docket)
	}
	if r.CarriedFrom != 0 {
		text += fmt.Sprintf(", carried over from docket %d", r.CarriedFrom)
	}
	if r.Note != "" {
		text += ": " + show.Harmless(r.Note)
	}
	return text
}
