package workspace

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A selection's list is rewritten; every other byte stays.
func TestTheRecordsOfASelection(t *testing.T) {
	w := with(t, plainConfig)
	require.NoError(t, w.SetRecords("new", []string{"a/1", "b/*"}))
	w, err := Open(w.Dir)
	require.NoError(t, err)
	assert.Equal(t, []string{"a/1", "b/*"}, w.Selections["new"].Records)
	for before, want := range map[string]string{
		plainConfig + "selections:\n  s:\n    records: [a/1,\n      a/2]\n    related: none # ours\n": plainConfig + "selections:\n  s:\n    records:\n      - a/1\n      - 'x: y/#1'\n    related: none # ours\n",
		plainConfig + "selections:\n  s:\n    records:\n    - a/1\n    - a/2":                         plainConfig + "selections:\n  s:\n    records:\n      - a/1\n      - 'x: y/#1'\n",
		plainConfig + "selections: # all\n  \"s\":\n    types: [t]\nmust_agree: [a/x]\n":              plainConfig + "selections: # all\n  \"s\":\n    types: [t]\n    records:\n      - a/1\n      - 'x: y/#1'\nmust_agree: [a/x]\n",
	} {
		w := with(t, before)
		require.NoError(t, w.SetRecords("s", []string{"a/1", "x: y/#1"}))
		assert.Equal(t, strings.ReplaceAll(want, "'x: y/#1'", "QUOTED"), strings.NewReplacer("'x: y/#1'", "QUOTED", "\"x: y/#1\"", "QUOTED").Replace(config(t, w)))
		after, err := Open(w.Dir)
		require.NoError(t, err)
		assert.Equal(t, []string{"a/1", "x: y/#1"}, after.Selections["s"].Records)
		require.NoError(t, after.SetRecords("s", nil))
		assert.Contains(t, config(t, after), "records: []")
	}
	for _, text := range []string{"selections: {s: {records: [a/1]}}\n", "selections:\n  s: {records: [a/1]}\n"} {
		w := with(t, plainConfig+text)
		require.ErrorContains(t, w.SetRecords("s", []string{"a/2"}), "is written on one line")
		assert.Equal(t, plainConfig+text, config(t, w))
	}
	require.ErrorContains(t, w.SetRecords("new", make([]string, mostGathered+1)), "are the most")
}

// What goes around an import is read as it stands, and refused where it makes no sense.
func TestAroundAnImport(t *testing.T) {
	w := with(t, "environments:\n  a: {connect: \"sqlite:a.db\", around_import: {before: [x], after: [y, z], remind: {before: [r], after: [q]}}}\n  b: {connect: \"folder:b\", around_import: {remind: {before: [r]}}}\n  c: {connect: \"sqlite:c.db\"}\n")
	a, b, c := w.Environments[0].Around, w.Environments[1].Around, w.Environments[2].Around
	assert.True(t, a.Any() && a.Statements() && b.Any() && !b.Statements() && !c.Any())
	assert.True(t, a.Same(Around{Before: []string{"x"}, After: []string{"y", "z"}, RemindBefore: []string{"r"}, RemindAfter: []string{"q"}}))
	assert.False(t, a.Same(b))
}
