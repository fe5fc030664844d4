package yamldoc

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What unfolds, is nested without end or is huge is refused at once, with its line.
func TestBombsAreRefused(t *testing.T) {
	deep := ""
	for i := range 40 {
		deep += strings.Repeat(" ", i) + "a:\n"
	}
	for wrong, sources := range map[string][]string{
		"nested deeper than 32 levels":  {strings.Repeat("[", 500), "a: " + strings.Repeat("{a: ", 500), deep, strings.Repeat("- ", 500) + "a", strings.Repeat("? ", 500) + "a", "# '\n" + strings.Repeat("[", 500), "b: |\n  it's ' \"\na: " + strings.Repeat("[", 500)},
		"anchors and aliases":           {"a: &x [1]\nb: *x", "a: &a [lol]\nb: &b [*a,*a,*a,*a,*a,*a,*a,*a,*a]", "a: {<<: {b: 1}}"},
		"tags (!)":                      {"a: !!binary aGk=", "a: !x y"},
		"bytes, and at most":            {"a: " + strings.Repeat("x", 1<<20)},
		"signs of structure":            {strings.Repeat("[", 1<<20), strings.Repeat("a: b\n", 150_000), strings.Repeat("|\n", 1<<19)},
		"characters, and at most 10000": {"a: " + strings.Repeat("x", 10_001)},
		"characters, and at most 100 ":  {strings.Repeat("x", 101) + ": a"},
		"not UTF-8":                     {"a: \xff"},
		"several documents":             {"a: b\n---\nc: d\n"},
	} {
		for _, source := range sources {
			start := time.Now()
			_, err := Parse("x.yaml", []byte(source))
			require.Error(t, err, "%.60q", source)
			assert.ErrorContains(t, err, strings.TrimSpace(wrong), "%.60q", source)
			assert.Less(t, time.Since(start), 5*time.Second, "%.60q", source)
		}
	}
	for _, good := range []string{"a: '& b'\nc: \"*d\"\n", strings.Repeat("[", 30) + strings.Repeat("]", 30), "a:\n- - - b\n", "# & * !\na: b # & [[[[\n", "a: |\n  & * [ {\n"} {
		_, err := Parse("x.yaml", []byte(good))
		assert.NoError(t, err, good)
	}
	assert.Empty(t, Nearest(strings.Repeat("x", 200), []string{"x"}))
	many := make([]string, 3000)
	for i := range many {
		many[i] = fmt.Sprint("name", i)
	}
	assert.Empty(t, Nearest("name", many))
}
