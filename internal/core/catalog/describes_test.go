package catalog

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/record"
)

func TestAFileIsNotBelievedInWhatAFieldIs(t *testing.T) {
	c, err := Parse("catalog.yaml", []byte("types:\n  unit: {key: [code]}\n  item: {key: [code, unit], refers: {unit: unit}, secret: [token], fold_case: [code]}\n"))
	require.NoError(t, err)
	item, _ := c.Type("item")
	code := record.Field{Name: "code", Kind: record.Text, Rule: item.Rules["code"]}
	unit := record.Field{Name: "unit", Kind: record.Reference, Refers: "unit"}
	name := record.Field{Name: "name", Kind: record.Text}
	assert.NoError(t, item.Describes([]record.Field{code, unit}, []record.Field{name}))
	for wrong, c := range map[string][2][]record.Field{
		`the key of item is [code unit], and not ["token" "unit"]`:                   {{{Name: "token", Kind: record.Text}, unit}},
		`the key of item is [code unit], and not ["code"]`:                           {{code}},
		`field "unit" of item is text, and not what the catalog says`:                {{code, {Name: "unit", Kind: record.Text}}},
		`field "unit" of item is a reference to item, and not what the catalog says`: {{code, {Name: "unit", Kind: record.Reference, Refers: "item"}}},
		`field "name" of item is a reference to unit, and not what the catalog says`: {{code, unit}, {{Name: "name", Kind: record.Reference, Refers: "unit"}}},
		`field "name" of item stands twice`:                                          {{code, unit}, {name, name}},
		`key field "code" of item is compared with nfc, and not`:                     {{{Name: "code", Kind: record.Text, Rule: record.Rule{NFC: true}}, unit}},
	} {
		assert.ErrorContains(t, item.Describes(c[0], c[1]), wrong)
	}
}
