package record

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestCanonicalForm(t *testing.T) {
	for _, c := range []struct {
		kind   Kind
		given  string
		want   string // "" where it is refused
		refuse string
	}{
		{Integer, "007", "7", ""},
		{Integer, "-0", "0", ""},
		{Integer, "+12", "12", ""},
		{Integer, "123456789012345678901234567890", "123456789012345678901234567890", ""},
		{Integer, "5.00", "5", ""},
		{Integer, "5.5", "", "not a whole number"},
		{Integer, "", "", "not an integer"},
		{Integer, "12a", "", "not an integer"},
		{Decimal, "1.50", "1.5", ""},
		{Decimal, "1.5", "1.5", ""},
		{Decimal, "-.5", "-0.5", ""},
		{Decimal, "5.", "5", ""},
		{Decimal, "-0.000", "0", ""},
		{Decimal, "1.5E3", "1500", ""},
		{Decimal, "15e-3", "0.015", ""},
		{Decimal, "1e30", "1000000000000000000000000000000", ""},
		{Decimal, "0.1000000000000000000000000000001", "0.1000000000000000000000000000001", ""},
		{Decimal, "1e999999999", "", "more than"},
		{Decimal, "NaN", "", "not a number"},
		{Decimal, "1,5", "", "not a number"},
		{Decimal, "--1", "", "not a number"},
		{Boolean, "true", "true", ""},
		{Boolean, "yes", "", "neither true nor false"},
		{Date, "2026-11-23", "2026-11-23", ""},
		{Date, "1799-02-28", "1799-02-28", ""},
		{Date, "2026-11-23 00:00:00", "2026-11-23", ""},
		{Date, "2026-11-23 10:00:00", "", "not a date"},
		{Date, "2026-02-30", "", "not a date"},
		{Date, "0000-00-00", "", "not a date"},
		{Time, "7:10", "07:10:00", ""},
		{Time, "25:10", "", "not a time"},
		{Time, "07:10", "07:10:00", ""},
		{Time, "07:10:35.500", "07:10:35.5", ""},
		{LocalTimestamp, "2026-11-23 07:10:35.120000", "2026-11-23T07:10:35.12", ""},
		{LocalTimestamp, "2026-11-23", "2026-11-23T00:00:00", ""},
		{LocalTimestamp, "2026-11-23 07:10:35Z", "", "without a zone"},
		{LocalTimestamp, "2026-11-23 07:10:35.1234567", "", "finer than a microsecond"},
		{Timestamp, "2026-11-23T07:10:35+02:00", "2026-11-23T05:10:35Z", ""},
		{Timestamp, "2026-11-23 07:10:35.5-05:30", "2026-11-23T12:40:35.5Z", ""},
		{Timestamp, "2026-11-23 07:10:35", "", "with a zone"},
		{Timestamp, "0001-01-01T00:00:00+05:00", "", "outside the years"},
		{JSON, ` {"b":1.50, "a":[true,null,"\u00e9"]} `, `{"a":[true,null,"é"],"b":1.5}`, ""},
		{JSON, `1e21`, `1e+21`, ""},
		{JSON, `0.0000001`, `1e-7`, ""},
		{JSON, `12345678901234567890`, `12345678901234567890`, ""},
		{JSON, `{"a":1,"a":2}`, "", "stands twice"},
		{JSON, `{"a":1}x`, "", "something follows"},
		{JSON, `"\ud800"`, "", "surrogate"},
		{JSON, `01`, "", "not a JSON number"},
		{JSON, ``, "", "ends too early"},
		{Text, "a\x00b", "a\x00b", ""},
		{Text, "a\xffb", "", "not UTF-8"},
		{Bytes, "x", "", "cannot be read as bytes"},
	} {
		v, err := Parse(c.kind, c.given)
		if c.refuse != "" {
			assert.ErrorContains(t, err, c.refuse, "%s %q", c.kind, c.given)
			continue
		}
		if assert.NoError(t, err, "%s %q", c.kind, c.given) {
			assert.Equal(t, c.want, v.Text(), "%s %q", c.kind, c.given)
			assert.Equal(t, c.kind, v.Kind())
		}
	}
}

