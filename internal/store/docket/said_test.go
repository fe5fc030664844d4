package docket_test

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/decision"
	"anagram/internal/core/group"
	"anagram/internal/core/match"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/run"
)

func TestADocketWithoutItsGroupsIsRefused(t *testing.T) {
	for _, alteration := range []string{"DELETE FROM members WHERE finding = 2", "UPDATE members SET grp = 9 WHERE finding = 2",
		"UPDATE groups SET head = 99 WHERE id = 1", "INSERT INTO members VALUES (99, 1, 0)",
		"UPDATE groups SET id = 40 WHERE id = 1"} {
		path := filepath.Join(t.TempDir(), "0007.docket")
		require.False(t, made(t, path))
		d, err := docket.Open(t.Context(), path)
		require.NoError(t, err)
		_, err = d.DB().ExecContext(t.Context(), alteration)
		require.NoError(t, err)
		_, err = d.Verify(t.Context())
		assert.ErrorContains(t, err, "altered", alteration)
		require.NoError(t, d.Close())
	}
}

func TestWhatIsSaidAndSignedIsKept(t *testing.T) {
	d := open(t)
	ctx := t.Context()
	d.From(docket.Origin{Account: "mara", Host: "desk"})
	require.NoError(t, d.Comment(ctx, "", noon, nil))
	require.NoError(t, d.Comment(ctx, "", noon, []docket.Comment{{At: run.Stamp(noon), Who: "mara", Finding: 1, Text: "Which?"}, {At: run.Stamp(noon), Who: "mara", Finding: 2, Text: "Why?"}}))
	require.NoError(t, d.Decide(ctx, "mara", "n", noon, []docket.Verdict{{Finding: 1, Decision: decision.Approved}, {Finding: 2,
		Decision: decision.Held, Rule: true}}))
	require.NoError(t, d.Sign(ctx, "", noon, nil))
	require.NoError(t, d.Sign(ctx, "ida", noon, []docket.Signature{{Who: "jonas", Text: "t", Signature: "s"}}))
	seal, err := d.Verify(ctx)
	require.NoError(t, err)
	assert.Equal(t, 3, seal.Links)
	said, err := d.Comments(ctx)
	require.NoError(t, err)
	assert.Len(t, said, 2)
	signatures, err := d.Signatures(ctx)
	require.NoError(t, err)
	assert.Equal(t, []docket.Signature{{run.Stamp(noon), "jonas", "t", "s"}}, signatures)
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
	require.NoError(t, d.Comment(ctx, "ida", noon, []docket.Comment{{At: run.Stamp(noon), Who: "jonas", Finding: 1, Text: "This one."}}))
	require.NoError(t, d.CutBack(ctx, 1))
	_, err = d.Verify(ctx)
	require.NoError(t, err)
	said, _ = d.Comments(ctx)
	signatures, _ = d.Signatures(ctx)
	assert.Len(t, said, 2)
	assert.Empty(t, signatures)
	assert.Equal(t, decision.Undecided, findings(t, d)["u/A"].Decision)

	for _, alteration := range []string{"UPDATE comments SET who = 'ida'", "DELETE FROM comments",
		"INSERT INTO signatures VALUES (1, '', 'jonas', 't', 's')"} {
		copied, err := os.ReadFile(d.Path())
		require.NoError(t, err)
		path := filepath.Join(t.TempDir(), "0007.docket")
		require.NoError(t, os.WriteFile(path, copied, 0o600))
		other, err := docket.Open(ctx, path)
		require.NoError(t, err)
		_, err = other.DB().ExecContext(ctx, alteration)
		require.NoError(t, err)
		_, err = other.Verify(ctx)
		assert.ErrorContains(t, err, "altered", alteration)
		require.NoError(t, other.Close())
	}
}

func TestADecisionOnAFieldIsTakenBack(t *testing.T) {
	d := open(t)
	say := func(field string, decision decision.Decision) {
		require.NoError(t, d.Decide(t.Context(), "mara", "", noon, []docket.Verdict{{Finding: 1, Field: field, Decision: decision}}))
	}
	say("x", decision.Declined)
	say("", decision.Approved)
	f := findings(t, d)["u/A"]
	assert.Equal(t, []string{"x"}, f.FieldsBy("mara"))
	assert.NotContains(t, f.ApprovedFields(), "x")
	say("x", decision.Reopened)
	f = findings(t, d)["u/A"]
	assert.Empty(t, f.FieldsBy("mara"))
	assert.Contains(t, f.ApprovedFields(), "x", "as if it had never been declined")
	assert.Empty(t, f.Against)
	say("y", decision.Held)
	assert.True(t, findings(t, d)["u/A"].DecidedByOne("mara"))
}

