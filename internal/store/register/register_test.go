package register

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/decision"
	"anagram/internal/core/match"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/build"
	"anagram/internal/store/workspace"
)

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

// add makes a docket of some new records, K1 and on, whose target is production.
func addDocket(t *testing.T, w *workspace.Workspace, number, findings int, values string) {
	t.Helper()
	ctx := context.Background()
	scratch, err := w.Scratch()
	require.NoError(t, err)
	_, err = w.Dockets()
	require.NoError(t, err)
	b, err := build.Create(ctx, scratch)
	require.NoError(t, err)
	defer b.Discard()
	for i := range findings {
		key := fmt.Sprintf("K%d", i+1)
		_, err := b.Finding(ctx, docket.Finding{Type: "u", Address: "u/" + key, Key: `["` + key + `"]`, Order: key, Status: match.New, Source: values + key, Fields: []docket.Field{}})
		require.NoError(t, err)
	}
	require.NoError(t, b.Type(ctx, docket.Type{Name: "u", Counts: map[match.Status]int{match.New: findings}}))
	_, err = b.Finish(ctx, w.DocketPath(number), docket.Header{Number: number, Source: "sandbox", Target: "production", Parcel: "p", MatchedAt: fmt.Sprintf("2026-11-23T12:00:%02dZ", number)}, []byte("types:\n  u: {key: [c]}\n"), nil)
	require.NoError(t, err)
}

func decide(t *testing.T, w *workspace.Workspace, number int, note string, decision decision.Decision, ids ...int64) {
	t.Helper()
	d, err := docket.Open(context.Background(), w.DocketPath(number))
	require.NoError(t, err)
	defer d.Close()
	var verdicts []docket.Verdict
	for _, id := range ids {
		verdicts = append(verdicts, docket.Verdict{Finding: id, Decision: decision})
	}
	require.NoError(t, d.Decide(context.Background(), "mara", note, noon, verdicts))
	later(t, w.DocketPath(number))
}

// later makes sure that a change shows in a file's time, however coarse that is.
func later(t *testing.T, path string) {
	t.Helper()
	info, err := os.Stat(path)
	require.NoError(t, err)
	require.NoError(t, os.Chtimes(path, time.Time{}, info.ModTime().Add(2*time.Second)))
}

func entries(t *testing.T, w *workspace.Workspace) []Entry {
	t.Helper()
	list, err := Dockets(context.Background(), w)
	require.NoError(t, err)
	return list
}

func TestTheRegisterSaysWhatTheDocketsSay(t *testing.T) {
	w := &workspace.Workspace{Dir: t.TempDir()}
	assert.Empty(t, entries(t, w))
	addDocket(t, w, 1, 3, "a")
	addDocket(t, w, 2, 1, "b")
	list := entries(t, w)
	require.Len(t, list, 2)
	assert.Equal(t, decision.Tally{Open: 3}, list[0].Tally)
	assert.Equal(t, []any{2, "sandbox", "production", "p", "2026-11-23T12:00:02Z"}, []any{list[1].Header.Number, list[1].Header.Source, list[1].Header.Target, list[1].Header.Parcel, list[1].Header.MatchedAt})

	decide(t, w, 1, "", decision.Approved, 1, 2)
	assert.Equal(t, decision.Tally{Open: 1, Approved: 2}, entries(t, w)[0].Tally)

	// What the register says is the same as what reading all of them anew says.
	known := entries(t, w)
	require.NoError(t, os.Remove(filepath.Join(w.Dir, ".anagram", "register.jsonl")))
	assert.Equal(t, known, entries(t, w))
}

func TestADocketThatDidNotChangeIsNotOpened(t *testing.T) {
	w := &workspace.Workspace{Dir: t.TempDir()}
	addDocket(t, w, 1, 2, "a")
	addDocket(t, w, 2, 2, "a")
	before := entries(t, w)
	// Content of the same size and time stands for one that nobody looks into.
	path := w.DocketPath(1)
	info, err := os.Stat(path)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path, []byte(strings.Repeat("x", int(info.Size()))), 0o600))
	require.NoError(t, os.Chtimes(path, info.ModTime(), info.ModTime()))
	assert.Equal(t, before, entries(t, w))
	lines, err := os.ReadFile(filepath.Join(w.Dir, ".anagram", "register.jsonl"))
	require.NoError(t, err)
	assert.Equal(t, 3, strings.Count(string(lines), "\n"), "a head, and a line for each")
}