func TestDeepJSONIsRefusedInBoundedTime(t *testing.T) {
	deep := make([]byte, 10_000_000)
	for i := range deep {
		deep[i] = '['
	}
	_, err := Parse(JSON, string(deep))
	assert.ErrorContains(t, err, "nested deeper")
}

func TestRuleSaysHowTextsCompare(t *testing.T) {
	text := func(s string) Value { v, _ := TextValue(s); return v }
	for _, c := range []struct {
		name string
		rule Rule
		a, b Value
		same bool
	}{
		{"exact by default", Rule{}, text("Glu"), text("GLU"), false},
		{"fold_case", Rule{FoldCase: true}, text("Glu"), text("gLU"), true},
		{"fold_case of ß", Rule{FoldCase: true}, text("STRASSE"), text("straße"), true},
		{"trim", Rule{Trim: true}, text(" a "), text("a"), true},
		{"trim leaves inside", Rule{Trim: true}, text("a b"), text("ab"), false},
		{"nfc", Rule{NFC: true}, text("e\u0301"), text("é"), true},
		{"no nfc", Rule{}, text("e\u0301"), text("é"), false},
		{"blank_is_null", Rule{BlankIsNull: true}, text(" "), NullValue(), true},
		{"blank is not null", Rule{}, text(""), NullValue(), false},
	} {
		assert.Equal(t, c.same, Field{Rule: c.rule}.Same(c.a, c.b), c.name)
	}
}

func TestKeysOrderByTheirParts(t *testing.T) {
	text := func(s string) Value { v, _ := TextValue(s); return v }
	parse := func(kind Kind, s string) Value {
		v, err := Parse(kind, s)
		require.NoError(t, err)
		return v
	}
	ref := func(parts ...Value) Value { return ReferenceValue("unit", NewKey(parts, nil)) }
	// Each list is in order; every pair of it must compare so.
	for _, list := range [][]Value{
		{NullValue(), text(""), text("\x00"), text("\x00a"), text("A"), text("AA"), text("B"), text("a"), text("é"), text("😀")},
		{NullValue(), parse(Integer, "-100"), parse(Integer, "-99"), parse(Integer, "-1"), parse(Integer, "0"), parse(Integer, "9"), parse(Integer, "10"), parse(Integer, "100000000000000000000")},
		{parse(Decimal, "-10.5"), parse(Decimal, "-10.25"), parse(Decimal, "-0.5"), parse(Decimal, "-0.05"), parse(Decimal, "0"), parse(Decimal, "0.0005"), parse(Decimal, "0.05"), parse(Decimal, "0.5"), parse(Decimal, "0.55"), parse(Decimal, "1"), parse(Decimal, "10.25"), parse(Decimal, "10.5"), parse(Decimal, "1000")},
		{parse(Timestamp, "2026-01-01T00:00:00Z"), parse(Timestamp, "2026-01-01T00:00:00.5Z"), parse(Timestamp, "2026-01-01T00:00:01Z")},
		{BooleanValue(false), BooleanValue(true)},
		{NullValue(), ref(text("A")), ref(text("A"), text("")), ref(text("AB")), ref(text("B"))},
	} {
		for i := range list {
			for j := range list {
				a, b := NewKey([]Value{list[i]}, nil), NewKey([]Value{list[j]}, nil)
				assert.Equal(t, i-j < 0, a.Compare(b) < 0, "%v and %v", list[i], list[j])
				assert.Equal(t, i == j, a.Compare(b) == 0, "%v and %v", list[i], list[j])
			}
		}
	}
	composed, decomposed := NewKey([]Value{text("é")}, nil), NewKey([]Value{text("e\u0301")}, nil)
	assert.Zero(t, composed.Compare(decomposed), "keys compare in NFC")
	assert.Equal(t, "e\u0301", decomposed.Parts()[0].Text(), "and are kept as found")
	one := NewKey([]Value{text("a"), text("b")}, nil)
	assert.NotZero(t, one.Compare(NewKey([]Value{text("ab"), text("")}, nil)), "parts never run together")
}
