package docket

import (
	"context"
	"fmt"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/check"
	"anagram/internal/core/match"
	"anagram/internal/core/record"
)

// builder starts a docket with findings of one type, by key and status.
func builder(t *testing.T, findings ...Finding) *Builder {
	t.Helper()
	b, err := Create(context.Background(), t.TempDir())
	require.NoError(t, err)
	t.Cleanup(b.Discard)
	for i, f := range findings {
		if f.Type == "" {
			f.Type = "u"
		}
		f.Address, f.Order, f.Key = "u/"+f.Key, f.Key, `["`+f.Key+`"]`
		if f.Fields == nil {
			f.Fields = []Field{}
		}
		id, err := b.Finding(context.Background(), f)
		require.NoError(t, err)
		require.EqualValues(t, i+1, id)
	}
	return b
}

func keyOf(s string) record.Key {
	v, err := record.TextValue(s)
	if err != nil {
		panic(err)
	}
	return record.NewKey([]record.Value{v}, nil)
}

func finish(t *testing.T, b *Builder) *Docket {
	t.Helper()
	require.NoError(t, b.Type(context.Background(), Type{Name: "u", Counts: map[match.Status]int{}}))
	path := filepath.Join(t.TempDir(), "0001.docket")
	taken, err := b.Finish(context.Background(), path, Header{Number: 1}, []byte("types:\n  u: {key: [c]}\n"), nil)
	require.NoError(t, err)
	require.False(t, taken)
	d, err := Open(context.Background(), path)
	require.NoError(t, err)
	t.Cleanup(func() { _ = d.Close() })
	return d
}

// TestTheDatabaseCallsNewWhatTheRuleDoes holds the condition that links needs equal to
// match.Adds, for every status, side and reason.
func TestTheDatabaseCallsNewWhatTheRuleDoes(t *testing.T) {
	ctx := context.Background()
	var findings []Finding
	for _, status := range match.Statuses() {
		for _, target := range []string{"", "{}"} {
			for _, reasons := range [][]match.Reason{nil, {match.Ambiguous}, {match.Taken}, {match.BothMoved, match.Taken}, {match.RemovedInTarget}, {match.Taken, match.Ambiguous}, {match.RetiredInTarget}} {
				findings = append(findings, Finding{Key: fmt.Sprintf("K%02d", len(findings)), Status: status, Source: "{}", Target: target, Reasons: reasons})
			}
		}
	}
	b := builder(t, append(findings, Finding{Key: "holder", Status: match.New, Source: "{}"})...)
	holder := int64(len(findings) + 1)
	for _, f := range findings {
		n := Need{Holder: holder, Type: "u", Key: `["` + f.Key + `"]`}
		n.Field, n.Address = f.Key, "u/"+f.Key
		// The order form of findings here is the key itself.
		require.NoError(t, b.exec(ctx, "INSERT INTO needs (finding, field, owner, required, by_name, type, key_order, key, address) VALUES (?,?,?,?,?,?,?,?,?)",
			n.Holder, n.Field, false, false, false, n.Type, []byte(f.Key), n.Key, n.Address))
	}
	unmet := map[string]bool{}
	require.NoError(t, b.LinkNeeds(ctx, func(n Need) error { unmet[n.Field] = true; return nil }))
	for _, f := range findings {
		assert.Equal(t, match.Adds(f.Status, f.Target != "", f.Reasons), !unmet[f.Key], "%s, target %q, %v", f.Status, f.Target, f.Reasons)
	}
}

