package match

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"sort"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/record"
	"anagram/internal/tests"
)

// world is one side as a plain map: key to name and price; what a side has twice is in it
// twice.
type world map[string][][2]string

func (w world) records() []record.Record {
	out := []record.Record{}
	for _, key := range sortedKeys(w) {
		for _, v := range w[key] {
			out = append(out, rec(key, v[0], v[1]))
		}
	}
	return out
}

func sortedKeys(w world) []string {
	var out []string
	for key := range w {
		out = append(out, key)
	}
	sort.Strings(out)
	return out
}

// simple is the matcher that the rules describe, as simple as it can be written. It knows
// no streams and holds everything.
func simple(source, target, agreed world) map[string]string {
	out := map[string]string{}
	keys := append(sortedKeys(source), sortedKeys(target)...)
	for _, key := range keys {
		s, t := source[key], target[key]
		var a *[2]string
		if v := agreed[key]; agreed != nil && len(v) > 0 {
			a = &v[0]
		}
		switch {
		case len(s) > 1 || len(t) > 1:
			out[key] = "conflict [ambiguous]"
		case len(t) == 0 && a != nil:
			out[key] = "conflict [removed-in-target]"
		case len(t) == 0:
			out[key] = "new"
		case len(s) == 0 && a != nil && *a != t[0]:
			out[key] = "target-only [removed-in-source edited-since]"
		case len(s) == 0 && a != nil:
			out[key] = "target-only [removed-in-source]"
		case len(s) == 0:
			out[key] = "target-only"
		default:
			out[key] = judged(s[0], t[0], a)
		}
		if out[key] == "same" {
			delete(out, key)
		}
	}
	return out
}

func judged(s, t [2]string, a *[2]string) string {
	var moved []string
	for i := range s {
		switch {
		case s[i] == t[i]:
		case a == nil:
			moved = append(moved, "")
		case a[i] == t[i]:
			moved = append(moved, "source")
		case a[i] == s[i]:
			moved = append(moved, "target")
		default:
			moved = append(moved, "both")
		}
	}
	switch {
	case len(moved) == 0:
		return "same"
	case slices.Contains(moved, "both"):
		return fmt.Sprintf("conflict [both-moved] %q", moved)
	case slices.Contains(moved, "") || slices.Contains(moved, "source"):
		return fmt.Sprintf("changed %q", moved)
	default:
		return fmt.Sprintf("target-edit %q", moved)
	}
}

// real gives what Join finds in the same words.
func real(t *testing.T, source, target, agreed world) map[string]string {
	var known []record.Record
	if agreed != nil {
		known = agreed.records()
	}
	found, _ := join(t, source.records(), target.records(), known)
	out := map[string]string{}
	for _, f := range found {
		text := string(f.Status)
		if len(f.Reasons) > 0 {
			text += fmt.Sprintf(" %v", f.Reasons)
		}
		if len(f.Differences) > 0 {
			var moved []string
			for _, d := range f.Differences {
				moved = append(moved, string(d.Moved))
			}
			text += fmt.Sprintf(" %q", moved)
		}
		out[f.Key.Parts()[0].Text()] = text
	}
	return out
}

func generated(r *rand.Rand, twice bool) world {
	w := world{}
	for _, key := range []string{"A", "B", "C", "D", "E"} {
		n := r.IntN(5) // mostly one
		if n > 1 {
			n = 1
		}
		if twice && r.IntN(20) == 0 {
			n = 2
		}
		for range n {
			w[key] = append(w[key], [2]string{string(rune('a' + r.IntN(3))), fmt.Sprint(r.IntN(3))})
		}
	}
	return w
}

func TestJoinFindsWhatTheRulesSayOnGeneratedRecords(t *testing.T) {
	r := rand.New(rand.NewPCG(2026, 11))
	seen := map[string]int{}
	for i := range tests.Times(2_000, 12_000) {
		source, target := generated(r, true), generated(r, true)
		var agreed world
		if i%3 > 0 {
			agreed = generated(r, false)
		}
		want := simple(source, target, agreed)
		require.Equal(t, want, real(t, source, target, agreed), "source %v, target %v, agreed %v", source, target, agreed)
		for _, what := range want {
			seen[what[:min(len(what), 14)]]++
		}
	}
	assert.Greater(t, len(seen), 6, "every kind of finding occurred: %v", seen)
}

func TestPropertiesOfMatching(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	mirrored := map[string]string{"new": "target-only", "target-only": "new", "changed [\"\"]": "changed [\"\"]", "changed [\"\" \"\"]": "changed [\"\" \"\"]", "conflict [ambiguous]": "conflict [ambiguous]"}
	for range tests.Times(500, 3_000) {
		source, target, agreed := generated(r, false), generated(r, false), generated(r, false)
		assert.Empty(t, real(t, source, source, agreed), "a thing matched with itself is all same")

		there, back := real(t, source, target, nil), real(t, target, source, nil)
		for key, what := range there {
			assert.Equal(t, mirrored[what], back[key], "swapping the sides mirrors the result")
		}

		// Importing all that is proposed leaves nothing of it: what both agree on is what
		// the target then has.
		after := world{}
		for key, v := range target {
			after[key] = slices.Clone(v)
		}
		for key, what := range there {
			if what == "new" || what[:min(7, len(what))] == "changed" {
				after[key] = source[key]
			}
		}
		for key, what := range real(t, source, after, after) {
			assert.Equal(t, "target-only [removed-in-source]", what, "%s after an import of everything", key)
		}
	}
}
