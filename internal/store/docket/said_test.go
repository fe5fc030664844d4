package docket

import (
	"context"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/group"
	"anagram/internal/core/match"
)

func TestFindingsAreKeptInGroups(t *testing.T) {
	ctx := t.Context()
	b := builder(t, Finding{Key: keyOf("A").Order(), Title: "first", Status: match.New}, Finding{Key: keyOf("B").Order(), Status: match.New},
		Finding{Key: keyOf("C").Order(), Status: match.TargetOnly, Target: "{}"}, Finding{Key: keyOf("D").Order(), Status: match.Changed, Source: "{}", Target: "{}"},
		Finding{Key: keyOf("E").Order(), Status: match.TargetOnly, Target: "{}"}, Finding{Key: keyOf("F").Order(), Status: match.Changed, Source: "{}", Target: "{}"})
	require.NoError(t, b.Tie(ctx, 2, group.Owner, "u", keyOf("A"), "u/A"))
	require.NoError(t, b.Tie(ctx, 5, group.Needs, "u", keyOf("C"), "u/C"))
	require.NoError(t, b.Tie(ctx, 4, group.Owner, "u", keyOf("X"), "u/X"))
	require.NoError(t, b.Tie(ctx, 6, group.Owner, "u", keyOf("X"), "u/X"))
	b.LooksLike(1, 3)
	_, err := b.tx.ExecContext(ctx, "UPDATE findings SET address = 'u/' || substr('ABCDEF', id, 1)")
	require.NoError(t, err)
	d := finish(t, b)
	groups, err := d.Groups(ctx)
	require.NoError(t, err)
	assert.Equal(t, []Group{{1, group.Record, "u/A", "first", 1, 4}, {2, group.OfOwner, "u/X", "", 0, 2}}, groups)
	lines, err := d.Lines(ctx)
	require.NoError(t, err)
	var order []string
	for _, l := range lines {
		order = append(order, l.Address)
	}
	assert.Equal(t, []string{"u/A", "u/B", "u/C", "u/E", "u/D", "u/F"}, order)
	assert.EqualValues(t, 1, lines[1].Owner)
	for f, err := range d.Findings(ctx, Filter{Group: 2}) {
		require.NoError(t, err)
		assert.Equal(t, 2, f.Group)
	}
	n := 0
	for f, err := range d.Findings(ctx, Filter{IDs: []int64{2, 4}, ByGroup: true}) {
		require.NoError(t, err)
		assert.Contains(t, []int64{2, 4}, f.ID)
		n++
	}
	assert.Equal(t, 2, n)
	_, err = d.Verify(ctx)
	require.NoError(t, err)
}

func TestADocketWithoutItsGroupsIsRefused(t *testing.T) {
	for _, alteration := range []string{"DELETE FROM members WHERE finding = 2", "UPDATE members SET grp = 9 WHERE finding = 2", "UPDATE groups SET head = 99 WHERE id = 1", "INSERT INTO members VALUES (99, 1, 0)", "UPDATE groups SET id = 40 WHERE id = 1"} {
		path := filepath.Join(t.TempDir(), "0007.docket")
		require.False(t, build(t, path))
		d, err := Open(t.Context(), path)
		require.NoError(t, err)
		_, err = d.db.ExecContext(t.Context(), alteration)
		require.NoError(t, err)
		_, err = d.Verify(t.Context())
		assert.ErrorContains(t, err, "altered", alteration)
		require.NoError(t, d.Close())
	}
}

