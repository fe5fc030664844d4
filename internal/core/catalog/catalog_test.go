package catalog

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/record"
)

func parse(t *testing.T, source string) *Catalog {
	t.Helper()
	c, err := Parse("catalog.yaml", []byte(source))
	require.NoError(t, err)
	return c
}

func TestDependencyOrder(t *testing.T) {
	for _, c := range []struct {
		name, source string
		want         []string
	}{
		{"referenced first, links last, else as in the file", `
types:
  link: {key: [a_id, b_id], refers: {a_id: a, b_id: b}}
  line: {key: [a_id, no], refers: {a_id: a}, part_of: a}
  a: {key: [code], refers: {unit: u}}
  b: {key: [code]}
  z: {key: [code]}
  u: {key: [code]}
`, []string{"b", "z", "u", "a", "line", "link"}},
		{"a type that refers to itself", `
types:
  leaf: {key: [code], refers: {node: tree}}
  tree: {key: [parent, code], id: id, refers: {parent: tree}}
`, []string{"tree", "leaf"}},
		{"a circle stands together, before what refers into it", `
types:
  after: {key: [code], refers: {x: one}}
  one: {key: [code], refers: {x: two}}
  two: {key: [code], refers: {x: three, y: before}}
  three: {key: [code], refers: {x: one}}
  before: {key: [code]}
`, []string{"before", "one", "two", "three", "after"}},
	} {
		assert.Equal(t, c.want, parse(t, c.source).Names(), c.name)
	}
}

func TestAddresses(t *testing.T) {
	c := parse(t, `
types:
  unit: {key: [code]}
  assay: {key: [code], refers: {unit: unit}}
  range: {key: [assay_id, sex, age], refers: {assay_id: assay}}
  dep: {key: [parent, code], id: id, refers: {parent: dep}}
  desk: {key: [dep_id, no], id: id, refers: {dep_id: dep}}
  pair: {key: [from_id, to_id], refers: {from_id: dep, to_id: desk}}
  note: {key: [about, lang], refers: {about: [assay, unit, dep]}}
`)
	shapes := record.Shapes{}
	text := func(s string) record.Value { v, _ := record.TextValue(s); return v }
	ref := func(typ string, parts ...record.Value) record.Value {
		return record.ReferenceValue(typ, shapes.Key("", parts))
	}
	core := ref("dep", record.NullValue(), text("CORE"))
	chem := ref("dep", core, text("CHEM"))
	any := func(typ string, parts ...record.Value) record.Value {
		return record.AmongValue(typ, shapes.Key("", parts))
	}
	described := record.Shapes{}
	for _, typ := range c.Types {
		for _, name := range typ.Key {
			field := record.Field{Name: name, Kind: record.Text}
			if ref, ok := typ.Refers[name]; ok {
				ref.field(&field)
			} else if name == "age" || name == "no" {
				field.Kind = record.Integer
			}
			described[typ.Name] = append(described[typ.Name], field)
		}
	}
	for want, key := range map[string]struct {
		typ   string
		parts []record.Value
	}{
		"assay/GLU":                 {"assay", []record.Value{text("GLU")}},
		"assay/~":                   {"assay", []record.Value{record.NullValue()}},
		"assay/%7E":                 {"assay", []record.Value{text("~")}},
		"range/GLU/~/18":            {"range", []record.Value{ref("assay", text("GLU")), record.NullValue(), record.IntegerValue(18)}},
		"range/~/F/18":              {"range", []record.Value{record.NullValue(), text("F"), record.IntegerValue(18)}},
		"dep/CORE":                  {"dep", core.Parts()},
		"dep/CORE/CHEM":             {"dep", chem.Parts()},
		"desk/CORE/CHEM/1":          {"desk", []record.Value{chem, record.IntegerValue(1)}},
		"pair/CORE/CORE%2FCHEM%2F1": {"pair", []record.Value{core, ref("desk", chem, record.IntegerValue(1))}},
		"pair/CORE%2FCHEM/CORE%2F1": {"pair", []record.Value{chem, ref("desk", core, record.IntegerValue(1))}},
		"note/assay/GLU/en":         {"note", []record.Value{any("assay", text("GLU")), text("en")}},
		"note/unit/GLU/en":          {"note", []record.Value{any("unit", text("GLU")), text("en")}},
		"note/~/en":                 {"note", []record.Value{record.NullValue(), text("en")}},
	} {
		assert.Equal(t, want, c.Address(key.typ, shapes.Key("", key.parts)))
		typ, back, err := c.ParseAddress(described, want)
		require.NoError(t, err, want)
		assert.Equal(t, key.typ, typ)
		assert.Equal(t, shapes.Key("", key.parts).Order(), back.Order(), "%s read back", want)
	}
	for address, want := range map[string]string{
		"assays/GLU": `no record type "assays"`, "assay": "the key is missing", "assay/a/b": "2 parts are too many", "range/GLU/F": "a part for age is missing",
		"range/GLU/F/old": `age: "old" is not an integer`, "note/desk/1/en": `"desk" is none of the record types assay, unit, dep`, "pair/CORE": "a part for to_id is missing", "assay/%zz": "is no percent code",
	} {
		_, _, err := c.ParseAddress(described, address)
		require.Error(t, err, address)
		assert.Contains(t, err.Error(), want)
	}
}

