package show

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
	"anagram/internal/store/parcel"
)

func TestValuesAsPeopleReadThem(t *testing.T) {
	text := func(s string) *string { return &s }
	for want, given := range map[string]*string{
		"null": nil, `""`: text(""), `" a"`: text(" a"), "a b": text("a b"), `a\nb\tc`: text("a\nb\tc"), `\x1b[31m`: text("\x1b[31m"), "שלום 😀": text("שלום 😀"),
	} {
		assert.Equal(t, want, Readable(given))
	}
	c, err := catalog.Parse("c", []byte("types:\n  unit: {key: [code]}\n  a: {key: [code], refers: {u: unit}}\n"))
	require.NoError(t, err)
	mg, _ := record.TextValue("mg/L")
	ref := record.ReferenceValue("unit", record.NewKey([]record.Value{mg}, nil))
	assert.Equal(t, "unit/mg%2FL", *Show(c, record.Field{Kind: record.Reference, Refers: "unit"}, ref))
	assert.Nil(t, Show(c, record.Field{}, record.NullValue()))
	assert.Equal(t, "file sha256:ca978112ca1b…", *Show(c, record.Field{Kind: record.Bytes}, record.BytesValue([]byte("a"))))
}

func TestSelections(t *testing.T) {
	c, err := catalog.Parse("c", []byte("areas: {base: [unit, kind]}\ntypes:\n  a: {key: [code]}\n  unit: {key: [code]}\n  kind: {key: [code]}\n"))
	require.NoError(t, err)
	for _, want := range []struct {
		given parcel.Selection
		types []string
		yes   []string
		no    []string
	}{
		{parcel.Selection{}, []string{"a", "unit", "kind"}, []string{"a/1", "unit/2"}, nil},
		{parcel.Selection{Areas: []string{"base"}}, []string{"unit", "kind"}, []string{"unit/2"}, []string{"a/1"}},
		{parcel.Selection{Types: []string{"a"}, Records: []string{"unit/m*"}}, []string{"a", "unit"}, []string{"a/1", "unit/mg"}, []string{"unit/g", "kind/m"}},
		{parcel.Selection{Records: []string{"kind/*"}}, []string{"kind"}, []string{"kind/1"}, []string{"unit/1"}},
		{parcel.Selection{Records: []string{"*/x"}}, []string{"a", "unit", "kind"}, []string{"a/x", "kind/x"}, []string{"a/y"}},
	} {
		s, err := selectTypes(c, want.given)
		require.NoError(t, err)
		assert.Equal(t, want.types, s.types, "%v", want.given)
		covers := func(address string) bool {
			p, _ := record.ParsePattern(address)
			return s.whole[p.Type()] || s.matches(address) >= 0
		}
		for _, address := range want.yes {
			assert.True(t, covers(address), "%v covers %s", want.given, address)
		}
		for _, address := range want.no {
			assert.False(t, covers(address), "%v does not cover %s", want.given, address)
		}
	}
}
