package workspace

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// with makes a workspace whose anagram.yaml has a text.
func with(t *testing.T, text string) *Workspace {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, ConfigName), []byte(text), 0o644))
	w, err := Open(dir)
	require.NoError(t, err)
	return w
}

func config(t *testing.T, w *Workspace) string {
	t.Helper()
	text, err := os.ReadFile(filepath.Join(w.Dir, ConfigName))
	require.NoError(t, err)
	return string(text)
}

const plainConfig = "# ours\nenvironments:\n  a: {connect: \"sqlite:a.db\"} # the first\n"

var everything = Selection{
	Areas: []string{"tests"}, Types: []string{"unit", "assay"}, Records: []string{"panel/*", "a/%2F'\"#"},
	Where: map[string]string{"assay": "status == 'A' && name != \"x: y\"", "unit": "true"}, ChangedSince: "last-import:target",
	LeaveOut: []string{"comment/*"}, Related: "parts", NoFiles: true,
}

func TestASavedSelectionReadsBack(t *testing.T) {
	for _, before := range []string{
		plainConfig,
		plainConfig[:len(plainConfig)-1], // no line end
		plainConfig + "selections:\n  old: {types: [unit]}\n",
		plainConfig + "selections: # what we take\n  old:\n    types: [unit]\n",
		"selections:   \n  old: {types: [unit]}\n" + plainConfig,
	} {
		w := with(t, before)
		require.NoError(t, w.SaveSelection("june", everything))
		again, err := Open(w.Dir)
		require.NoError(t, err)
		assert.Equal(t, everything, again.Selections["june"], before)
		assert.Len(t, again.Selections, len(w.Selections)+1)
		assert.Equal(t, w.Environments[0].Connect, again.Environments[0].Connect)
		assert.Contains(t, config(t, w), "# the first", "what a person wrote stays")
		require.ErrorContains(t, again.SaveSelection("june", everything), "has a selection \"june\" already")
		require.NoError(t, again.SaveSelection("Später_2.b-c", Selection{Types: []string{"unit"}}))
		scratch, err := w.Scratch()
		require.NoError(t, err)
		left, err := os.ReadDir(scratch)
		require.NoError(t, err)
		assert.Empty(t, left)
	}
}

func TestASelectionThatCannotBeSaved(t *testing.T) {
	for _, name := range []string{"", "a b", "a:", "-a", ".a", "a\nb", "../x"} {
		w := with(t, plainConfig)
		require.ErrorContains(t, w.SaveSelection(name, everything), "cannot be a selection's name", name)
		assert.Equal(t, plainConfig, config(t, w))
	}
	line := plainConfig + "selections: {old: {types: [unit]}}\n"
	w := with(t, line)
	require.ErrorContains(t, w.SaveSelection("june", everything), "written on one line")
	assert.Equal(t, line, config(t, w))
	w = with(t, plainConfig+"selections:\n    old: {types: [unit]}\n") // another indent
	err := w.SaveSelection("june", everything)
	if err != nil {
		assert.Equal(t, plainConfig+"selections:\n    old: {types: [unit]}\n", config(t, w), "what cannot be read is not written")
	}
}