func TestNeedsFindWhatMeetsThem(t *testing.T) {
	ctx := context.Background()
	b := builder(t, Finding{Key: "A", Status: match.New, Source: "{}"}, Finding{Key: "B", Status: match.New, Source: "{}"}, Finding{Key: "C", Status: match.Changed, Source: "{}", Target: "{}"})
	need := func(holder int64, to string, byName bool) {
		n := Need{Holder: holder, Type: "u", Key: `["` + to + `"]`, ByName: byName}
		n.Field, n.Address = "f"+to, "u/"+to
		key := keyOf(to)
		require.NoError(t, b.Need(ctx, n, key))
		// Findings of this test have the key itself for their order.
		require.NoError(t, b.exec(ctx, "UPDATE needs SET key_order = ? WHERE key_order = ?", []byte(to), []byte(key.Order())))
	}
	need(1, "B", false) // new in the docket
	need(1, "X", false) // in the target
	need(1, "Y", false) // nowhere
	need(2, "Z", false) // twice in the target
	need(2, "C", true)  // waits for C to get its key
	need(3, "C", false) // in the target
	types, err := b.WantedTypes(ctx)
	require.NoError(t, err)
	assert.Equal(t, []string{"u"}, types)
	var asked []string
	for after := ""; ; {
		orders, keys, err := b.WantedKeys(ctx, "u", after, 2)
		require.NoError(t, err)
		require.Len(t, keys, len(orders))
		asked = append(asked, orders...)
		if len(orders) < 2 {
			break
		}
		after = orders[len(orders)-1]
	}
	assert.Equal(t, []string{"B", "C", "X", "Y", "Z"}, asked, "each key once, in order")
	for order, n := range map[string]int{"X": 1, "Z": 2, "C": 1} {
		require.NoError(t, b.Located(ctx, "u", order, n))
	}
	var unmet []string
	require.NoError(t, b.LinkNeeds(ctx, func(n Need) error {
		unmet = append(unmet, fmt.Sprintf("%d %s %d", n.Holder, n.Address, n.InTarget))
		return nil
	}))
	assert.Equal(t, []string{"1 u/Y 0", "2 u/Z 2"}, unmet)
	by, err := b.Needing(ctx, "u", "C", 10)
	require.NoError(t, err)
	assert.ElementsMatch(t, []int64{2, 3}, by)
	address, err := b.AddressOf(ctx, 2)
	require.NoError(t, err)
	assert.Equal(t, "u/B", address)

	d := finish(t, b)
	got := map[string]string{}
	for n, err := range d.Needs(ctx, true) {
		require.NoError(t, err)
		got[fmt.Sprintf("%d %s", n.Holder, n.Address)] = fmt.Sprintf("in target %d, finding %d", n.InTarget, n.Finding)
	}
	assert.Equal(t, map[string]string{"1 u/B": "in target 0, finding 2", "1 u/X": "in target 1, finding 0", "1 u/Y": "in target 0, finding 0", "2 u/Z": "in target 2, finding 0",
		"2 u/C": "in target 0, finding 3", "3 u/C": "in target 1, finding 0"}, got)
	met := 0
	for n, err := range d.Needs(ctx, false) {
		require.NoError(t, err)
		assert.NotZero(t, n.Finding)
		met++
	}
	assert.Equal(t, 2, met)
}

func TestOfClaimsOnlyContendedOnesStay(t *testing.T) {
	ctx := context.Background()
	b := builder(t, Finding{Key: "A", Status: match.Changed, Source: "{}", Target: "{}"}, Finding{Key: "B", Status: match.New, Source: "{}"},
		Finding{Key: "C", Status: match.New, Source: "{}"}, Finding{Key: "D", Status: match.New, Source: "{}"}, Finding{Key: "E", Status: match.New, Source: "{}"})
	claim := func(finding int64, wants, heldBy string, writes ...string) {
		c := Claim{Type: "u", Writes: writes, Proposed: len(writes) > 0, Order: heldBy}
		c.Finding, c.Fields, c.Values = finding, []string{"name"}, wants
		if heldBy != "" {
			c.HeldBy, c.Since = "u/"+heldBy, check.Side{At: "2026-01-01T00:00:00", By: "jonas"}
		}
		require.NoError(t, b.Claim(ctx, c))
	}
	claim(1, "new", "", "name") // A gives "old" up for "new"
	claim(1, "old", "")
	claim(2, "old", "A", "name")   // B wants what A has
	claim(3, "other", "Z", "name") // C wants what a record outside the docket has
	claim(4, "free", "", "name")   // of no interest
	claim(5, "same", "", "name")
	clashes, err := b.LinkClaims(ctx)
	require.NoError(t, err)
	var got []string
	for _, c := range clashes {
		got = append(got, fmt.Sprintf("%d %s waits %v", c.Finding, c.Other, c.Waits))
	}
	assert.Equal(t, []string{"3 u/Z waits false"}, got, "what A gives up is not taken")
	was, err := b.Because(ctx, 3, match.Taken)
	require.NoError(t, err)
	assert.Equal(t, match.New, was)
	was, err = b.Because(ctx, 3, match.Taken)
	require.NoError(t, err)
	assert.Equal(t, match.Conflict, was, "twice is once")
	typ, err := b.TypeOf(ctx, 3)
	require.NoError(t, err)
	assert.Equal(t, "u", typ)

	d := finish(t, b)
	claims, err := d.Claims(ctx)
	require.NoError(t, err)
	assert.Len(t, claims[1], 2)
	assert.Len(t, claims[2], 1)
	assert.EqualValues(t, 1, claims[2][0].Holder)
	assert.Equal(t, check.Side{At: "2026-01-01T00:00:00", By: "jonas"}, claims[2][0].Since)
	assert.Empty(t, claims[4], "nobody else wants it")
	for f, err := range d.Findings(ctx, Filter{Statuses: []match.Status{match.Conflict}}) {
		require.NoError(t, err)
		assert.Equal(t, []match.Reason{match.Taken}, f.Reasons)
		assert.True(t, f.Adds(), "taken, it is still new")
	}
}

