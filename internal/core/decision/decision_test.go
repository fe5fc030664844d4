package decision

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"anagram/internal/core/catalog"
	"anagram/internal/core/match"
)

func TestHowAFindingStands(t *testing.T) {
	moved := []Field{{"x", match.MovedSource}, {"y", match.MovedSource}, {"z", match.MovedTarget}}
	both := []Field{{"x", match.MovedBoth}, {"y", match.MovedSource}}
	by := func(fields ...string) map[string]Decision { // pairs of a field and what was said of it
		out := map[string]Decision{}
		for i := 0; i < len(fields); i += 2 {
			out[fields[i]] = Decision(fields[i+1])
		}
		return out
	}
	for _, c := range []struct {
		what     string
		status   match.Status
		reasons  []match.Reason
		fields   []Field
		record   Decision
		byField  map[string]Decision
		stand    Decision
		approved []string
	}{
		{"nothing said", match.Changed, nil, moved, Undecided, nil, Undecided, nil},
		{"approved", match.Changed, nil, moved, Approved, nil, Approved, []string{"x", "y"}},
		{"held", match.Changed, nil, moved, Held, nil, Held, nil},
		{"one field of two", match.Changed, nil, moved, Undecided, by("x", "declined"), Undecided, nil},
		{"all that ask", match.Changed, nil, moved, Undecided, by("x", "declined", "y", "declined"), Declined, nil},
		{"one of them held", match.Changed, nil, moved, Undecided, by("x", "held", "y", "target-kept"), Held, nil},
		{"one kept", match.Changed, nil, moved, Approved, by("x", "declined", "y", "target-kept"), TargetKept, nil},
		{"what the target moved, approved by itself", match.Changed, nil, moved, Undecided, by("z", "approved"), Approved, []string{"z"}},
		{"an edit of the target, approved as a whole", match.TargetEdit, nil, moved[2:], Approved, nil, Undecided, nil},
		{"new", match.New, nil, moved, Approved, nil, Approved, []string{"x", "y", "z"}},
		{"a field of a new one", match.New, nil, moved, Undecided, by("x", "declined"), Undecided, nil},
		{"a conflict without a side", match.Conflict, []match.Reason{match.BothMoved}, both, Approved, nil, Undecided, []string{"y"}},
		{"a conflict with one", match.Conflict, []match.Reason{match.BothMoved}, both, Approved, by("x", "approved"), Approved, []string{"x", "y"}},
		{"a conflict whose target is kept", match.Conflict, []match.Reason{match.BothMoved}, both, Undecided, by("x", "target-kept", "y", "approved"), Approved, []string{"y"}},
		{"a conflict that nothing settles", match.Conflict, []match.Reason{match.Ambiguous}, both, Approved, by("x", "approved"), Undecided, []string{"x", "y"}},
		{"only in the target", match.TargetOnly, nil, moved, Declined, nil, Declined, nil},
		{"to be removed in a restore", match.TargetOnly, []match.Reason{match.CreatedHere}, nil, Approved, nil, Approved, nil},
	} {
		f := Finding{Status: c.status, Reasons: c.reasons, InTarget: c.status != match.New, Fields: c.fields, Standing: Standing{Decision: c.record, ByField: c.byField}}
		assert.Equal(t, c.stand, f.Stand(), c.what)
		assert.Equal(t, c.approved, f.ApprovedFields(), c.what)
		var counted Tally
		counted.Count(f)
		n := map[Decision]int{Approved: counted.Approved, Declined: counted.Declined, Held: counted.Held, TargetKept: counted.Kept, Undecided: counted.Open}[c.stand]
		assert.Equal(t, c.stand != Undecided || f.Asks(), n == 1, c.what)
	}
}

// The words on the record and on its fields, in the order of the log.
func TestWhichWordOnAFieldCounts(t *testing.T) {
	for _, c := range []struct {
		what         string
		record       Decision
		seq, stopped int64
		x            OnField
		counts       bool
		against      bool
	}{
		{"a field after the record's approval", Approved, 3, 0, OnField{Decision: Declined, Seq: 5}, true, true},
		{"a declined field before the record's approval", Approved, 3, 0, OnField{Decision: Declined, Seq: 1}, true, true},
		{"an approved field before the record's approval", Approved, 3, 0, OnField{Decision: Approved, Seq: 1}, true, false},
		{"an approved field before a decline that was taken back", Approved, 3, 2, OnField{Decision: Approved, Seq: 1}, false, false},
		{"a field before the record's decline", Declined, 3, 3, OnField{Decision: Approved, Seq: 1}, false, false},
		{"a field after it", Declined, 3, 3, OnField{Decision: Approved, Seq: 4}, true, false},
		{"a field that was opened again", Approved, 3, 0, OnField{Decision: Reopened, Seq: 5}, false, false},
	} {
		s := Standing{Decision: c.record, Seq: c.seq, Stopped: c.stopped}
		c.x.Who = "ida"
		s.Take(map[string]OnField{"x": c.x})
		_, counts := s.ByField["x"]
		assert.Equal(t, c.counts, counts, c.what)
		assert.Equal(t, c.against, len(s.Against) == 1, c.what)
		assert.Equal(t, c.counts, s.DecidedByOne("ida"), c.what)
	}
	s := Standing{Decision: Undecided}
	assert.False(t, s.Touched() || s.AnyApproved())
	s = Standing{Decision: Declined, DecidedBy: "mara", Note: "n", CarriedFrom: 2, Seq: 1}
	s.Take(map[string]OnField{"x": {Decision: Approved, Who: "ida", Note: "yes", Seq: 2}})
	assert.True(t, s.Touched() && s.AnyApproved())
	who, note, _, _ := s.SaidOn("x")
	assert.Equal(t, []string{"ida", "yes"}, []string{who, note})
	who, _, _, carried := s.SaidOn("y")
	assert.Equal(t, []any{"mara", 2}, []any{who, carried})
}

