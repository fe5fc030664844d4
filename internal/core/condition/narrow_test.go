package condition

import (
	"fmt"
	"math/big"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"anagram/internal/core/record"
	"anagram/internal/tests"
)

var narrowFields = []record.Field{
	{Name: "name", Kind: record.Text}, {Name: "n", Kind: record.Integer}, {Name: "price", Kind: record.Decimal}, {Name: "on", Kind: record.Boolean},
	{Name: "day", Kind: record.Date}, {Name: "at", Kind: record.Timestamp}, {Name: "noon", Kind: record.LocalTimestamp},
	{Name: "loose", Kind: record.Text, Rule: record.Rule{FoldCase: true}},
}

var narrowValues = map[record.Kind][]string{
	record.Text: {"", "A", "a", "B b", "'", "1"}, record.Integer: {"-1", "0", "1", "7"}, record.Decimal: {"-0.5", "0", "1", "1.5", "7"}, record.Boolean: {"true", "false"},
	record.Date: {"2026-01-01", "2026-06-30", "2025-12-31"}, record.Timestamp: {"2026-01-01T00:00:00Z", "2026-06-30T12:00:00.5Z"}, record.LocalTimestamp: {"2026-01-01T00:00:00", "2026-06-30T12:00:00.5"},
}

// some writes a condition that may say anything about the fields.
func some(r *rand.Rand, depth int) string {
	if depth > 0 && r.IntN(2) == 0 {
		switch r.IntN(4) {
		case 0:
			return "(" + some(r, depth-1) + ") && (" + some(r, depth-1) + ")"
		case 1:
			return "(" + some(r, depth-1) + ") || (" + some(r, depth-1) + ")"
		case 2:
			return "!(" + some(r, depth-1) + ")"
		default:
			return "(" + some(r, depth-1) + " ? " + some(r, depth-1) + " : " + some(r, depth-1) + ")"
		}
	}
	f := narrowFields[r.IntN(len(narrowFields))]
	literal := func() string {
		text := narrowValues[f.Kind][r.IntN(len(narrowValues[f.Kind]))]
		switch f.Kind {
		case record.Text:
			return fmt.Sprintf("%q", text)
		case record.Date:
			return "date('" + text + "')"
		case record.Timestamp:
			return "timestamp('" + text + "')"
		case record.LocalTimestamp:
			return "timestamp('" + text + "Z')"
		default:
			return text
		}
	}
	switch op := []string{"==", "!=", "<", "<=", ">", ">=", "in", "null", "not null", "function"}[r.IntN(10)]; {
	case op == "null":
		return f.Name + " == null"
	case op == "not null":
		return f.Name + " != null"
	case op == "in":
		return f.Name + " in [" + literal() + ", " + literal() + "]"
	case op == "function" && f.Kind == record.Text:
		return f.Name + " != null && " + f.Name + ".startsWith(" + literal() + ")"
	case f.Kind == record.Boolean && op != "==" && op != "!=":
		return f.Name + " == " + literal()
	case op == "function":
		return f.Name + " == " + literal()
	default:
		return f.Name + " " + op + " " + literal()
	}
}

// fulfils decides a term as a database would: a comparison with null is not fulfilled.
func fulfils(t *testing.T, term *Term, fields []record.Field, values []record.Value) bool {
	t.Helper()
	switch {
	case term.And != nil:
		for i := range term.And {
			if !fulfils(t, &term.And[i], fields, values) {
				return false
			}
		}
		return true
	case term.Or != nil:
		for i := range term.Or {
			if fulfils(t, &term.Or[i], fields, values) {
				return true
			}
		}
		return false
	}
	at := record.FieldAt(fields, term.Field.Name)
	require.GreaterOrEqual(t, at, 0)
	v := values[at]
	switch {
	case term.Op == "null":
		return v.IsNull()
	case v.IsNull():
		return false
	case term.Op == "not null":
		return true
	}
	for _, other := range term.Values {
		c := compare(t, v, other)
		if map[string]bool{"=": c == 0, "<": c < 0, "<=": c <= 0, ">": c > 0, ">=": c >= 0}[term.Op] {
			return true
		}
	}
	return false
}

func compare(t *testing.T, a, b record.Value) int {
	t.Helper()
	require.Equal(t, a.Kind(), b.Kind())
	if a.Kind() != record.Integer && a.Kind() != record.Decimal {
		return strings.Compare(a.Text(), b.Text())
	}
	x, _ := new(big.Rat).SetString(a.Text())
	y, _ := new(big.Rat).SetString(b.Text())
	return x.Cmp(y)
}

// TestWhateverHoldsIsNeverNarrowedAway makes conditions and records: what a condition holds
// for, the term that a database may be asked for holds for as well.
func TestWhateverHoldsIsNeverNarrowedAway(t *testing.T) {
	r := rand.New(rand.NewPCG(11, 13))
	narrowed, held := 0, 0
	for range tests.Times(500, 3000) {
		text := some(r, 3)
		c, err := Compile(text, "item", narrowFields)
		if err != nil {
			require.NotContains(t, err.Error(), "panic", text)
			continue
		}
		if c.Narrow() == nil {
			continue
		}
		narrowed++
		for range 12 {
			values := make([]record.Value, len(c.Fields()))
			for i, f := range c.Fields() {
				if r.IntN(5) == 0 {
					continue // null
				}
				v, err := record.Parse(f.Kind, narrowValues[f.Kind][r.IntN(len(narrowValues[f.Kind]))])
				require.NoError(t, err)
				values[i] = v
			}
			holds, err := c.Holds(values, func(v record.Value) string { return v.Text() })
			if err != nil || !holds {
				continue
			}
			held++
			require.True(t, fulfils(t, c.Narrow(), c.Fields(), values), "%s holds for %v, which %+v leaves out", text, values, *c.Narrow())
		}
	}
	require.Greater(t, narrowed, tests.Times(100, 500))
	require.Greater(t, held, tests.Times(150, 1000))
}
