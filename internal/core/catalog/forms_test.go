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
	unitRef := Reference{To: []string{"unit"}}
	assert.Equal(t, map[string]Reference{"unit_code": {To: []string{"unit"}, ByKey: true}, "unit_id": unitRef, "other_id": unitRef}, assay.Refers)
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
		"types:\n  a: {key: [c], field: x}\n":                                                 `the key "field" is not known here; known: `,
		"types:\n  a: {key: [c], refers: {x: {type: a}}}\n":                                   `the key "type" is not known here`,
	} {
		_, err := Parse("catalog.yaml", []byte(source))
		require.Error(t, err, source)
		assert.Contains(t, err.Error(), want)
		assert.Regexp(t, `^catalog.yaml line [23]: `, err.Error(), source)
	}
}

func TestFormsOfReferences(t *testing.T) {
	c := parse(t, `
types:
  ward: {key: [site, no]}
  assay: {key: [code], id: id, only: "kind == 'A'"}
  panel: {key: [code], id: id}
  bed: {key: [ward, no], refers: {ward: {to: ward, columns: {site: site, ward_no: no}}}}
  note: {key: [object_type, object_id], refers: {object_id: {by: object_type, to: {A: assay, P: panel, Q: panel}}}}
  sample: {key: [no], refers: {item_id: [assay, panel], members: {to: assay, list: ","}}}
`)
	bed, _ := c.Type("bed")
	assert.Equal(t, []string{"site", "ward_no"}, bed.Stored("ward"))
	assert.Equal(t, []string{"no"}, bed.Stored("no"))
	assert.False(t, bed.Link())
	note, _ := c.Type("note")
	assert.Equal(t, []string{"assay", "panel"}, note.Refers["object_id"].To)
	assert.Equal(t, "object_type", note.Refers["object_id"].Chooser)
	sample, _ := c.Type("sample")
	assert.Equal(t, []string{"assay", "panel"}, sample.Targets())
	assert.Equal(t, "list ,", sample.Refers["members"].Inside[0].Text())

	fit := c.Fits("here", map[string]Place{
		"bed":   {Name: "bed", Columns: []Column{{Name: "site", Kind: record.Text, Required: true}, {Name: "ward_no", Kind: record.Integer, Required: true}, {Name: "no", Kind: record.Integer}, {Name: "name", Kind: record.Text}}},
		"assay": {Name: "assay", Columns: []Column{{Name: "id", Kind: record.Integer}, {Name: "code", Kind: record.Text}, {Name: "kin", Kind: record.Text}}},
	}, nil)
	assert.Equal(t, []record.Field{{Name: "ward", Kind: record.Reference, Refers: "ward", Required: true}, {Name: "no", Kind: record.Integer}}, fit.Shapes["bed"])
	assert.Equal(t, []record.Field{{Name: "name", Kind: record.Text}}, fit.Fields["bed"], "columns that a reference takes up are not fields of their own")
	var said []string
	for _, p := range fit.Problems {
		said = append(said, p.Message)
	}
	assert.Contains(t, said, `in here: condition "kind == 'A'", column 1: assay has no field "kind"; did you mean "kin"?`)

	for source, want := range map[string]string{
		"b: {key: [c], refers: {x: {to: {A: b}}}}":                                   "name that field with by:",
		"b: {key: [c], refers: {x: {by: kind}}}":                                     `the way to refer "kind" is not known`,
		"b: {key: [c], refers: {x: {list: \",\"}}}":                                  "does not say which record type the ids inside it belong to",
		"b: {key: [c], refers: {x: {}}}":                                             "does not say which record type it refers to",
		"b: {key: [c], id: i, refers: {x: {to: b, list: \",\", pattern: \"{ID}\"}}}": "by one of list:, pattern: and path:",
		"b: {key: [c], id: i, refers: {x: {to: b, pattern: \"4711\"}}}":              "has to hold ID once",
		"b: {key: [c], refers: {x: {to: b, list: \",\"}}}":                           "holds internal ids of b, which has none",
		"b: {key: [x], id: i, refers: {x: {to: b, list: \",\"}}}":                    "cannot be part of the key",
		"b: {key: [x], id: i, refers: {x: {by: k, to: {A: b}}}}":                     "the field that chooses its type, k, must be as well",
		"b: {key: [c], refers: {x: {to: [a, b]}}}":                                   `the record type "a" is not known`,
		"b: {key: [c], refers: {x: {to: b, by: key, columns: {y: c}}}}":              "leave by: out",
		"b: {key: [c], only: \"kind ==\"}":                                           "it cannot be read",
		"b: {key: [c], only: \"d == 'A'\", id: i, refers: {d: b}}":                   "in a circle",
	} {
		_, err := Parse("catalog.yaml", []byte("types:\n  "+source+"\n"))
		require.Error(t, err, source)
		assert.Contains(t, err.Error(), want, source)
	}
}
