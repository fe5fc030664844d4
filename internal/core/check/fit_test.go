package check

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
)

func TestValuesThatDoNotFit(t *testing.T) {
	value := func(kind record.Kind, text string) record.Value {
		v, err := record.Parse(kind, text)
		require.NoError(t, err)
		return v
	}
	text := func(l catalog.Limits) catalog.Column {
		return catalog.Column{Name: "f", Kind: record.Text, Limits: l}
	}
	for _, c := range []struct {
		column catalog.Column
		value  record.Value
		want   string // "" fits
	}{
		{text(catalog.Limits{Characters: 3}), value(record.Text, "äöü"), ""},
		{text(catalog.Limits{Characters: 3}), value(record.Text, "abcd"), "has 4 characters, and 3 fit"},
		{text(catalog.Limits{Bytes: 3}), value(record.Text, "äö"), "has 4 bytes, and 3 fit"},
		{text(catalog.Limits{OneOf: []string{"A", "B"}}), value(record.Text, "C"), `is "C", which is not among the allowed values (A, B)`},
		{text(catalog.Limits{OneOf: []string{"A", "B"}}), value(record.Text, "B"), ""},
		{text(catalog.Limits{Digits: 5, Scale: 2}), value(record.Decimal, "999.99"), ""},
		{text(catalog.Limits{Digits: 5, Scale: 2}), value(record.Decimal, "-1000"), "is -1000, and 3 digits before the point fit"},
		{text(catalog.Limits{Digits: 5, Scale: 2}), value(record.Decimal, "1.005"), "is 1.005, and would be rounded to 2 digits after the point"},
		{text(catalog.Limits{Digits: 2, Scale: 2}), value(record.Decimal, "0.25"), ""},
		{text(catalog.Limits{Least: "-128", Most: "127"}), value(record.Integer, "128"), "is 128, and -128 to 127 fit"},
		{text(catalog.Limits{Least: "-128", Most: "127"}), value(record.Integer, "-128"), ""},
		{catalog.Column{Name: "f", Kind: record.Integer}, value(record.Text, "abc"), `is "abc", which is no whole number`},
		{catalog.Column{Name: "f", Kind: record.Integer}, value(record.Text, "12"), ""},
		{catalog.Column{Name: "f", Kind: record.Integer}, value(record.Decimal, "1.5"), `is "1.5", which is no whole number`},
		{catalog.Column{Name: "f", Kind: record.Integer}, value(record.Decimal, "2"), ""},
		{catalog.Column{Name: "f", Kind: record.Decimal}, value(record.Integer, "2"), ""},
		{catalog.Column{Name: "f", Kind: record.Decimal}, value(record.Text, "two"), `is "two", which is no number`},
		{catalog.Column{Name: "f", Kind: record.Date}, value(record.Text, "soon"), `is "soon", which is no date`},
		{catalog.Column{Name: "f", Kind: record.Text}, value(record.Integer, "2"), ""},
		{catalog.Column{Name: "f", Kind: record.Integer}, record.BooleanValue(true), ""},
		{catalog.Column{Name: "f", Required: true}, record.NullValue(), "is null, and a value is required"},
		{catalog.Column{Name: "f", Required: true, Default: true}, record.NullValue(), ""},
		{catalog.Column{Name: "f"}, record.NullValue(), ""},
	} {
		got, ok := Fits("r/1", "production", c.column, c.value, false)
		assert.Equal(t, c.want != "", ok, "%v", c)
		if ok {
			assert.Equal(t, "r/1: field f "+c.want+" in production.", got.Message)
			assert.Equal(t, Blocker, got.Level)
			assert.True(t, strings.HasSuffix(got.Mend, "."))
		}
	}
	assert.Contains(t, NoRight("r/1", "production", "rs", true).Message, "may not add records to rs in production")
	assert.Contains(t, NoRight("r/1", "production", "rs", false).Message, "may not change records of rs in production")
}
