package docket_test

import (
	"context"
	"io"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/check"
	"anagram/internal/core/decision"
	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/build"
	"anagram/internal/store/docket/run"
)

func TestAttachmentsAreKeptOnceAndComeBackWhole(t *testing.T) {
	ctx := context.Background()
	b, err := build.Create(ctx, t.TempDir())
	require.NoError(t, err)
	defer b.Discard()
	big, none := record.BytesValue(make([]byte, 300_000)), record.BytesValue(nil)
	for _, v := range []record.Value{big, none, big, record.NullValue()} {
		require.NoError(t, b.Content(ctx, v))
	}
	path := filepath.Join(t.TempDir(), "0001.docket")
	_, err = b.Finish(ctx, path, docket.Header{Number: 1}, []byte("types:\n  u: {key: [c]}\n"), nil)
	require.NoError(t, err)
	d, err := docket.Open(ctx, path)
	require.NoError(t, err)
	defer d.Close()
	for _, want := range []record.Value{big, none} {
		bare, err := record.ContentValue(want.Text(), nil)
		require.NoError(t, err)
		got, err := d.Found.WithContent(bare)
		require.NoError(t, err)
		in, err := got.Content().Open()
		require.NoError(t, err)
		data, err := io.ReadAll(in)
		require.NoError(t, err)
		assert.EqualValues(t, len(data), got.Content().Size())
		assert.Equal(t, want.Text(), record.BytesValue(data).Text())
	}
	lost, err := d.Found.WithContent(record.BytesValue([]byte("never kept")))
	require.NoError(t, err)
	_, err = lost.Content().Open()
	require.ErrorContains(t, err, "does not hold the attachment with SHA-256 ")
	plain, err := d.Found.WithContent(record.NullValue())
	require.NoError(t, err)
	assert.Equal(t, record.Null, plain.Kind())
}

func TestNeedsSayWhatTheyWaitFor(t *testing.T) {
	ctx := context.Background()
	d := open(t)
	var all []docket.Need
	for n, err := range d.Found.Needs(ctx, true) {
		require.NoError(t, err)
		all = append(all, n)
	}
	require.Len(t, all, 1)
	assert.Equal(t, []any{int64(2), "x", "u/C", `["C"]`}, []any{all[0].Holder, all[0].Field, all[0].Address, all[0].Key})
	lines, err := d.Found.Sides(ctx, []int64{1, 3, 99})
	require.NoError(t, err)
	assert.Len(t, lines, 2)
	assert.Equal(t, []string{"u/A", "u/C"}, []string{lines[1].Address, lines[3].Address})
	none, err := d.Found.Sides(ctx, nil)
	require.NoError(t, err)
	assert.Empty(t, none)
	typ, ok := d.Type("u")
	require.True(t, ok)
	assert.Equal(t, 2, typ.Counts[match.New])
	_, ok = d.Type("v")
	assert.False(t, ok)
}

func TestASummaryCountsWhatStandsInADocket(t *testing.T) {
	ctx := context.Background()
	d := open(t)
	s, err := docket.Summarize(ctx, d)
	require.NoError(t, err)
	assert.Equal(t, decision.Tally{Open: 3}, s.Tally)
	require.NoError(t, d.Decide(ctx, "mara", "", noon, []docket.Verdict{
		{Finding: 1, Decision: decision.Approved}, {Finding: 2, Decision: decision.Declined}, {Finding: 3, Decision: decision.Held},
	}))
	seq, err := run.Start(ctx, d, run.ImportRun, "mara", noon)
	require.NoError(t, err)
	s, err = docket.Summarize(ctx, d)
	require.NoError(t, err)
	assert.Equal(t, decision.Tally{Approved: 1, Declined: 1, Held: 1}, s.Tally)
	require.Len(t, s.Runs, 1)
	assert.Empty(t, s.Runs[0].Outcome, "it was begun and has not ended")
	_ = seq
}

func TestAStoredCheckHoldsForWhatIsWritten(t *testing.T) {
	writes := func(names ...string) func(string) bool {
		return func(field string) bool {
			for _, name := range names {
				if name == field {
					return true
				}
			}
			return false
		}
	}
	c := check.On{Check: check.Check{Code: check.ValueDoesNotFit}, Fields: []string{"low", "high"}, Writes: []string{"high"}}
	assert.True(t, c.Holds(writes("high", "name")))
	assert.False(t, c.Holds(writes("low", "high")))
	assert.False(t, c.Holds(writes()))
	assert.True(t, check.On{}.Holds(writes("low")), "a check without fields always holds")
}