func TestWhatIsSaidAndSignedIsKept(t *testing.T) {
	d := open(t)
	ctx := t.Context()
	d.From(Origin{Account: "mara", Host: "desk"})
	require.NoError(t, d.Comment(ctx, "", noon, nil))
	require.NoError(t, d.Comment(ctx, "", noon, []Comment{{Stamp(noon), "mara", 1, "Which?"}, {Stamp(noon), "mara", 2, "Why?"}}))
	require.NoError(t, d.Decide(ctx, "mara", "n", noon, []Verdict{{Finding: 1, Decision: Approved}, {Finding: 2, Decision: Held, Rule: true}}))
	require.NoError(t, d.Sign(ctx, "", noon, nil))
	require.NoError(t, d.Sign(ctx, "ida", noon, []Signature{{Who: "jonas", Text: "t", Signature: "s"}}))
	seal, err := d.Verify(ctx)
	require.NoError(t, err)
	assert.Equal(t, 3, seal.Links)
	said, err := d.Comments(ctx)
	require.NoError(t, err)
	assert.Len(t, said, 2)
	signatures, err := d.Signatures(ctx)
	require.NoError(t, err)
	assert.Equal(t, []Signature{{Stamp(noon), "jonas", "t", "s"}}, signatures)
	people, err := d.People(ctx)
	require.NoError(t, err)
	assert.Equal(t, "mara", people[0].Who)
	assert.Equal(t, "ida", people[1].Who)
	f := findings(t, d)
	assert.Equal(t, []string{"mara"}, f["u/A"].Approvers)
	assert.True(t, f["u/B"].ByRule)
	assert.Empty(t, f["u/B"].Approvers, "a rule is nobody")
	assert.True(t, f["u/A"].DecidedByOne("mara"))
	assert.False(t, f["u/A"].DecidedByOne("ida"))

	// What went on elsewhere is cut back as a whole.
	require.NoError(t, d.Comment(ctx, "ida", noon, []Comment{{Stamp(noon), "jonas", 1, "This one."}}))
	require.NoError(t, d.CutBack(ctx, 1))
	_, err = d.Verify(ctx)
	require.NoError(t, err)
	said, _ = d.Comments(ctx)
	signatures, _ = d.Signatures(ctx)
	assert.Len(t, said, 2)
	assert.Empty(t, signatures)
	assert.Equal(t, Undecided, findings(t, d)["u/A"].Decision)

	for _, alteration := range []string{"UPDATE comments SET who = 'ida'", "DELETE FROM comments", "INSERT INTO signatures VALUES (1, '', 'jonas', 't', 's')"} {
		tx, err := d.db.BeginTx(ctx, nil)
		require.NoError(t, err)
		_, err = tx.ExecContext(ctx, alteration)
		require.NoError(t, err)
		chain := replay{comments: said}
		assert.Error(t, errorOf(d.compareComments(ctx, tx, chain.comments), d.compareSignatures(ctx, tx, chain.signatures)), alteration)
		require.NoError(t, tx.Rollback())
	}
}

func errorOf(errs ...error) error {
	for _, err := range errs {
		if err != nil {
			return err
		}
	}
	return nil
}

func TestADecisionOnAFieldIsTakenBack(t *testing.T) {
	d := open(t)
	say := func(field string, decision Decision) {
		require.NoError(t, d.Decide(t.Context(), "mara", "", noon, []Verdict{{Finding: 1, Field: field, Decision: decision}}))
	}
	say("x", Declined)
	say("", Approved)
	f := findings(t, d)["u/A"]
	assert.Equal(t, []string{"x"}, f.OwnFields())
	assert.NotContains(t, f.ApprovedFields(), "x")
	say("x", Reopened)
	f = findings(t, d)["u/A"]
	assert.Empty(t, f.OwnFields())
	assert.Contains(t, f.ApprovedFields(), "x", "as if it had never been declined")
	assert.Empty(t, f.Against)
	say("y", Held)
	assert.True(t, findings(t, d)["u/A"].DecidedByOne("mara"))
}

func TestWhatAFindingIsTiedTo(t *testing.T) {
	d := open(t)
	ctx := t.Context()
	to, from, err := d.Links(ctx, 2)
	require.NoError(t, err)
	assert.Len(t, to, 1)
	assert.Equal(t, "u/C", to[0].Address)
	assert.Empty(t, from)
	checks, err := d.ChecksOf(ctx, 1)
	require.NoError(t, err)
	assert.Empty(t, checks)
	_, _, ok := d.Attachment(ctx, "abc")
	assert.False(t, ok)
	_, err = d.db.ExecContext(ctx, "INSERT INTO contents VALUES ('abcdef', 0, x'25504446')")
	require.NoError(t, err)
	size, begin, ok := d.Attachment(ctx, "abc")
	assert.True(t, ok)
	assert.EqualValues(t, 4, size)
	assert.Equal(t, "%PDF", string(begin))
}