func TestWhatAFindingIsTiedTo(t *testing.T) {
	d := open(t)
	ctx := t.Context()
	to, from, err := d.Found.Links(ctx, 2)
	require.NoError(t, err)
	assert.Len(t, to, 1)
	assert.Equal(t, "u/C", to[0].Address)
	assert.Empty(t, from)
	checks, err := d.Found.ChecksOf(ctx, 1)
	require.NoError(t, err)
	assert.Empty(t, checks)
	_, _, ok := d.Found.Attachment(ctx, "abc")
	assert.False(t, ok)
	_, err = d.DB().ExecContext(ctx, "INSERT INTO contents VALUES ('abcdef', 0, x'25504446')")
	require.NoError(t, err)
	size, begin, ok := d.Found.Attachment(ctx, "abc")
	assert.True(t, ok)
	assert.EqualValues(t, 4, size)
	assert.Equal(t, "%PDF", string(begin))
}

func TestEarlierApprovalsAreKeptAside(t *testing.T) {
	d := open(t)
	ctx := t.Context()
	require.NoError(t, d.ApprovedBefore(ctx, nil))
	require.NoError(t, d.ApprovedBefore(ctx, []docket.Earlier{{2, 3, "jonas", "n"}, {1, 4, "ida", ""}}))
	_, err := d.Verify(ctx)
	require.NoError(t, err)
	f := findings(t, d)
	assert.Equal(t, "jonas 3 open", f["u/B"].Before.Who+" "+string(rune('0'+f["u/B"].Before.Docket))+" "+string(f["u/B"].Decision))
	n := 0
	for _, err := range d.Found.Findings(ctx, docket.Filter{Before: true}) {
		require.NoError(t, err)
		n++
	}
	assert.Equal(t, 2, n)
	_, err = d.DB().ExecContext(ctx, "UPDATE earlier SET who = 'mara'")
	require.NoError(t, err)
	_, err = d.Verify(ctx)
	assert.ErrorContains(t, err, "earlier approvals")
}

func TestWhatMakesAFindingStandAsItDoes(t *testing.T) {
	d := open(t)
	ctx := t.Context()
	require.NoError(t, d.Decide(ctx, "jonas", "n", noon, []docket.Verdict{{Finding: 1, Decision: decision.Approved}}))
	require.NoError(t, d.Decide(ctx, "ida", "m", noon, []docket.Verdict{{Finding: 1, Field: "x", Decision: decision.Held}}))
	said := findings(t, d)["u/A"].Said()
	require.Len(t, said, 2)
	assert.Equal(t, "jonas approved n", said[0].Who+" "+string(said[0].Decision)+" "+said[0].Note)
	assert.Equal(t, "ida held x m", said[1].Who+" "+string(said[1].Decision)+" "+said[1].Field+" "+said[1].Note)
	assert.Empty(t, findings(t, d)["u/B"].Said())
	who, note, _, carried := findings(t, d)["u/A"].SaidOn("x")
	assert.Equal(t, "ida m 0", who+" "+note+" "+string(rune('0'+carried)))
}

func TestWhatHangsOnWhatOnlyTheTargetHas(t *testing.T) {
	ctx := t.Context()
	b := builder(t, docket.Finding{Key: keyOf("A").Order(), Status: match.TargetOnly, Target: "{}"},
		docket.Finding{Key: keyOf("B").Order(), Status: match.TargetOnly, Target: "{}"}, docket.Finding{Key: keyOf("C").Order(),
			Status: match.New, Source: "{}"})
	require.NoError(t, b.Tie(ctx, 2, group.Needs, "u", keyOf("A"), "u/A"))
	require.NoError(t, b.Tie(ctx, 3, group.Owner, "u", keyOf("A"), "u/A"))
	d := finish(t, b)
	hangs, err := d.Found.Hangs(ctx)
	require.NoError(t, err)
	assert.Equal(t, map[int64][]int64{1: {2}}, hangs)
}

func TestALineThatCannotBeRead(t *testing.T) {
	d := open(t)
	ctx := t.Context()
	lines, err := d.Found.Lines(ctx)
	require.NoError(t, err)
	assert.True(t, lines[0].Asks())
	_, err = d.DB().ExecContext(ctx, "INSERT INTO checks VALUES (1, 'x', 'blocker', 'm', 'n', '[]', '[]', 0)")
	require.NoError(t, err)
	lines, err = d.Found.Lines(ctx)
	require.NoError(t, err)
	assert.True(t, lines[0].Blocked)
	gone, stop := context.WithCancel(ctx)
	stop()
	_, err = d.Found.Lines(gone)
	assert.Error(t, err)
}