func TestAFileThatIsNoDocket(t *testing.T) {
	ctx := context.Background()
	dir := t.TempDir()
	whole := filepath.Join(dir, "0001.docket")
	made(t, whole)
	data, err := os.ReadFile(whole)
	require.NoError(t, err)
	for name, content := range map[string][]byte{
		"empty": {}, "text": []byte("not a docket at all, but some text that is long enough to be one\n"),
		"head": data[:700], "half": data[:len(data)/2], "zeros": make([]byte, 8192),
	} {
		path := filepath.Join(dir, name+".docket")
		require.NoError(t, os.WriteFile(path, content, 0o600))
		_, err := docket.Open(ctx, path)
		require.Error(t, err, name)
		assert.Contains(t, err.Error(), path, name)
		var known *docket.Error
		require.ErrorAs(t, err, &known, name)
	}
	folder := filepath.Join(dir, "0002.docket")
	require.NoError(t, os.Mkdir(folder, 0o755))
	_, err = docket.Open(ctx, folder)
	require.ErrorContains(t, err, "it is a folder, not a docket")
	_, err = docket.Open(ctx, filepath.Join(dir, "none.docket"))
	require.Error(t, err)
	again, err := os.ReadFile(whole)
	require.NoError(t, err)
	assert.Equal(t, data, again)
}

func TestADocketOfAnotherVersion(t *testing.T) {
	ctx := context.Background()
	for change, advice := range map[string]string{"2": "Match again, or use the anagram that made it", "99": "Use a newer anagram"} {
		path := filepath.Join(t.TempDir(), "0001.docket")
		made(t, path)
		d, err := docket.Open(ctx, path)
		require.NoError(t, err)
		_, err = d.DB().Exec("PRAGMA user_version = " + change)
		require.NoError(t, err)
		require.NoError(t, d.Close())
		_, err = docket.Open(ctx, path)
		require.ErrorContains(t, err, advice)
	}
}

func TestFindingsAreChosenByTypeStatusAndPattern(t *testing.T) {
	ctx := context.Background()
	d := open(t)
	pattern := func(text string) record.Pattern {
		p, err := record.ParsePattern(text)
		require.NoError(t, err)
		return p
	}
	for _, c := range []struct {
		filter docket.Filter
		want   []string
	}{
		{docket.Filter{}, []string{"u/A", "u/B", "u/C", "u/D"}},
		{docket.Filter{Types: []string{"v"}}, nil},
		{docket.Filter{Types: []string{"v", "u"}, Statuses: []match.Status{match.New}}, []string{"u/B", "u/C"}},
		{docket.Filter{Patterns: []record.Pattern{pattern("u/B"), pattern("*/D")}}, []string{"u/B", "u/D"}},
		{docket.Filter{Patterns: []record.Pattern{pattern("v/*")}}, nil},
		{docket.Filter{ByStatus: true, Statuses: []match.Status{match.New, match.Changed}}, []string{"u/A", "u/B", "u/C"}},
	} {
		var got []string
		for f, err := range d.Found.Findings(ctx, c.filter) {
			require.NoError(t, err)
			got = append(got, f.Address)
		}
		assert.Equal(t, c.want, got, "%+v", c.filter)
	}
	// Who stops asking is not given more.
	n := 0
	for range d.Found.Findings(ctx, docket.Filter{}) {
		n++
		break
	}
	assert.Equal(t, 1, n)
	require.NoError(t, d.Decide(ctx, "mara", "", noon, []docket.Verdict{{Finding: 2, Decision: decision.Held}}))
	for f, err := range d.Found.Decided(ctx) {
		require.NoError(t, err)
		assert.Equal(t, "u/B", f.Address)
	}
}

func TestAnotherProgramThatWritesIsWaitedForAndNamed(t *testing.T) {
	ctx := context.Background()
	d := open(t)
	tx, err := d.DB().Begin()
	require.NoError(t, err)
	_, err = tx.Exec("UPDATE findings SET address = address")
	require.NoError(t, err)
	other, err := docket.Open(ctx, d.Path())
	require.NoError(t, err)
	defer other.Close()
	err = other.Decide(ctx, "mara", "", noon, []docket.Verdict{{Finding: 1, Decision: decision.Held}})
	require.ErrorContains(t, err, "another anagram is working on this docket; wait until it has finished and try again")
	require.NoError(t, tx.Rollback())
	require.NoError(t, other.Decide(ctx, "mara", "", noon, []docket.Verdict{{Finding: 1, Decision: decision.Held}}))
}

func TestARunEndsWithItsOutcome(t *testing.T) {
	ctx := context.Background()
	d := open(t)
	seq, err := run.Start(ctx, d, run.ImportRun, "mara", noon)
	require.NoError(t, err)
	stopped, cancel := context.WithCancel(ctx)
	cancel()
	require.Error(t, d.Decide(stopped, "mara", "", noon, []docket.Verdict{{Finding: 1, Decision: decision.Approved}}),
		"a step that was stopped decides nothing")
	assert.Equal(t, decision.Undecided, findings(t, d)["u/A"].Decision)
	_ = seq
}