func TestADamagedDocketStopsNobody(t *testing.T) {
	w := &workspace.Workspace{Dir: t.TempDir()}
	for n := range 4 {
		addDocket(t, w, n+1, 1, "a")
	}
	text, err := os.ReadFile(w.DocketPath(3))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(w.DocketPath(1), text[:len(text)/3], 0o600))
	require.NoError(t, os.WriteFile(w.DocketPath(2), []byte("no database"), 0o600))
	require.NoError(t, os.WriteFile(w.DocketPath(4), text, 0o600)) // it says that it is docket 3
	list := entries(t, w)
	require.Len(t, list, 4)
	for i, why := range map[int]string{0: "0001.docket", 1: "is not a docket", 3: "the file holds docket 3. Give it back the name 0003.docket"} {
		assert.ErrorContains(t, list[i].Err, why)
		assert.Equal(t, i+1, list[i].Header.Number)
	}
	assert.NoError(t, list[2].Err)
	assert.Equal(t, 1, list[2].Tally.Open)
	d, err := OpenDecided(context.Background(), w, 9)
	require.NoError(t, err)
	require.NoError(t, d.Close())
}

func TestAnOddRegisterSaysNothing(t *testing.T) {
	w := &workspace.Workspace{Dir: t.TempDir()}
	addDocket(t, w, 1, 2, "a")
	want := entries(t, w)
	for _, text := range []string{"", "not json\n", `{"workspace":"x","version":99}` + "\n" + `{"docket":1,"open":77}` + "\n", `{"workspace":"x","version":1}` + "\n{\n" + `{"docket":1,"size":1,"open":77}` + "\n"} {
		require.NoError(t, os.WriteFile(filepath.Join(w.Dir, ".anagram", "register.jsonl"), []byte(text), 0o600))
		assert.Equal(t, want, entries(t, w), "%q", text)
	}
}

func TestAWorkspaceThatMayOnlyBeRead(t *testing.T) {
	if os.Getuid() == 0 {
		// Rights do not bind this account; a file in the place of the folder does.
		w := &workspace.Workspace{Dir: t.TempDir()}
		addDocket(t, w, 1, 2, "a")
		require.NoError(t, os.RemoveAll(filepath.Join(w.Dir, ".anagram")))
		require.NoError(t, os.WriteFile(filepath.Join(w.Dir, ".anagram"), nil, 0o600))
		_, err := Dockets(context.Background(), w)
		assert.Error(t, err, "what stands in the way is said")
		return
	}
	w := &workspace.Workspace{Dir: t.TempDir()}
	addDocket(t, w, 1, 2, "a")
	require.NoError(t, os.Chmod(filepath.Join(w.Dir, ".anagram"), 0o500))
	assert.Equal(t, 2, entries(t, w)[0].Tally.Open)
}

// said gives what was last decided about a record, with its values as they are in a docket.
func said(t *testing.T, w *workspace.Workspace, before int, key, values string) string {
	t.Helper()
	ctx := context.Background()
	d, err := OpenDecided(ctx, w, before)
	require.NoError(t, err)
	defer d.Close()
	f := docket.Finding{Type: "u", Order: key, Source: values + key}
	list, err := d.Find(ctx, "sandbox", "production", f)
	require.NoError(t, err)
	if len(list) == 0 {
		return "nothing"
	}
	s := list[0]
	return fmt.Sprintf("%s in %d by %s %q, as it is: %v", s.Decision, s.Docket, s.Who, s.Note, s.On(f))
}

