package check

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"anagram/internal/core/catalog"
)

func TestWhatAKeyThatOccursTwiceSays(t *testing.T) {
	one, two := []string{"A"}, []string{"A", "a"}
	for want, c := range map[string]Check{
		"a/A occurs more than once in s (as A, a). Correct the key or remove all but one of them in s, then export and match again.":                                                                                         Ambiguity("a/A", "s", "t", two, nil, false),
		"a/A occurs more than once in t (internal ids A, a). Correct the key or remove all but one of them in t, then match again.":                                                                                          Ambiguity("a/A", "s", "t", one, two, false),
		"a/A occurs more than once in s (as A, a) and in t (internal ids A, a). Correct the key or remove all but one of them in s and in t, then export and match again.":                                                   Ambiguity("a/A", "s", "t", two, two, false),
		"a/A has a record in its key whose own key occurs more than once. Make the key of that record unique, then match again.":                                                                                             Ambiguity("a/A", "s", "t", two, two, true),
		"a/A is only in s and looks like a/B, which is only in t: 3 of their 4 other fields agree. If they are one record, say so with anagram pair a/B a/A and match again; importing it as it is would make a second one.": Renamed("a/A", "a/B", "s", "t", 3, 4, true),
		"a/B is only in t and looks like a/A, which is only in s: their other field agrees. If they are one record, say so with anagram pair a/B a/A and match again.":                                                       Renamed("a/B", "a/A", "s", "t", 1, 1, false),
	} {
		assert.Equal(t, want, c.Message+" "+c.Mend)
	}
}

func TestWhatARuleThatRefusesSays(t *testing.T) {
	one := catalog.Rule{Name: "low_ok", Columns: []string{"low"}, Text: "low\n  >= 0"}
	c := Breaks("a/A", one, nil, "target")
	assert.Equal(t, Check{ValueDoesNotFit, Blocker, "a/A: field low has a value that a rule of target refuses: low >= 0 (low_ok).",
		"Correct the value in the source, then export and match again; or decline the record.", nil}, worded(c))
	both := Breaks("a/A", catalog.Rule{Columns: []string{"low", "high"}, Text: "low < high"}, []string{"low", "high"}, "target")
	assert.Equal(t, "a/A: fields low, high have values that a rule of target refuses: low < high.", both.Message)
	assert.Equal(t, "Correct the values in the source, then export and match again; or decline field low or high, or the record.", both.Mend)
}

func TestWhatAValueOfTheTargetAloneSays(t *testing.T) {
	for _, c := range []struct {
		local, required bool
		level           Level
		message, mend   string
	}{
		{false, false, Caution, "will have no value in field f", "Set it in t after the import."},
		{true, false, Caution, "will have no value in field f", "Give a value with local: {f: {t: …}} in the catalog and match again, or set it in t after the import."},
		{false, true, Blocker, "needs a value in field f", "Create the record in t with its secret value and match again."},
		{true, true, Blocker, "needs a value in field f", "Give a value with local: {f: {t: …}} in the catalog and match again."},
	} {
		got := LocalValue("a/A", "f", "t", c.local, c.required)
		assert.Equal(t, []any{c.level, c.mend}, []any{got.Level, got.Mend})
		assert.Contains(t, got.Message, c.message)
	}
}

// worded is a check as it reads, without its ways as values.
func worded(c Check) Check {
	c.ways = nil
	return c
}
