//go:build unix

package test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/demo/service"
)

// However an import into a service is killed: it is resumed to its end, and every record is
// there once.
func TestImportsIntoAServiceAreKilledAtAnyMoment(t *testing.T) {
	inGate(t, "kills")
	t.Parallel()
	for _, batch := range tries(t.Name(), true, false) {
		t.Run(fmt.Sprintf("batch %t", batch), func(t *testing.T) {
			t.Parallel()
			r := rand.New(rand.NewPCG(16, 1))
			tables := strings.NewReplacer(", UNIQUE (item, n)", "", " UNIQUE", "").Replace(manyTables)
			interrupted := 0
			for done := 0; done < kills(1, 5); {
				p := newPlace(t, manyCatalog, tables+manyItems(1, 80, 0, "new")+"UPDATE items SET next = id + 1 WHERE id % 3 = 1 AND id < 80; INSERT INTO parts SELECT id, id, 1, 'p' FROM items WHERE id % 2 = 0;",
					tables+manyItems(40, 80, 1000, "old"))
				s := toService(p, service.Options{NoBatch: !batch})
				p.must(3, "match", "source", "--against", "target")
				p.must(0, "approve", "*")
				s.SetFail(service.Fail{Slow: 0.2, Seed: uint64(done)})
				args := []string{"import", "1"}
				for range full(2, 4) {
					cmd := p.command(args...)
					require.NoError(t, cmd.Start())
					time.Sleep(time.Duration(150+r.IntN(700)) * time.Millisecond)
					_ = cmd.Process.Signal(syscall.SIGKILL)
					_ = cmd.Wait()
					done++
					if strings.Contains(p.run("status").out, "--resume") {
						interrupted++
						args = []string{"import", "1", "--resume"}
					}
				}
				importUnder(p, "1")
				assert.Equal(t, p.rows("source", manyRows), p.rows("target", manyRows))
				p.must(0, "match", "source", "--against", "target")
			}
			t.Logf("%d were interrupted within", interrupted)
			if longRun { // of few moments each may be before or after the writing
				assert.Positive(t, interrupted)
			}
		})
	}
}

// The pages of a service are read in constant memory.
func TestAServiceIsReadInConstantMemory(t *testing.T) {
	inLongRun(t, "volume and memory")
	t.Parallel()
	n := full(20_000, 100_000)
	p := newPlace(t, manyCatalog, manyTables+manyItems(1, n, 0, "new"), manyTables)
	s, address := standIn(p, "source", service.Options{Page: 1000})
	p.write("anagram.yaml", fmt.Sprintf("environments:\n  source: {connect: \"%s\"}\n  target: {connect: \"sqlite:target.db\"}\n", address))
	r := p.must(0, "export", "source", "--name", "p")
	assert.Contains(t, r.out, fmt.Sprintf("Exported %d records", n))
	assert.Less(t, r.peak, int64(220<<20))
	t.Logf("%d records, %d requests, %d MiB, %.1f s of processor time", n, len(s.Log()), r.peak>>20, r.seconds)
}