func TestWhatWasDecidedLastCounts(t *testing.T) {
	w := &workspace.Workspace{Dir: t.TempDir()}
	addDocket(t, w, 1, 3, "a")
	addDocket(t, w, 2, 3, "b")
	assert.Equal(t, "nothing", said(t, w, 3, "K1", "a"))
	decide(t, w, 1, "not now", decision.Declined, 1, 2)
	assert.Equal(t, `declined in 1 by mara "not now", as it is: true`, said(t, w, 3, "K1", "a"))
	assert.Equal(t, `declined in 1 by mara "not now", as it is: false`, said(t, w, 3, "K1", "b"), "the source has other values by now")
	decide(t, w, 2, "", decision.Held, 1)
	assert.Equal(t, `held in 2 by mara "", as it is: true`, said(t, w, 3, "K1", "b"))
	decide(t, w, 1, "again", decision.Approved, 1)
	assert.Equal(t, `held in 2 by mara "", as it is: true`, said(t, w, 3, "K1", "b"), "what the later docket says counts, whenever the earlier one was decided")
	decide(t, w, 1, "", decision.Approved, 2)
	assert.Equal(t, `approved in 1 by mara "", as it is: true`, said(t, w, 3, "K2", "a"))
	assert.Equal(t, "nothing", said(t, w, 3, "K3", "a"))

	// It is told from the dockets there are: without the second, the first counts again.
	require.NoError(t, os.Rename(w.DocketPath(2), filepath.Join(w.Dir, "away")))
	assert.Equal(t, `approved in 1 by mara "again", as it is: true`, said(t, w, 3, "K1", "a"))
	require.NoError(t, os.Rename(filepath.Join(w.Dir, "away"), w.DocketPath(2)))
	assert.Equal(t, `held in 2 by mara "", as it is: true`, said(t, w, 3, "K1", "b"))
	assert.Equal(t, `held in 2 by mara "", as it is: true`, said(t, w, 2, "K1", "b"), "what was read stays known; Carry asks for dockets before its own, which has none later")

	require.NoError(t, os.WriteFile(filepath.Join(w.Dir, ".anagram", "decided.db"), []byte("damaged"), 0o600))
	assert.Equal(t, `held in 2 by mara "", as it is: true`, said(t, w, 3, "K1", "b"), "what is damaged is made anew")
}

func TestACarriedDecisionNamesItsFirstDocket(t *testing.T) {
	w := &workspace.Workspace{Dir: t.TempDir()}
	addDocket(t, w, 1, 1, "a")
	addDocket(t, w, 2, 1, "a")
	d, err := docket.Open(context.Background(), w.DocketPath(2))
	require.NoError(t, err)
	require.NoError(t, d.Decide(context.Background(), "mara", "a note of one's own: carried over from docket 9", noon, []docket.Verdict{{Finding: 1, Decision: decision.Declined, Carried: 1}}))
	require.NoError(t, d.Close())
	assert.Equal(t, `declined in 1 by mara "a note of one's own: carried over from docket 9", as it is: true`, said(t, w, 3, "K1", "a"))
}

// Whatever moment a program is killed at, between what the register hears and what the
// docket holds, no decision that was made is lost and the docket goes on.
func TestAKillBetweenRegisterAndDocketLosesNothing(t *testing.T) {
	ctx := context.Background()
	w := &workspace.Workspace{Dir: t.TempDir()}
	addDocket(t, w, 1, 3, "a")
	first, err := docket.Open(ctx, w.DocketPath(1))
	require.NoError(t, err)
	digest, err := first.Digest(ctx)
	require.NoError(t, errors.Join(err, first.Close()))
	require.NoError(t, Add(w, 1, digest))
	say := func(id int64) {
		d, err := Open(ctx, w, 1)
		require.NoError(t, err)
		defer d.Close()
		require.NoError(t, d.Decide(ctx, "mara", "", noon, []docket.Verdict{{Finding: id, Decision: decision.Held}}))
	}
	held := func() int {
		d, err := Open(ctx, w, 1)
		require.NoError(t, err)
		defer d.Close()
		s, err := docket.Summarize(ctx, d)
		require.NoError(t, err)
		return s.Tally.Held
	}
	say(1)
	for range 3 { // announced and never written, again and again
		d, err := Open(ctx, w, 1)
		require.NoError(t, err)
		head, err := d.Head(ctx)
		require.NoError(t, errors.Join(err, d.Close()))
		require.NoError(t, note(w, sealed{Docket: 1, Digest: digest, Before: head.Head, Head: "never written", Links: 9}))
		assert.Equal(t, 1, held())
	}
	// The line itself was cut off.
	f, err := os.OpenFile(path(w), os.O_APPEND|os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = f.WriteString(`{"docket":1,"digest":"` + digest[:9])
	require.NoError(t, errors.Join(err, f.Close()))
	assert.Equal(t, 1, held())
	say(2)
	say(3)
	assert.Equal(t, 3, held())

	// What goes on without the register, or goes back, is named.
	copied, err := os.ReadFile(w.DocketPath(1))
	require.NoError(t, err)
	say(1)
	require.NoError(t, os.WriteFile(w.DocketPath(1), copied, 0o600))
	_, err = Open(ctx, w, 1)
	assert.ErrorContains(t, err, "its log is not the one that this workspace wrote", "not even one decision is lost unseen")
}
