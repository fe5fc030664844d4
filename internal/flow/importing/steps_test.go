package importing_test

import (
	"context"
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/decision"
	"anagram/internal/environment"
	"anagram/internal/environment/conformance"
	"anagram/internal/environment/connect"
	"anagram/internal/flow/decide"
	"anagram/internal/flow/export"
	"anagram/internal/flow/importing"
	"anagram/internal/flow/matching"
	"anagram/internal/flow/restore"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/run"
	"anagram/internal/store/workspace"
	"anagram/internal/tests"
)

type quiet struct{}

func (quiet) Start(string, int) {}
func (quiet) Add(int)           {}
func (quiet) Done()             {}

// bench is a workspace whose target has no transactions and fails when it is told to.
type bench struct {
	*testing.T
	session *session.Session
	target  *conformance.Steps // of the last import
	before  int
	after   int
	effects map[string]int
	db      *sql.DB
}

const benchTables = `CREATE TABLE items (id INTEGER PRIMARY KEY, code TEXT NOT NULL UNIQUE, name TEXT, next INTEGER);
CREATE TABLE parts (id INTEGER PRIMARY KEY, item INTEGER NOT NULL, n INTEGER NOT NULL, UNIQUE (item, n));`

func newBench(t *testing.T) *bench {
	t.Helper()
	dir := t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	write("catalog.yaml",
		"types:\n  item: {at: items, key: [code], id: id, refers: {next: item}}\n  part: {at: parts, key: [item, n], id: id, refers: {item: item}, part_of: item}\n")
	write("anagram.yaml", "environments:\n  source: {connect: \"sqlite:source.db\"}\n  target: {connect: \"sqlite:target.db\"}\n")
	b := &bench{T: t, effects: map[string]int{}}
	for name, rows := range map[string]string{
		"source": "INSERT INTO items VALUES (1,'A','a2',NULL),(2,'B','b2',3),(3,'C','c',2),(4,'D','d',3),(5,'E','e',6),(6,'F','f',5); INSERT INTO parts VALUES (1,3,1),(2,1,1),(3,5,1);",
		"target": "INSERT INTO items VALUES (11,'A','a1',NULL),(12,'B','b1',NULL),(13,'OWN','own',NULL);",
	} {
		db, err := sql.Open("sqlite", filepath.Join(dir, name+".db"))
		require.NoError(t, err)
		t.Cleanup(func() { _ = db.Close() })
		_, err = db.Exec(benchTables + rows)
		require.NoError(t, err)
		if name == "target" {
			b.db = db
		}
	}
	w, err := workspace.Open(dir)
	require.NoError(t, err)
	b.session = &session.Session{Workspace: w, Who: "mara", Program: "test", Now: time.Now, Progress: quiet{},
		Connect: func(ctx context.Context, target connect.Target) (environment.Environment, error) {
			env, err := connect.Open(ctx, target)
			if err != nil || target.Name != "target" || target.ReadOnly {
				return env, err
			}
			b.target = &conformance.Steps{Environment: env, Before: b.before, After: b.after, Effects: b.effects}
			return b.target, nil
		}}
	return b
}

func (b *bench) state() string {
	b.Helper()
	rows,
		err := b.db.Query("SELECT i.code || ' ' || i.name || ' ' || coalesce(n.code, '-') FROM items i LEFT JOIN items n ON n.id = i.next UNION ALL SELECT i.code || '/' || n FROM parts p JOIN items i ON i.id = p.item ORDER BY 1")
	require.NoError(b, err)
	defer rows.Close()
	var out []string
	for rows.Next() {
		var line string
		require.NoError(b, rows.Scan(&line))
		out = append(out, line)
	}
	require.NoError(b, rows.Err())
	return strings.Join(out, ", ")
}

