package show

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
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

func TestNumbersWithTheirNoun(t *testing.T) {
	for want, got := range map[string]string{
		"0 records": Count(0, "record", ""), "1 record": Count(1, "record", ""), "2 records": Count(2, "record", ""), "1000000 entries": Count(1_000_000, "entry", "entries"),
	} {
		assert.Equal(t, want, got)
	}
}

func TestWovenTextIsShownAsOneText(t *testing.T) {
	c, err := catalog.Parse("c", []byte("types:\n  unit: {key: [code]}\n  a: {key: [code]}\n"))
	require.NoError(t, err)
	mg, _ := record.TextValue("mg")
	before, _ := record.TextValue("in ")
	ref := record.AmongValue("unit", record.NewKey([]record.Value{mg}, nil))
	assert.Equal(t, "in unit/mg", *Show(c, record.Field{Kind: record.Woven}, record.WovenValue([]record.Value{before, ref})))
}
