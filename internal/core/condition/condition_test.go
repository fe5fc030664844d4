package condition

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/record"
)

var fields = []record.Field{
	{Name: "code", Kind: record.Text}, {Name: "n", Kind: record.Integer}, {Name: "price", Kind: record.Decimal}, {Name: "active", Kind: record.Boolean},
	{Name: "valid_from", Kind: record.Date}, {Name: "changed_at", Kind: record.Timestamp}, {Name: "unit", Kind: record.Reference, Refers: "unit"},
	{Name: "rule", Kind: record.JSON}, {Name: "file", Kind: record.Bytes}, {Name: "low", Kind: record.Decimal},
}

// one is a record in which every field has a value; the other has only nulls.
func one(t *testing.T) map[string]record.Value {
	parse := func(kind record.Kind, text string) record.Value {
		v, err := record.Parse(kind, text)
		require.NoError(t, err)
		return v
	}
	return map[string]record.Value{
		"code": parse(record.Text, "GLU"), "n": record.IntegerValue(5), "price": parse(record.Decimal, "12.10"), "active": record.BooleanValue(true),
		"valid_from": parse(record.Date, "2026-01-01"), "changed_at": parse(record.Timestamp, "2026-03-04T05:06:07Z"),
		"unit": record.ReferenceValue("unit", record.NewKey([]record.Value{parse(record.Text, "mmol")}, nil)),
		"rule": parse(record.JSON, `{"when":{"above":3},"tags":["a","b"]}`), "file": record.BytesValue([]byte("x")), "low": parse(record.Decimal, "0.1"),
	}
}

func address(v record.Value) string { return v.Parts()[0].Text() }

func holds(t *testing.T, text string, values map[string]record.Value) string {
	c, err := Compile(text, "assay", fields)
	if err != nil {
		return err.Error()
	}
	var in []record.Value
	for _, f := range c.Fields() {
		in = append(in, values[f.Name])
	}
	got, err := c.Holds(in, address)
	if err != nil {
		return err.Error()
	}
	return fmt.Sprint(got)
}

func TestConditions(t *testing.T) {
	for _, c := range []struct{ text, full, empty string }{
		{"code == 'GLU'", "true", "false"},
		{"code != 'GLU'", "false", "true"},
		{"code == null", "false", "true"},
		{"code in ['GLU', 'K']", "true", "false"},
		{"code.startsWith('G') && size(code) > 2", "true", "false"},
		{"code.matches('^G.U$')", "true", "false"},
		{"n > 4 && n <= 5", "true", "false"},
		{"n > 4.5", "true", "false"},
		{"5 == n", "true", "false"},
		{"n + 1 == 6", "true", "false"},
		{"!(n > 9)", "true", "false"}, // null cannot answer, so it does not hold
		{"price == 12.1", "true", "false"},
		{"price == 12.10", "true", "false"},
		{"12.1 == price", "true", "false"},
		{"12 < price", "true", "false"},
		{"price in [1, 12.1]", "true", "false"},
		{"price > low", "true", "false"},
		{"price > -3", "true", "false"},
		{"active", "true", "false"},
		{"!active || n == 5", "true", "false"},
		{"valid_from == date('2026-01-01')", "true", "false"},
		{"valid_from < timestamp('2026-01-01T00:00:01Z')", "true", "false"},
		{"changed_at > date('2026-03-05')", "false", "false"},
		{"unit == 'mmol'", "true", "false"},
		{"rule.when.above >= 3 && 'a' in rule.tags", "true", "false"},
		{"rule.tags.exists(tag, tag == 'b')", "true", "false"},
		{"has(rule.when) && !has(rule.then)", "true", "false"},
		{"file.startsWith('sha256:2d71')", "true", "false"},
		{"true", "true", "true"},
	} {
		t.Run(c.text, func(t *testing.T) {
			assert.Equal(t, c.full, holds(t, c.text, one(t)), "the record with values")
			assert.Equal(t, c.empty, holds(t, c.text, map[string]record.Value{}), "the record of nulls")
		})
	}
}

func TestConditionsThatDoNotFitNameFieldTypeAndPlace(t *testing.T) {
	for text, want := range map[string]string{
		"cod == 'A'":              `condition "cod == 'A'", column 1: assay has no field "cod"; did you mean "code"?`,
		"n == 5 && x.y":           `condition "n == 5 && x.y", column 11: assay has no field "x"`,
		"n == 'A'":                `condition "n == 'A'", column 3: == cannot be used on (integer, text) (of assay, n is an integer)`,
		"valid_from > 'A'":        `column 12: > cannot be used on (time, text) (of assay, valid_from is a date, to be compared with date('2026-01-01')`,
		"price + 1 == 2":          `column 1: field price is a decimal, which compares exactly`,
		"code":                    `it is no condition`,
		"n ==":                    `column 5: it cannot be read`,
		"'a' + ":                  `it cannot be read`,
		strings.Repeat("(", 5000): "longer than 4000 bytes",
		strings.Repeat("(", 3000): "condition",
	} {
		t.Run(text[:min(len(text), 20)], func(t *testing.T) { assert.Contains(t, holds(t, text, nil), want) })
	}
	c, err := Compile("n == 5", "assay", fields)
	require.NoError(t, err)
	huge, err := record.Parse(record.Integer, "99999999999999999999")
	require.NoError(t, err)
	_, err = c.Holds([]record.Value{huge}, address)
	assert.ErrorContains(t, err, "field n: 99999999999999999999 is beyond the whole numbers")
}

// show writes a term as a person would.
func show(t *Term) string {
	if t == nil {
		return "anything"
	}
	list := func(terms []Term, word string) string {
		var out []string
		for i := range terms {
			out = append(out, show(&terms[i]))
		}
		return "(" + strings.Join(out, word) + ")"
	}
	switch {
	case t.And != nil:
		return list(t.And, " and ")
	case t.Or != nil:
		return list(t.Or, " or ")
	}
	var values []string
	for _, v := range t.Values {
		values = append(values, v.Text())
	}
	return strings.TrimSpace(t.Field.Name + " " + t.Op + " " + strings.Join(values, ","))
}

func TestWhatADatabaseMayBeAskedFor(t *testing.T) {
	for text, want := range map[string]string{
		"code == 'A'":                     "code = A",
		"code == ''":                      "code =",
		"code in ['A', 'B'] && n > 3":     "(code = A,B and n > 3)",
		"code != 'A'":                     "anything",
		"code < 'B'":                      "anything",
		"code == 'A' && size(code) > 1":   "code = A",
		"code == 'A' || size(code) > 1":   "anything",
		"code == 'A' || n == 2":           "(code = A or n = 2)",
		"!(code == 'A')":                  "anything",
		"n == null || n <= -3":            "(n null or n <= -3)",
		"code != null":                    "code not null",
		"price >= 12.50":                  "price >= 12.5",
		"valid_from > date('2026-01-01')": "valid_from > 2026-01-01",
		"changed_at >= timestamp('2026-01-01T01:00:00+01:00')": "changed_at >= 2026-01-01T00:00:00Z",
		"unit == 'mmol'": "anything",
		"active == true": "active = true",
	} {
		t.Run(text, func(t *testing.T) {
			c, err := Compile(text, "assay", fields)
			require.NoError(t, err)
			assert.Equal(t, want, show(c.Narrow()))
		})
	}
}