// What one person wants, from their words in the order of the log.
func TestWhatAPersonWants(t *testing.T) {
	word := func(d Decision, field, at string) Word { return Word{Decision: d, Field: field, At: at} }
	changed := Writing{Fields: []string{"x", "y"}, Proposed: []string{"x"}}
	whole := Writing{Whole: true, Writes: func(field string) bool { return field != "z" }}
	for _, c := range []struct {
		what  string
		words []Word
		of    Writing
		wants bool
	}{
		{"nothing said", nil, whole, false},
		{"an approval of a new record", []Word{word(Approved, "", "1")}, whole, true},
		{"and a decline after it", []Word{word(Approved, "", "1"), word(Declined, "", "2")}, whole, false},
		{"a decline that was said before, and came later", []Word{word(Approved, "", "2"), word(Declined, "", "1")}, whole, true},
		{"a field left out that is written", []Word{word(Approved, "", "1"), word(Declined, "x", "2")}, whole, false},
		{"a field left out that is not written", []Word{word(Approved, "", "1"), word(Declined, "z", "2")}, whole, true},
		{"a field opened again", []Word{word(Approved, "", "1"), word(Declined, "x", "2"), word(Reopened, "x", "3")}, whole, true},
		{"the record alone, where a field needs a word", []Word{word(Approved, "", "1")}, changed, false},
		{"the record and that field", []Word{word(Approved, "", "1"), word(Approved, "y", "2")}, changed, true},
		{"a field approved before a decline that was taken back", []Word{word(Approved, "y", "1"), word(Declined, "", "2"), word(Approved, "", "3")}, changed, false},
		{"each field by itself", []Word{word(Approved, "x", "1"), word(Approved, "y", "1")}, changed, true},
		{"nothing to write", []Word{word(Approved, "", "1")}, Writing{}, false},
	} {
		var p Person
		for i, w := range c.words {
			p.Hear(w, i+1)
		}
		assert.Equal(t, c.wants, p.Wants(c.of), c.what)
	}
	assert.Equal(t, Name("MARA "), Name(" mara"))
	assert.Equal(t, Name("Zoe\u0301"), Name("zoé"))
	assert.NotEqual(t, Name("mara"), Name("mary"))
}

func TestWhoMayApprove(t *testing.T) {
	c := &catalog.Catalog{Areas: []catalog.Area{{Name: "tests", Types: []string{"assay", "panel"}}, {Name: "prices", Types: []string{"price", "panel"}}}}
	approvers := map[string][]string{"assay": {"ida"}, "tests": {"jonas"}, "prices": {"mara"}, "*": {"oskar"}}
	for typ, want := range map[string][]string{"assay": {"ida"}, "panel": {"jonas", "mara"}, "price": {"mara"}, "unit": {"oskar"}} {
		assert.Equal(t, want, MayApprove(approvers, c, typ), typ)
	}
	assert.Empty(t, MayApprove(map[string][]string{"tests": {"jonas"}}, c, "unit"))
}

func TestWhatIsAName(t *testing.T) {
	for name, unfit := range map[string]string{
		"mara": "", "Ida Brandt-Øye": "", "o'neil": "", "мара": "", "Ζωή": "", "user.name@host": "", "mara 2": "", "李 mara": "",
		"": "empty", "  ": "empty", "ma\u200bra": "cannot be seen", "ma\u0000ra": "cannot be seen", "\u202eara": "cannot be seen",
		"m\u0430ra": "Latin and Cyrillic", "мapa": "Cyrillic and Latin", "\u03bfskar": "Greek and Latin", strings.Repeat("x", 300): "more than",
		"ma\xffra": "UTF-8", "Me": "stands for people", "others": "stands for people",
	} {
		if have := Unfit(name); unfit == "" {
			assert.Empty(t, have, name)
		} else {
			assert.Contains(t, have, unfit, name)
		}
	}
}