func TestMistakesInACatalogAreNamedWithLineAndNearestWord(t *testing.T) {
	for _, c := range []struct{ name, source, want string }{
		{"unknown key", "types:\n  assay:\n    key: [code]\n    refer: {unit_id: unit}\n", `line 4: the key "refer" is not known here; did you mean "refers"?`},
		{"unknown type in refers", "types:\n  assay:\n    key: [code]\n    refers:\n      unit_id: units\n  unit: {key: [code]}\n", `line 5: the record type "units" is not known; did you mean "unit"?`},
		{"unknown type in an area", "areas:\n  tests:\n    - assay\n    - pannel\ntypes:\n  assay: {key: [code]}\n  panel: {key: [code]}\n", `line 4: the record type "pannel" is not known; did you mean "panel"?`},
		{"no key", "types:\n  assay: {id: assay_id}\n", "line 2: record type assay has no key"},
		{"key twice", "types:\n  assay:\n    key: [code, code]\n", "line 3: record type assay: the key names code twice"},
		{"id in key", "types:\n  assay: {key: [assay_id], id: assay_id}\n", "internal id, which differs in every environment"},
		{"local key", "types:\n  assay: {key: [code], local: {code: {}}}\n", "cannot be ignored, local, secret or a stamp"},
		{"unknown kind", "types:\n  assay: {key: [code], as: {price: decimals}}\n", `the kind of value "decimals" is not known; did you mean "decimal"?`},
		{"part of nothing", "types:\n  a: {key: [code]}\n  b: {key: [code], part_of: a}\n", "none of its fields refers to a"},
		{"a key of itself alone", "types:\n  a: {key: [up], id: i, refers: {up: a}}\n", "line 2: the key of a refers to a alone, which tells no two records apart; add a field of its own"},
		{"keys in a circle", "types:\n  a: {key: [b_id], id: i, refers: {b_id: b}}\n  b: {key: [a_id], id: i, refers: {a_id: a}}\n", "in a circle"},
		{"type name", "types:\n  7a: {key: [code]}\n", "letters, digits, _ and -"},
		{"no types", "areas: {}\n", "no record types"},
		{"empty", "", "no record types"},
		{"not YAML", "types: [\n", "line "},
		{"a type twice", "types:\n  a: {key: [c]}\n  a: {key: [c]}\n", "line 3"},
		{"list for map", "types: [a]\n", "line 1"},
		{"link to composite key without id", "types:\n  a: {key: [x, y]}\n  b: {key: [c], refers: {a_id: a}}\n", "has no internal id and a key of 2 fields"},
	} {
		_, err := Parse("catalog.yaml", []byte(c.source))
		if assert.Error(t, err, c.name) {
			assert.Contains(t, err.Error(), "catalog.yaml", c.name)
			assert.Contains(t, err.Error(), c.want, c.name)
		}
	}
}

func TestFitsNamesWhatDoesNotHold(t *testing.T) {
	places := map[string]Place{
		"assays": {Name: "assays", Columns: []Column{{Name: "assay_id", Kind: record.Integer, InnerID: true}, {Name: "code", Kind: record.Text, Required: true}, {Name: "unit_id", Kind: record.Integer, RefersTo: "units"}, {Name: "both", Derived: true}}},
		"units":  {Name: "units", Columns: []Column{{Name: "unit_id", Kind: record.Integer, InnerID: true}, {Name: "code", Kind: record.Text}}},
	}
	good := "types:\n  assay: {at: assays, key: [code], id: assay_id, refers: {unit_id: unit}}\n  unit: {at: units, key: [code], id: unit_id}\n"
	fit := parse(t, good).Fits("sandbox", places, nil)
	assert.Empty(t, fit.Problems)
	assert.Equal(t, []record.Field{{Name: "unit_id", Kind: record.Reference, Refers: "unit"}}, fit.Fields["assay"])
	assert.Equal(t, []record.Field{{Name: "code", Kind: record.Text, Required: true}}, fit.Shapes["assay"])
	for _, c := range []struct{ source, want string }{
		{"types:\n  assay: {at: assay, key: [code]}\n", `has nothing called "assay"; did you mean "assays"?`},
		{"types:\n  unit: {at: units, key: [kode], id: unit_id}\n", `key field "kode" is not in units of sandbox; did you mean "code"?`},
		{"types:\n  unit: {at: units, key: [code]}\n", "unit_id is the primary key of units in sandbox and would be compared"},
		{"types:\n  assay: {at: assays, key: [code], id: assay_id}\n  unit: {at: units, key: [code], id: unit_id}\n", "points at units by internal id"},
		{"types:\n  unit: {at: {production: units, sandbox: einheiten}, key: [code]}\n", `nothing called "einheiten"`},
		{"types:\n  unit: {at: units, key: [code], id: unit_id, secret: [token]}\n", `field under secret: "token"`},
	} {
		problems := parse(t, c.source).Fits("sandbox", places, nil).Problems
		if assert.NotEmpty(t, problems, c.source) {
			assert.Contains(t, problems[0].Message, c.want)
			assert.Positive(t, problems[0].Line)
		}
	}
}
