package catalog

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/record"
)

func TestFormsOfIDsReferencesAndKinds(t *testing.T) {
	c := parse(t, `
types:
  unit: {at: units, key: [code], id: {field: unit_id, made_by: largest}}
  assay:
    at: {sandbox: assays, production: lab_assays}
    key: [code]
    id: {field: id, made_by: counter, counter: {at: ids, last: n, where: {table_name: assays}}}
    refers: {unit_code: {to: unit, by: key}, unit_id: {to: unit, by: id}, other_id: unit}
    as: {active: boolean Y/N, price: decimal, at: local timestamp}
  made: {key: [code], id: {field: id, made_by: uuid}}
  plain: {key: [code], id: {field: id, made_by: database}}
`)
	unit, _ := c.Type("unit")
	assert.Equal(t, "unit_id", unit.ID)
	assert.Equal(t, "largest", unit.IDFrom.MadeBy)
	assay, _ := c.Type("assay")
	assert.Equal(t, Counter{At: "ids", Last: "n", Where: map[string]string{"table_name": "assays"}}, assay.IDFrom.Counter)
	assert.Equal(t, map[string]string{"unit_code": "unit", "unit_id": "unit", "other_id": "unit"}, assay.Refers)
	assert.Equal(t, map[string]bool{"unit_code": true, "unit_id": false, "other_id": false}, assay.ByKey)
	assert.Equal(t, Words{True: "Y", False: "N"}, assay.Words["active"])
	assert.Equal(t, map[string]record.Kind{"active": record.Boolean, "price": record.Decimal, "at": record.LocalTimestamp}, assay.As)
	assert.Equal(t, []string{"lab_assays", "assays", "assay"}, []string{assay.Place("production"), assay.Place("sandbox"), assay.Place("archive")})
	plain, _ := c.Type("plain")
	assert.Equal(t, IDSource{Counter: Counter{}}, plain.IDFrom)
	assert.Equal(t, []string{"other_id", "unit_code", "unit_id"}, assay.ReferenceFields())

	for source, want := range map[string]string{
		"types:\n  a: {key: [c], id: {made_by: uuid}}\n":                                      "id: has no field:",
		"types:\n  a: {key: [c], id: {field: i, made_by: larges}}\n":                          `the way to make ids "larges" is not known; did you mean "largest"?`,
		"types:\n  a: {key: [c], id: {field: i, made_by: counter}}\n":                         "counter: needs at:",
		"types:\n  a: {key: [c], refers: {x: {to: a, by: kay}}}\n":                            `the way to refer "kay" is not known; did you mean "key"?`,
		"types:\n  a: {key: [c, d], id: i}\n  b: {key: [c], refers: {x: {to: a, by: key}}}\n": "by its key, which is more than one plain field",
		"types:\n  a: {key: [c], as: {f: boolean Y}}\n":                                       "boolean Y/N",
		"types:\n  a: {key: [c], id: {feld: i}}\n":                                            `the key "feld" is not known here; did you mean "field"?`,
		"types:\n  a: {key: [c], refers: {x: {type: a}}}\n":                                   `the key "type" is not known here`,
	} {
		_, err := Parse("catalog.yaml", []byte(source))
		require.Error(t, err, source)
		assert.Contains(t, err.Error(), want)
		assert.Regexp(t, `^catalog.yaml line [23]: `, err.Error(), source)
	}
}
