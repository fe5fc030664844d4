package record

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// spelt is how PostgreSQL says a boolean, which engines bring to true and false before Parse.
func spelt(kind Kind, text string) string {
	if word, ok := map[string]string{"t": "true", "f": "false"}[text]; ok && kind == Boolean {
		return word
	}
	return text
}

// holdPlain holds the short way against the long one.
func holdPlain(t *testing.T, kind Kind, text string) (plain bool) {
	t.Helper()
	canonical, ok := Plain(kind, []byte(text), make([]byte, 0, 40))
	if !ok {
		return false
	}
	v, err := Parse(kind, spelt(kind, text))
	require.NoError(t, err, "%s %q is plain, and refused the long way", kind, text)
	assert.Equal(t, v.Text(), string(canonical), "%s %q", kind, text)
	assert.Equal(t, string(AppendValue(nil, v)), string(AppendPlain(nil, kind, canonical)), "%s %q", kind, text)
	for _, rule := range []Rule{{}, {FoldCase: true}, {Trim: true}, {BlankIsNull: true}, {NFC: true}} {
		if order, ok := AppendPlainOrder([]byte("x"), kind, rule, canonical); ok {
			assert.Equal(t, "x"+NewKey([]Value{v}, []Rule{rule}).Order(), string(order), "%s %q", kind, text)
			assert.Equal(t, string(AppendOrder([]byte("x"), rule, v)), string(order))
		}
	}
	return true
}

var plainSeeds = []string{"", "0", "-0", "1", "-1", "007", "12.50", "0.50", "-0.50", "-2.50", "1.", ".5", "1e3", "NaN", "999999999999999", "9999999999999999", "t", "f", "true", "a", "ä", "o\u0308", "\x00", "a\tb", `a"\b`, " a ", "\xff",
	"2026-02-28", "2026-02-30", "2026-13-01", "0000-01-01", "2026-01-31", "2026-01-02 03:04:05", "2026-01-02 24:00:00", "2026-01-02 03:04:05.5", "2026-01-02 03:04:05.50", "2026-01-02 03:04:05.1234567", "2026-01-02 03:04:05+00",
	"2026-01-02 03:04:05.123456+00", "2026-01-02 03:04:05+02", "2026-01-02 03:60:05", "0044-03-15 BC", "infinity", "10000-01-01"}

func TestPlainTextsAreWhatParseMakesOfThem(t *testing.T) {
	plain := map[Kind]int{}
	for _, kind := range []Kind{Text, Integer, Decimal, Boolean, Date, Time, Timestamp, LocalTimestamp, JSON} {
		for _, text := range plainSeeds {
			if holdPlain(t, kind, text) {
				plain[kind]++
			}
		}
	}
	assert.Equal(t, "map[text:"+fmt.Sprint(len(plainSeeds)-1)+" integer:4 decimal:7 boolean:3 date:2 timestamp:2 local timestamp:2]", fmt.Sprint(plain))
}

func FuzzPlain(f *testing.F) {
	for _, text := range plainSeeds {
		for kind := Null; kind <= Absent; kind++ {
			f.Add(int(kind), text)
		}
	}
	f.Fuzz(func(t *testing.T, kind int, text string) {
		if kind >= int(Null) && kind <= int(Absent) {
			holdPlain(t, Kind(kind), text)
		}
	})
}

func TestALineWithExtrasIsTheLineOfTheRecord(t *testing.T) {
	name, err := TextValue("n\"x")
	require.NoError(t, err)
	r := Record{Key: NewKey([]Value{IntegerValue(1)}, nil), Values: []Value{name}, ChangedAt: "2026-01-02T03:04:05", ChangedBy: "m\"ara", Came: Came{Why: "along", Through: "a/B c"}}
	fields := []Field{{Name: "name", Kind: Text}}
	alone := AppendLine(nil, fields, Record{Key: r.Key, Values: r.Values})
	want := string(AppendLine(nil, fields, r))
	r.Line = alone
	assert.Equal(t, want, string(AppendExtras(nil, r)))
}