// approved makes a docket of which all is approved.
func (b *bench) approved(number int) *docket.Docket {
	b.Helper()
	ctx := context.Background()
	d, err := b.session.OpenDocket(ctx, fmt.Sprint(number))
	require.NoError(b, err)
	b.Cleanup(func() { _ = d.Close() })
	_, err = decide.Decide(ctx, b.session, d, decide.Request{Which: decide.Which{Patterns: []string{"*"}},
		Decision: decision.Approved, Take: decide.TakeSource})
	require.NoError(b, err)
	return d
}

// begun makes an import of which a write fails, before its effect or after it; 0 fails nowhere.
func begun(t *testing.T, before, after int) (b *bench, first string, d *docket.Docket, result importing.Result, err error) {
	t.Helper()
	ctx := context.Background()
	b = newBench(t)
	first = b.state()
	_, err = export.Export(ctx, b.session, export.Request{Environment: "source", Name: "p"})
	require.NoError(t, err)
	_, err = matching.Match(ctx, b.session, matching.Request{Parcel: "p", Against: "target"})
	require.NoError(t, err)
	d = b.approved(1)
	b.before, b.after = before, after
	result, err = importing.Import(ctx, b.session, d, importing.Request{})
	return b, first, d, result, err
}

// Whichever write fails, before its effect or after it: the import is resumed to its end with
// nothing written twice, or taken back, and the docket tells the truth.
func TestEveryStepMayFail(t *testing.T) {
	t.Parallel()
	b, before, _, result, err := begun(t, 0, 0)
	require.NoError(t, err)
	require.Equal(t, run.Imported, result.Outcome)
	whole, writes := b.state(), b.target.Writes
	require.NotEqual(t, before, whole)
	require.Greater(t, writes, 8)
	for n := 1; n <= writes; n++ {
		for _, after := range []bool{false, true} {
			if !tests.Thorough() && (n%3 != 1 || after == (n%2 == 0)) {
				continue
			}
			t.Run(fmt.Sprintf("write %d, after its effect: %t", n, after), func(t *testing.T) {
				t.Parallel()
				if after {
					resumed(t, 0, n, whole)
					takenBack(t, 0, n, before)
				} else {
					resumed(t, n, 0, whole)
					takenBack(t, n, 0, before)
				}
			})
		}
	}
}

func resumed(t *testing.T, failBefore, failAfter int, whole string) {
	t.Helper()
	ctx := context.Background()
	b, _, d, result, err := begun(t, failBefore, failAfter)
	require.ErrorIs(t, err, conformance.ErrStep)
	require.Equal(t, run.Interrupted, result.Outcome)
	var half *session.BrokenOffError
	require.ErrorAs(t, err, &half)
	b.before, b.after = 0, 0
	_, err = importing.Import(ctx, b.session, d, importing.Request{})
	var blocked *session.BlockedError
	require.ErrorAs(t, err, &blocked)
	result, err = importing.Import(ctx, b.session, d, importing.Request{Resume: true})
	require.NoError(t, err)
	require.Equal(t, run.Imported, result.Outcome)
	require.Empty(t, result.LeftOut)
	assert.Equal(t, whole, b.state())
	for effect, times := range b.effects {
		assert.Equal(t, 1, times, effect)
	}
}

func takenBack(t *testing.T, failBefore, failAfter int, before string) {
	t.Helper()
	ctx := context.Background()
	b, _, d, _, err := begun(t, failBefore, failAfter)
	require.ErrorIs(t, err, conformance.ErrStep)
	b.before, b.after = 0, 0
	back, err := restore.Restore(ctx, b.session, d, nil)
	require.NoError(t, err)
	if back.Open == 0 { // what was begun did not happen
		assert.Equal(t, before, b.state())
		return
	}
	result, err := importing.Import(ctx, b.session, b.approved(back.Header.Number), importing.Request{})
	require.NoError(t, err)
	// A record that came though nobody was told is not removed: nobody knows that it is as it was
	// made. It is named.
	for _, l := range result.LeftOut {
		assert.Contains(t, []string{"not-as-written", "still-referred"}, l.Why)
	}
	if len(result.LeftOut) == 0 {
		assert.Equal(t, before, b.state())
	} else {
		assert.NotZero(t, failAfter)
	}
}
