package build

import (
	"context"
	"fmt"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/check"
	"anagram/internal/core/group"
	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/store/docket"
)

// builder starts a docket with findings of one type, by key and status.
func builder(t *testing.T, findings ...docket.Finding) *Builder {
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
			f.Fields = []docket.Field{}
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

func finish(t *testing.T, b *Builder) *docket.Docket {
	t.Helper()
	require.NoError(t, b.Type(context.Background(), docket.Type{Name: "u", Counts: map[match.Status]int{}}))
	path := filepath.Join(t.TempDir(), "0001.docket")
	taken, err := b.Finish(context.Background(), path, docket.Header{Number: 1}, []byte("types:\n  u: {key: [c]}\n"), nil)
	require.NoError(t, err)
	require.False(t, taken)
	d, err := docket.Open(context.Background(), path)
	require.NoError(t, err)
	t.Cleanup(func() { _ = d.Close() })
	return d
}

// TestTheDatabaseCallsNewWhatTheRuleDoes holds the condition that links needs equal to
// match.Adds, for every status, side and reason.
func TestTheDatabaseCallsNewWhatTheRuleDoes(t *testing.T) {
	ctx := context.Background()
	var findings []docket.Finding
	for _, status := range match.Statuses() {
		for _, target := range []string{"", "{}"} {
			for _, reasons := range [][]match.Reason{nil, {match.Ambiguous}, {match.Taken}, {match.BothMoved, match.Taken}, {match.RemovedInTarget}, {match.Taken, match.Ambiguous}, {match.RetiredInTarget}} {
				findings = append(findings, docket.Finding{Key: fmt.Sprintf("K%02d", len(findings)), Status: status, Source: "{}", Target: target, Reasons: reasons})
			}
		}
	}
	b := builder(t, append(findings, docket.Finding{Key: "holder", Status: match.New, Source: "{}"})...)
	holder := int64(len(findings) + 1)
	for _, f := range findings {
		n := docket.Need{Holder: holder, Type: "u", Key: `["` + f.Key + `"]`}
		n.Field, n.Address = f.Key, "u/"+f.Key
		// The order form of findings here is the key itself.
		require.NoError(t, b.exec(ctx, "INSERT INTO needs (finding, field, owner, required, by_name, type, key_order, key, address) VALUES (?,?,?,?,?,?,?,?,?)",
			n.Holder, n.Field, false, false, false, n.Type, []byte(f.Key), n.Key, n.Address))
	}
	unmet := map[string]bool{}
	require.NoError(t, b.LinkNeeds(ctx, func(n docket.Need) error { unmet[n.Field] = true; return nil }))
	for _, f := range findings {
		assert.Equal(t, match.Adds(f.Status, f.Target != "", f.Reasons), !unmet[f.Key], "%s, target %q, %v", f.Status, f.Target, f.Reasons)
	}
}

func TestNeedsFindWhatMeetsThem(t *testing.T) {
	ctx := context.Background()
	b := builder(t, docket.Finding{Key: "A", Status: match.New, Source: "{}"}, docket.Finding{Key: "B", Status: match.New, Source: "{}"}, docket.Finding{Key: "C", Status: match.Changed, Source: "{}", Target: "{}"})
	need := func(holder int64, to string, byName bool) {
		n := docket.Need{Holder: holder, Type: "u", Key: `["` + to + `"]`, ByName: byName}
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
		keys, err := b.WantedKeys(ctx, "u", after, 2)
		require.NoError(t, err)
		for _, w := range keys {
			asked = append(asked, w.Order)
		}
		if len(keys) < 2 {
			break
		}
		after = keys[len(keys)-1].Order
	}
	assert.Equal(t, []string{"B", "C", "X", "Y", "Z"}, asked, "each key once, in order")
	for order, n := range map[string]int{"X": 1, "Z": 2, "C": 1} {
		require.NoError(t, b.Located(ctx, "u", order, n))
	}
	var unmet []string
	require.NoError(t, b.LinkNeeds(ctx, func(n docket.Need) error {
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
	for n, err := range d.Found.Needs(ctx, true) {
		require.NoError(t, err)
		got[fmt.Sprintf("%d %s", n.Holder, n.Address)] = fmt.Sprintf("in target %d, finding %d", n.InTarget, n.Finding)
	}
	assert.Equal(t, map[string]string{"1 u/B": "in target 0, finding 2", "1 u/X": "in target 1, finding 0", "1 u/Y": "in target 0, finding 0", "2 u/Z": "in target 2, finding 0",
		"2 u/C": "in target 0, finding 3", "3 u/C": "in target 1, finding 0"}, got)
	met := 0
	for n, err := range d.Found.Needs(ctx, false) {
		require.NoError(t, err)
		assert.NotZero(t, n.Finding)
		met++
	}
	assert.Equal(t, 2, met)
}

func TestOfClaimsOnlyContendedOnesStay(t *testing.T) {
	ctx := context.Background()
	b := builder(t, docket.Finding{Key: "A", Status: match.Changed, Source: "{}", Target: "{}"}, docket.Finding{Key: "B", Status: match.New, Source: "{}"},
		docket.Finding{Key: "C", Status: match.New, Source: "{}"}, docket.Finding{Key: "D", Status: match.New, Source: "{}"}, docket.Finding{Key: "E", Status: match.New, Source: "{}"})
	claim := func(finding int64, wants, heldBy string, writes ...string) {
		c := docket.Claim{Type: "u", Writes: writes, Proposed: len(writes) > 0, Order: heldBy}
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
	claims, err := d.Found.Claims(ctx)
	require.NoError(t, err)
	assert.Len(t, claims[1], 2)
	assert.Len(t, claims[2], 1)
	assert.EqualValues(t, 1, claims[2][0].Holder)
	assert.Equal(t, check.Side{At: "2026-01-01T00:00:00", By: "jonas"}, claims[2][0].Since)
	assert.Empty(t, claims[4], "nobody else wants it")
	for f, err := range d.Found.Findings(ctx, docket.Filter{Statuses: []match.Status{match.Conflict}}) {
		require.NoError(t, err)
		assert.Equal(t, []match.Reason{match.Taken}, f.Reasons)
		assert.True(t, f.Adds(), "taken, it is still new")
	}
}

func TestNewFindingsThatRequireEachOther(t *testing.T) {
	ctx := context.Background()
	b := builder(t, docket.Finding{Key: "A", Status: match.New, Source: "{}"}, docket.Finding{Key: "B", Status: match.New, Source: "{}"}, docket.Finding{Key: "C", Status: match.New, Source: "{}"}, docket.Finding{Key: "D", Status: match.New, Source: "{}"})
	need := func(from int64, to string, required bool) {
		require.NoError(t, b.Need(ctx, docket.Need{Holder: from, Required: required, Type: "u", Key: `["` + to + `"]`, Need: check.Need{Field: "x", Address: "u/" + to}}, keyOf(to)))
	}
	need(1, "B", true)
	need(2, "A", true)
	need(3, "A", true)
	need(4, "D", true)
	need(3, "D", false)
	// Orders of keys in this test are their letters.
	_, err := b.tx.Exec("UPDATE needs SET key_order = CAST(substr(address, 3) AS BLOB)")
	require.NoError(t, err)
	_, err = b.tx.Exec("UPDATE findings SET key_order = CAST(substr(address, 3) AS BLOB)")
	require.NoError(t, err)
	require.NoError(t, b.LinkNeeds(ctx, func(docket.Need) error { return nil }))
	circles, err := b.Circles(ctx, func(typ, _ string) bool { return typ == "none" })
	require.NoError(t, err)
	assert.Equal(t, [][]int64{{1, 2}, {4}}, circles)
	circles, err = b.Circles(ctx, func(_, field string) bool { return field == "x" })
	require.NoError(t, err)
	assert.Empty(t, circles)
	require.NoError(t, b.Type(ctx, docket.Type{Name: "u", Counts: map[match.Status]int{match.New: 4}}))
	require.NoError(t, b.Counts(ctx, docket.Type{Name: "u", Counts: map[match.Status]int{match.Conflict: 4}}))
	path := filepath.Join(t.TempDir(), "0001.docket")
	_, err = b.Finish(ctx, path, docket.Header{Number: 1}, []byte("types:\n  u: {key: [c]}\n"), func(string) error { return assert.AnError })
	assert.ErrorIs(t, err, assert.AnError)
	assert.NoFileExists(t, path, "what the register does not hear of is not there")
}

func TestFindingsAreKeptInGroups(t *testing.T) {
	ctx := t.Context()
	b := builder(t, docket.Finding{Key: keyOf("A").Order(), Title: "first", Status: match.New}, docket.Finding{Key: keyOf("B").Order(), Status: match.New},
		docket.Finding{Key: keyOf("C").Order(), Status: match.TargetOnly, Target: "{}"}, docket.Finding{Key: keyOf("D").Order(), Status: match.Changed, Source: "{}", Target: "{}"},
		docket.Finding{Key: keyOf("E").Order(), Status: match.TargetOnly, Target: "{}"}, docket.Finding{Key: keyOf("F").Order(), Status: match.Changed, Source: "{}", Target: "{}"})
	require.NoError(t, b.Tie(ctx, 2, group.Owner, "u", keyOf("A"), "u/A"))
	require.NoError(t, b.Tie(ctx, 5, group.Needs, "u", keyOf("C"), "u/C"))
	require.NoError(t, b.Tie(ctx, 4, group.Owner, "u", keyOf("X"), "u/X"))
	require.NoError(t, b.Tie(ctx, 6, group.Owner, "u", keyOf("X"), "u/X"))
	b.LooksLike(1, 3)
	_, err := b.tx.ExecContext(ctx, "UPDATE findings SET address = 'u/' || substr('ABCDEF', id, 1)")
	require.NoError(t, err)
	d := finish(t, b)
	groups, err := d.Found.Groups(ctx)
	require.NoError(t, err)
	assert.Equal(t, []docket.Group{{Number: 1, Cause: group.Record, Address: "u/A", Title: "first", Head: 1, Size: 4}, {Number: 2, Cause: group.OfOwner, Address: "u/X", Size: 2}}, groups)
	lines, err := d.Found.Lines(ctx)
	require.NoError(t, err)
	var order []string
	for _, l := range lines {
		order = append(order, l.Address)
	}
	assert.Equal(t, []string{"u/A", "u/B", "u/C", "u/E", "u/D", "u/F"}, order)
	assert.EqualValues(t, 1, lines[1].Owner)
	for f, err := range d.Found.Findings(ctx, docket.Filter{Group: 2}) {
		require.NoError(t, err)
		assert.Equal(t, 2, f.Group)
	}
	n := 0
	for f, err := range d.Found.Findings(ctx, docket.Filter{IDs: []int64{2, 4}, ByGroup: true}) {
		require.NoError(t, err)
		assert.Contains(t, []int64{2, 4}, f.ID)
		n++
	}
	assert.Equal(t, 2, n)
	_, err = d.Verify(ctx)
	require.NoError(t, err)
}