func TestWhenAConflictIsSettled(t *testing.T) {
	ctx := context.Background()
	both := []Field{{Field: "x", Moved: "both"}, {Field: "y", Moved: "source"}, {Field: "z", Moved: "target"}}
	d := finish(t, builder(t,
		Finding{Key: "A", Status: match.Conflict, Source: "{}", Target: "{}", Reasons: []match.Reason{match.BothMoved}, Fields: both},
		Finding{Key: "B", Status: match.Conflict, Source: "{}", Reasons: []match.Reason{match.RemovedInTarget}, Fields: []Field{{Field: "x", Moved: "source"}}},
		Finding{Key: "C", Status: match.Conflict, Source: "{}", Target: "{}", Reasons: []match.Reason{match.Ambiguous}},
		Finding{Key: "D", Status: match.TargetEdit, Source: "{}", Target: "{}", Fields: []Field{{Field: "x", Moved: "target"}}}))
	state := func(id int64) string {
		for f, err := range d.Findings(ctx, Filter{}) {
			require.NoError(t, err)
			if f.ID == id {
				return fmt.Sprintf("settled %v, approved %v %v", f.Settled(), f.IsApproved(), f.ApprovedFields())
			}
		}
		return ""
	}
	say := func(id int64, field string, decision Decision) {
		require.NoError(t, d.Decide(ctx, "mara", "", noon, []Verdict{{Finding: id, Field: field, Decision: decision}}))
	}
	assert.Equal(t, "settled false, approved false []", state(1))
	say(1, "", Approved)
	assert.Equal(t, "settled false, approved false [y]", state(1), "nobody chose a side for x")
	say(1, "x", Declined)
	assert.Equal(t, "settled true, approved true [y]", state(1), "the target's x stays")
	say(1, "x", Approved)
	assert.Equal(t, "settled true, approved true [x y]", state(1))
	say(1, "z", Approved)
	assert.Equal(t, "settled true, approved true [x y z]", state(1), "what the target moved can be taken as well")
	say(1, "", Declined)
	assert.Equal(t, "settled true, approved false []", state(1), "a later decision on the record counts")

	assert.Equal(t, "settled true, approved false []", state(2))
	say(2, "", Approved)
	assert.Equal(t, "settled true, approved true [x]", state(2))
	say(3, "", Approved)
	assert.Equal(t, "settled false, approved false []", state(3), "nothing settles what is ambiguous")
	say(4, "", Approved)
	assert.Contains(t, state(4), "approved false []", "nothing is proposed for an edit of the target")
	say(4, "x", Approved)
	assert.Contains(t, state(4), "approved true [x]")

	decided := map[string]bool{}
	for f, err := range d.Decided(ctx) {
		require.NoError(t, err)
		decided[f.Address] = true
	}
	assert.Len(t, decided, 4)
}

func TestRunsAreRemembered(t *testing.T) {
	ctx := context.Background()
	d := finish(t, builder(t, Finding{Key: "A", Status: match.New, Source: "{}"}))
	assert.False(t, LoadsWait(nil))
	first, err := d.StartRun(ctx, ImportRun, "mara", noon)
	require.NoError(t, err)
	runs, err := d.Runs(ctx)
	require.NoError(t, err)
	assert.False(t, runs[0].Unsettled() || runs[0].Done(), "one that did not come to the commit wrote nothing")
	require.NoError(t, d.AboutToCommit(ctx, Run{Seq: first, New: 1}))
	runs, err = d.Runs(ctx)
	require.NoError(t, err)
	assert.True(t, runs[0].Unsettled(), "one that came to it may have")
	require.NoError(t, d.EndRun(ctx, Run{Seq: first, Outcome: Unknown, Message: "the answer was lost"}, noon, nil))
	files, err := d.StartRun(ctx, FilesRun, "mara", noon)
	require.NoError(t, err)
	require.NoError(t, d.EndRun(ctx, Run{Seq: files, Outcome: WrittenOut, New: 1}, noon, nil))
	runs, err = d.Runs(ctx)
	require.NoError(t, err)
	assert.True(t, runs[0].Unsettled(), "nobody knows what came of it")
	assert.False(t, runs[1].Unsettled())
	assert.True(t, LoadsWait(runs))
	confirmed, err := d.StartRun(ctx, ConfirmRun, "mara", noon)
	require.NoError(t, err)
	require.NoError(t, d.EndRun(ctx, Run{Seq: confirmed, Outcome: Imported, New: 1}, noon, []Outcome{{Finding: 1, Outcome: WasWritten}, {Finding: 2, Outcome: WasLeftOut, Why: "code", Message: "why"}}))
	runs, err = d.Runs(ctx)
	require.NoError(t, err)
	assert.False(t, LoadsWait(runs))
	assert.True(t, runs[2].Done())
	left, err := d.Outcomes(ctx, confirmed, WasLeftOut)
	require.NoError(t, err)
	assert.Equal(t, []Outcome{{Finding: 2, Outcome: WasLeftOut, Why: "code", Message: "why"}}, left)
	s, err := Summarize(ctx, d)
	require.NoError(t, err)
	assert.Equal(t, Tally{Open: 1}, s.Tally)
	assert.Len(t, s.Runs, 3)
}