func TestEarlierApprovalsAreKeptAside(t *testing.T) {
	d := open(t)
	ctx := t.Context()
	require.NoError(t, d.ApprovedBefore(ctx, nil))
	require.NoError(t, d.ApprovedBefore(ctx, []Earlier{{2, 3, "jonas", "n"}, {1, 4, "ida", ""}}))
	_, err := d.Verify(ctx)
	require.NoError(t, err)
	f := findings(t, d)
	assert.Equal(t, "jonas 3 open", f["u/B"].Before.Who+" "+string(rune('0'+f["u/B"].Before.Docket))+" "+string(f["u/B"].Decision))
	n := 0
	for _, err := range d.Findings(ctx, Filter{Before: true}) {
		require.NoError(t, err)
		n++
	}
	assert.Equal(t, 2, n)
	_, err = d.db.ExecContext(ctx, "UPDATE earlier SET who = 'mara'")
	require.NoError(t, err)
	_, err = d.Verify(ctx)
	assert.ErrorContains(t, err, "earlier approvals")
}

func TestWhatMakesAFindingStandAsItDoes(t *testing.T) {
	d := open(t)
	ctx := t.Context()
	require.NoError(t, d.Decide(ctx, "jonas", "n", noon, []Verdict{{Finding: 1, Decision: Approved}}))
	require.NoError(t, d.Decide(ctx, "ida", "m", noon, []Verdict{{Finding: 1, Field: "x", Decision: Held}}))
	assert.Equal(t, []LogEntry{{At: Stamp(noon), Who: "jonas", Finding: 1, Decision: Approved, Note: "n"}, {At: Stamp(noon), Who: "ida", Finding: 1, Field: "x", Decision: Held, Note: "m"}}, findings(t, d)["u/A"].Entries())
	assert.Empty(t, findings(t, d)["u/B"].Entries())
	who, note, carried := findings(t, d)["u/A"].SaidOn("x")
	assert.Equal(t, "ida m 0", who+" "+note+" "+string(rune('0'+carried)))
}

func TestWhatHangsOnWhatOnlyTheTargetHas(t *testing.T) {
	ctx := t.Context()
	b := builder(t, Finding{Key: keyOf("A").Order(), Status: match.TargetOnly, Target: "{}"}, Finding{Key: keyOf("B").Order(), Status: match.TargetOnly, Target: "{}"}, Finding{Key: keyOf("C").Order(), Status: match.New, Source: "{}"})
	require.NoError(t, b.Tie(ctx, 2, group.Needs, "u", keyOf("A"), "u/A"))
	require.NoError(t, b.Tie(ctx, 3, group.Owner, "u", keyOf("A"), "u/A"))
	d := finish(t, b)
	hangs, err := d.Hangs(ctx)
	require.NoError(t, err)
	assert.Equal(t, map[int64][]int64{1: {2}}, hangs)
}

func TestALineThatCannotBeRead(t *testing.T) {
	d := open(t)
	ctx := t.Context()
	lines, err := d.Lines(ctx)
	require.NoError(t, err)
	assert.True(t, lines[0].Asks())
	var l Line
	assert.Error(t, l.read("u\x1fnew"))
	assert.Error(t, l.read("u\x1fconflict\x1f[\x1fu/A\x1f"))
	require.NoError(t, l.read("u\x1fconflict\x1f[\"taken\"]\x1fu/A\x1fa\x1fb"))
	assert.Equal(t, "a\x1fb", l.Title)
	_, err = d.db.ExecContext(ctx, "INSERT INTO checks VALUES (1, 'x', 'blocker', 'm', 'n', '[]', '[]', 0)")
	require.NoError(t, err)
	lines, err = d.Lines(ctx)
	require.NoError(t, err)
	assert.True(t, lines[0].Blocked)
	gone, stop := context.WithCancel(ctx)
	stop()
	_, err = d.Lines(gone)
	assert.Error(t, err)
	d.digest = ""
	_, err = d.Digest(gone)
	assert.Error(t, err)
}
