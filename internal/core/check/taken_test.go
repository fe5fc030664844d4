package check

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestCombinations(t *testing.T) {
	assert.Empty(t, Combinations(nil))
	assert.Equal(t, [][]string{{"a"}}, Combinations([]string{"a"}))
	assert.Equal(t, [][]string{{"a", "b"}, {"b"}, {"a"}}, Combinations([]string{"a", "b"}))
	assert.Len(t, Combinations([]string{"a", "b", "c", "d"}), 15)
	many := Combinations([]string{"a", "b", "c", "d", "e"})
	assert.Equal(t, [][]string{{"a", "b", "c", "d", "e"}, {"a"}, {"b"}, {"c"}, {"d"}, {"e"}}, many)
}

func TestClashes(t *testing.T) {
	name := func(id int64) string { return string(rune('A' + id - 1)) }
	// wants is a finding that gets a value which another one, or a record without one, holds.
	wants := func(id int64, value string, holder int64, held string) Claim {
		return Claim{Finding: id, Address: name(id), Set: "s", Fields: []string{"f"}, Values: value, Holder: holder, HeldBy: held}
	}
	for _, c := range []struct {
		name    string
		written []Claim
		offered []int64
		want    []string // who clashes with whom, and how
	}{
		{"nobody holds it", []Claim{wants(1, "x", 0, "")}, nil, nil},
		{"somebody holds it", []Claim{wants(1, "x", 0, "Z")}, nil, []string{"A Z"}},
		{"held by a finding that keeps it", []Claim{wants(1, "x", 2, "B")}, nil, []string{"A B"}},
		{"held by a finding that would give it up", []Claim{wants(1, "x", 2, "B")}, []int64{2}, []string{"A B waits"}},
		{"given up", []Claim{wants(1, "x", 2, "B"), wants(2, "y", 0, "")}, []int64{2}, nil},
		{"given up for null", []Claim{wants(1, "x", 2, "B"), wants(2, "", 0, "")}, []int64{2}, nil},
		{"given up in a chain", []Claim{wants(1, "x", 2, "B"), wants(2, "y", 3, "C"), wants(3, "z", 0, "")}, nil, nil},
		{"a chain that ends at a record that stays", []Claim{wants(1, "x", 2, "B"), wants(2, "y", 0, "Z")}, nil, []string{"B Z"}},
		{"a trade", []Claim{wants(1, "x", 2, "B"), wants(2, "y", 1, "A")}, nil, []string{"A B trade", "B A trade"}},
		{"a trade of three", []Claim{wants(1, "x", 2, "B"), wants(2, "y", 3, "C"), wants(3, "z", 1, "A")}, nil, []string{"A B trade", "B C trade", "C A trade"}},
		{"a trade that another waits for", []Claim{wants(1, "x", 2, "B"), wants(2, "y", 1, "A"), wants(3, "w", 1, "A")}, nil, []string{"A B trade", "B A trade"}},
		{"two get the same", []Claim{wants(1, "x", 0, ""), wants(2, "x", 0, "")}, nil, []string{"A B both", "B A both"}},
	} {
		var got []string
		for _, clash := range Clashes(c.written, func(id int64, _ string) bool {
			for _, o := range c.offered {
				if o == id {
					return true
				}
			}
			return false
		}) {
			text := clash.Address + " " + clash.Other
			for word, is := range map[string]bool{"both": clash.Both, "trade": clash.Trade, "waits": clash.Waits} {
				if is {
					text += " " + word
				}
			}
			got = append(got, text)
			made := Taken(clash, "production", 7)
			assert.Equal(t, ValueTaken, made.Code)
			assert.Contains(t, made.Message, "field f")
			assert.NotEmpty(t, made.Mend)
		}
		assert.Equal(t, c.want, got, c.name)
	}
	two := Clash{Claim: Claim{Address: "a/1", Fields: []string{"x", "y"}}, Other: "a/2"}
	assert.Equal(t, "a/1: the values of fields x, y together are held by a/2 in production, and no two records may have the same.", Taken(two, "production", 7).Message)
}

func TestWhatARecordLacksOrBreaks(t *testing.T) {
	assert.Equal(t, Blocker, Lacks("r/1", "f", "production", false, false).Level)
	assert.Equal(t, Caution, Lacks("r/1", "f", "production", true, false).Level)
	assert.Contains(t, Lacks("r/1", "f", "production", false, true).Mend, "ignore:")
}
