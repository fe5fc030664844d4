package choose

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
	"anagram/internal/store/parcel"
)

func TestSelections(t *testing.T) {
	c, err := catalog.Parse("c",
		[]byte("areas: {base: [unit, kind]}\ntypes:\n  a: {key: [code]}\n  unit: {key: [code]}\n  kind: {key: [code]}\n"))
	require.NoError(t, err)
	for _, want := range []struct {
		given parcel.Selection
		types []string
		yes   []string
		no    []string
	}{
		{parcel.Selection{}, []string{"a", "unit", "kind"}, []string{"a/1", "unit/2"}, nil},
		{parcel.Selection{Areas: []string{"base"}}, []string{"unit", "kind"}, []string{"unit/2"}, []string{"a/1"}},
		{parcel.Selection{Types: []string{"a"}, Records: []string{"unit/m*"}}, []string{"a", "unit"}, []string{"a/1",
			"unit/mg"}, []string{"unit/g", "kind/m"}},
		{parcel.Selection{Records: []string{"kind/*"}}, []string{"kind"}, []string{"kind/1"}, []string{"unit/1"}},
		{parcel.Selection{Records: []string{"*/x"}}, []string{"a", "unit", "kind"}, []string{"a/x", "kind/x"}, []string{"a/y"}},
	} {
		s, err := SelectTypes(c, want.given)
		require.NoError(t, err)
		assert.Equal(t, want.types, s.Types, "%v", want.given)
		covers := func(address string) bool {
			p, _ := record.ParsePattern(address)
			return s.Whole[p.Type()] || s.Matches(address) >= 0
		}
		for _, address := range want.yes {
			assert.True(t, covers(address), "%v covers %s", want.given, address)
		}
		for _, address := range want.no {
			assert.False(t, covers(address), "%v does not cover %s", want.given, address)
		}
	}
}
