package decide

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

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
	conflict := docket.Finding{Status: match.Conflict, Source: "{}", Target: "{}", Reasons: []match.Reason{"both-moved"}, Fields: fieldsMoved("x:both", "y:source", "z:target")}
	newer := docket.Finding{Status: match.Conflict, Source: "{}", Target: "{}", Reasons: []match.Reason{"target-newer"}, Fields: fieldsMoved("x:", "y:")}
	removed := docket.Finding{Status: match.Conflict, Source: "{}", Reasons: []match.Reason{"removed-in-target"}, Fields: fieldsMoved("x:source")}
	ambiguous := docket.Finding{Status: match.Conflict, Source: "{}", Target: "{}", Reasons: []match.Reason{"ambiguous"}}
	declined := conflict
	declined.Against = []string{"x", "y"}
	edited := docket.Finding{Status: match.TargetEdit, Source: "{}", Target: "{}", Fields: fieldsMoved("x:target", "y:target")}
	only := docket.Finding{Status: match.TargetOnly, Target: "{}"}
	for _, c := range []struct {
		what     string
		finding  docket.Finding
		decision docket.Decision
		take     string
		field    string
		verdicts string
	}{
		{"new", added, docket.Approved, "", "", "*=approved"},
		{"new", added, docket.Approved, "source", "", "*=approved"},
		{"new", added, docket.Approved, "target", "", "*=target-kept"},
		{"new", added, docket.Approved, "", "x", "x=approved"},
		{"new", added, docket.Declined, "", "", "*=declined"},
		{"new", added, docket.Held, "", "y", "y=held"},
		{"changed", changed, docket.Approved, "", "", "*=approved"},
		{"changed", changed, docket.Approved, "source", "", "*=approved"},
		{"changed", changed, docket.Approved, "target", "", "*=target-kept"},
		{"changed", changed, docket.Approved, "", "y", "y=approved"},
		{"changed", changed, docket.Approved, "target", "x", "x=target-kept"},
		{"changed", changed, docket.Held, "", "", "*=held"},
		{"conflict", conflict, docket.Approved, "", "", "refused"},
		{"conflict", conflict, docket.Approved, "source", "", "*=approved x=approved"},
		{"conflict", conflict, docket.Approved, "", "x", "refused"},
		{"conflict", conflict, docket.Approved, "source", "x", "x=approved"},
		{"conflict", conflict, docket.Approved, "target", "", "*=target-kept"},
		{"conflict", conflict, docket.Approved, "target", "x", "x=target-kept"},
		{"conflict", conflict, docket.Declined, "", "", "*=declined"},
		{"with declined fields", declined, docket.Approved, "source", "", "*=approved"},
		{"with declined fields, again", declined, docket.Approved, "source", "", "*=approved x=approved y=approved"},
		{"target newer", newer, docket.Approved, "source", "", "*=approved x=approved y=approved"},
		{"target newer", newer, docket.Approved, "target", "", "*=target-kept"},
		{"removed in target", removed, docket.Approved, "", "", "refused"},
		{"removed in target", removed, docket.Approved, "source", "", "*=approved"},
		{"removed in target", removed, docket.Approved, "target", "", "*=target-kept"},
		{"ambiguous", ambiguous, docket.Approved, "source", "", "refused"},
		{"ambiguous", ambiguous, docket.Declined, "", "", "*=declined"},
		{"target edit", edited, docket.Approved, "", "", "refused"},
		{"target edit", edited, docket.Approved, "source", "", "*=approved x=approved y=approved"},
		{"target edit", edited, docket.Approved, "target", "", "*=target-kept"},
		{"target edit", edited, docket.Approved, "", "x", "refused"},
		{"target edit", edited, docket.Approved, "source", "x", "x=approved"},
		{"target only", only, docket.Approved, "", "", "refused"},
		{"target only", only, docket.Approved, "source", "", "refused"},
		{"target only", only, docket.Declined, "", "", "*=declined"},
	} {
		verdicts, ok := verdictsOn(c.finding, Request{Decision: c.decision, Take: c.take, Field: c.field, Again: strings.HasSuffix(c.what, "again")})
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
