package decide

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"anagram/internal/core/decision"
	"anagram/internal/core/match"
	"anagram/internal/store/docket"
)

// field is a field of a finding as it moved: "price:source".
func fieldsMoved(words ...string) []docket.Field {
	var out []docket.Field
	for _, w := range words {
		name, moved, _ := strings.Cut(w, ":")
		out = append(out, docket.Field{Field: name, Moved: moved})
	}
	return out
}

// TestWhatADecisionComesTo states for each status, side taken and field what is written
// into the log: FIELD=decision, with * for the record; "refused" where it cannot be
// decided so.
func TestWhatADecisionComesTo(t *testing.T) {
	added := docket.Finding{Status: match.New, Source: "{}", Fields: fieldsMoved("x:source", "y:source")}
	changed := docket.Finding{Status: match.Changed, Source: "{}", Target: "{}", Fields: fieldsMoved("x:source", "y:target", "z:")}
	conflict := docket.Finding{Status: match.Conflict, Source: "{}", Target: "{}", Reasons: []match.Reason{"both-moved"},
		Fields: fieldsMoved("x:both", "y:source", "z:target")}
	newer := docket.Finding{Status: match.Conflict, Source: "{}", Target: "{}", Reasons: []match.Reason{"target-newer"},
		Fields: fieldsMoved("x:", "y:")}
	removed := docket.Finding{Status: match.Conflict, Source: "{}", Reasons: []match.Reason{"removed-in-target"},
		Fields: fieldsMoved("x:source")}
	ambiguous := docket.Finding{Status: match.Conflict, Source: "{}", Target: "{}", Reasons: []match.Reason{"ambiguous"}}
	declined := conflict
	declined.Standing = decision.Sum(conflict.Of(), []decision.Word{{Who: "ida", Decision: decision.Declined, Field: "x", At: "1"},
		{Who: "ida", Decision: decision.Declined, Field: "y", At: "1"}})
	edited := docket.Finding{Status: match.TargetEdit, Source: "{}", Target: "{}", Fields: fieldsMoved("x:target", "y:target")}
	only := docket.Finding{Status: match.TargetOnly, Target: "{}"}
	for _, c := range []struct {
		what     string
		finding  docket.Finding
		decision decision.Decision
		take     string
		field    string
		verdicts string
	}{
		{"new", added, decision.Approved, "", "", "*=approved"},
		{"new", added, decision.Approved, "source", "", "*=approved"},
		{"new", added, decision.Approved, "target", "", "*=target-kept"},
		{"new", added, decision.Approved, "", "x", "x=approved"},
		{"new", added, decision.Declined, "", "", "*=declined"},
		{"new", added, decision.Held, "", "y", "y=held"},
		{"changed", changed, decision.Approved, "", "", "*=approved"},
		{"changed", changed, decision.Approved, "source", "", "*=approved"},
		{"changed, named", changed, decision.Approved, "source", "", "*=approved y=approved"},
		{"changed, named", changed, decision.Approved, "", "", "*=approved"},
		{"changed", changed, decision.Approved, "target", "", "*=target-kept"},
		{"changed", changed, decision.Approved, "", "y", "y=approved"},
		{"changed", changed, decision.Approved, "target", "x", "x=target-kept"},
		{"changed", changed, decision.Held, "", "", "*=held"},
		{"conflict", conflict, decision.Approved, "", "", "refused"},
		{"conflict", conflict, decision.Approved, "source", "", "*=approved x=approved z=approved"},
		{"conflict", conflict, decision.Approved, "", "x", "refused"},
		{"conflict", conflict, decision.Approved, "source", "x", "x=approved"},
		{"conflict", conflict, decision.Approved, "target", "", "*=target-kept"},
		{"conflict", conflict, decision.Approved, "target", "x", "x=target-kept"},
		{"conflict", conflict, decision.Declined, "", "", "*=declined"},
		{"with declined fields", declined, decision.Approved, "source", "", "*=approved z=approved"},
		{"with declined fields, again", declined, decision.Approved, "source", "", "*=approved x=approved y=approved z=approved"},
		{"target newer", newer, decision.Approved, "source", "", "*=approved x=approved y=approved"},
		{"target newer", newer, decision.Approved, "target", "", "*=target-kept"},
		{"removed in target", removed, decision.Approved, "", "", "refused"},
		{"removed in target", removed, decision.Approved, "source", "", "*=approved"},
		{"removed in target", removed, decision.Approved, "target", "", "*=target-kept"},
		{"ambiguous", ambiguous, decision.Approved, "source", "", "refused"},
		{"ambiguous", ambiguous, decision.Declined, "", "", "*=declined"},
		{"target edit", edited, decision.Approved, "", "", "refused"},
		{"target edit", edited, decision.Approved, "source", "", "*=approved x=approved y=approved"},
		{"target edit", edited, decision.Approved, "target", "", "*=target-kept"},
		{"target edit", edited, decision.Approved, "", "x", "refused"},
		{"target edit", edited, decision.Approved, "source", "x", "x=approved"},
		{"target only", only, decision.Approved, "", "", "refused"},
		{"target only", only, decision.Approved, "source", "", "refused"},
		{"target only", only, decision.Declined, "", "", "*=declined"},
	} {
		verdicts, ok := Verdicts(c.finding, Request{Decision: c.decision, Take: c.take, Field: c.field,
			Again: strings.HasSuffix(c.what, "again")}.Of("ida", strings.HasSuffix(c.what, "named")))
		var got []string
		for _, v := range verdicts {
			field := v.Field
			if field == "" {
				field = "*"
			}
			got = append(got, fmt.Sprintf("%s=%s", field, v.Decision))
		}
		if !ok {
			assert.Empty(t, verdicts, c.what)
			got = []string{"refused"}
		}
		assert.Equal(t, c.verdicts, strings.Join(got, " "), "%s, %s, take %q, field %q", c.what, c.decision, c.take, c.field)
	}
}
