package test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// generatedSide makes records of a side; those of two sides are often the same.
func generatedSide(r *rand.Rand) []string {
	out := []string{"unit:mg", "unit:g"}
	for _, code := range []string{"A", "B", "C", "D", "E", "F"} {
		if r.IntN(4) == 0 {
			continue
		}
		line := fmt.Sprintf("%s name=n%d price=%d.5 status=%s", code, r.IntN(2), r.IntN(3), []string{"A", "A", "A", "R"}[r.IntN(4)])
		if r.IntN(2) == 0 {
			line += " unit=" + []string{"mg", "g"}[r.IntN(2)]
		}
		if r.IntN(3) == 0 {
			line += fmt.Sprintf(" changed=2026-01-0%d_00:00:00", 1+r.IntN(3))
		}
		out = append(out, line)
		for no := range r.IntN(3) {
			out = append(out, fmt.Sprintf("part:%s/%d note=n%d", code, no, r.IntN(2)))
		}
	}
	return out
}

// shuffled gives the records in another order, in which owners still come first.
func shuffled(r *rand.Rand, records []string) []string {
	out := slices.Clone(records)
	r.Shuffle(len(out), func(i, j int) { out[i], out[j] = out[j], out[i] })
	slices.SortStableFunc(out, func(a, b string) int {
		rank := func(line string) int {
			switch {
			case strings.HasPrefix(line, "unit:"):
				return 0
			case strings.HasPrefix(line, "part:"):
				return 2
			}
			return 1
		}
		return rank(a) - rank(b)
	})
	return out
}

func TestPropertiesOfTheWholeJob(t *testing.T) {
	inGate(t, "generated jobs")
	t.Parallel()
	for seed := range uint64(full(2, 8)) {
		t.Run(fmt.Sprint("seed ", seed), func(t *testing.T) {
			t.Parallel()
			r := rand.New(rand.NewPCG(seed, 7))
			c := matchCase{agreed: generatedSide(r), source: generatedSide(r), target: generatedSide(r)}
			p := c.build(t)
			found := p.found("p")
			const all = "SELECT code, name, price, status, (SELECT code FROM units WHERE id = unit_id) FROM items ORDER BY 1"
			before := p.rows("target", all)

			other := c
			other.agreed, other.source, other.target = shuffled(r, c.agreed), shuffled(r, c.source), shuffled(r, c.target)
			assert.Equal(t, found, other.build(t).found("p"), "the order of the input does not matter")

			p.must(0, "decline", "*")
			p.must(0, "import")
			assert.Equal(t, before, p.rows("target", all), "declining everything changes nothing")

			p.must(0, "approve", "*", "--take", "source", "--again")
			p.must(0, "import")
			for _, line := range p.found("p") {
				assert.True(t, strings.HasPrefix(line, "target-"), "after an import of everything nothing is left but what the target alone has or changed: %s", line)
			}
		})
	}
}
