//go:build unix

package test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// kills is how often the program is killed for each engine.
func kills(few, many int) int {
	if n, err := strconv.Atoi(os.Getenv("ANAGRAM_TEST_KILLS")); err == nil {
		return n
	}
	return full(few, many)
}

// However an import or a restore is killed: the target is as it was or complete, the docket
// tells which, and the same command completes it.
func TestImportsAndRestoresAreKilledAtAnyMoment(t *testing.T) {
	t.Parallel()
	for _, engine := range tries(t.Name(), allEngines...) {
		t.Run(engine, func(t *testing.T) {
			t.Parallel()
			r := rand.New(rand.NewPCG(14, uint64(len(engine))))
			p, source, target := pair(t, engine, restoreCatalog, restoreTables(engine)...)
			var items, parts []string
			for i := range 120 {
				items = append(items, fmt.Sprintf("(%d, 'I%03d', 'new %d', 'n', NULL)", i+1, i, i))
				parts = append(parts, fmt.Sprintf("(%d, 1, 'p')", i+1))
			}
			run(t, source, "INSERT INTO items (id, code, name, f2, next) VALUES "+strings.Join(items, ", "), "UPDATE items SET next = id + 1 WHERE id % 2 = 1", "UPDATE items SET next = id - 1 WHERE id % 4 = 2", "INSERT INTO parts (item, n, note) VALUES "+strings.Join(parts, ", "))
			run(t, target, "INSERT INTO items (code, name, f2) VALUES "+strings.ReplaceAll(strings.Join(func() (out []string) {
				for i := 0; i < 120; i += 3 {
					out = append(out, fmt.Sprintf("('I%03d', 'old', 'o')", i))
				}
				return out
			}(), ", "), "\n", ""))
			state := func() string {
				return strings.Join(append(lines(t, target, itemRows), lines(t, target, "SELECT i.code, n, note FROM parts p JOIN items i ON i.id = p.item ORDER BY 1")...), "\n")
			}
			before := state()
			after := ""
			p.must(0, "export", "source", "--name", "p")
			n := kills(1, 12)
			outcomes, takes := map[string]int{}, 300*time.Millisecond
			for done := 0; done < n; {
				p.must(3, "match", "p", "--against", "target")
				number := docketsIn(p)
				p.must(0, "approve", fmt.Sprint(number), "*")
				done += killed(t, p, r, number, before, &after, state, &takes, outcomes)
				p.must(3, "restore", fmt.Sprint(number))
				p.must(0, "approve", fmt.Sprint(docketsIn(p)), "*", "--take", "source")
				done += killed(t, p, r, docketsIn(p), after, &before, state, &takes, outcomes)
			}
			t.Logf("%s: %d kills: %v", engine, n, outcomes)
		})
	}
}

// killed imports a docket and kills the program in the middle, looks at what came of it, and
// completes it.
func killed(t *testing.T, p *place, r *rand.Rand, number int, before string, after *string, state func() string, takes *time.Duration, outcomes map[string]int) int {
	t.Helper()
	cmd := p.command("import", fmt.Sprint(number))
	require.NoError(t, cmd.Start())
	time.Sleep(time.Duration(r.Int64N(int64(*takes) * 11 / 10)))
	_ = cmd.Process.Signal(syscall.SIGKILL)
	_ = cmd.Wait()
	// The server may still be at work on what was sent to it.
	now := ""
	require.Eventually(t, func() bool {
		first := state()
		time.Sleep(30 * time.Millisecond)
		now = state()
		return first == now
	}, 10*time.Second, time.Millisecond)
	whole := now != before
	if whole {
		if *after == "" {
			*after = now
		}
		require.Equal(t, *after, now, "docket %d: nothing is half written", number)
	}
	// The docket tells the truth once the target was read.
	p.run("match", "p", "--against", "target", "--json")
	runs := p.json(0, "history", fmt.Sprint(number))["runs"].([]any)
	outcome := "none"
	if len(runs) > 0 {
		outcome = runs[len(runs)-1].(map[string]any)["outcome"].(string)
	}
	outcomes[fmt.Sprint(outcome, ", target complete: ", whole)]++
	assert.Equal(t, whole, outcome == "imported", "docket %d says %s", number, outcome)
	begun := time.Now()
	result := p.run("import", fmt.Sprint(number))
	if !whole {
		*takes = time.Since(begun)
	}
	require.Equal(t, 0, result.code, result.out+result.err)
	now = state()
	if *after == "" {
		*after = now
	}
	require.Equal(t, *after, now, "docket %d is complete", number)
	return 1
}
