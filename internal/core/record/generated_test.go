package record

import (
	"cmp"
	"fmt"
	"math/big"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/tests"
)

// maker makes values of every kind, odd ones more often than life does.
type maker struct {
	*rand.Rand
	shapes Shapes
}

func newMaker(seed uint64) maker {
	m := maker{rand.New(rand.NewPCG(seed, 1)), Shapes{
		"unit":  {{Name: "code", Kind: Text}},
		"dep":   {{Name: "parent", Kind: Reference, Refers: "dep"}, {Name: "code", Kind: Text}},
		"assay": {{Name: "dep", Kind: Reference, Refers: "dep"}, {Name: "unit", Kind: Reference, Refers: "unit"}, {Name: "n", Kind: Integer}},
		"mixed": {{Name: "what", Kind: Reference, Among: []string{"unit", "dep"}}, {Name: "day", Kind: Date}, {Name: "on", Kind: Boolean}},
	}}
	return m
}

var oddTexts = []string{"", " ", "a", "A", "a b", " a", "a ", "~", "%7E", "a/b", "*", "?", "a\x00b", "\x00", "\x00\x01", "\x01", "\x7f", "ä", "a\u0308", "日本", "שלום", "😀", "\u2028", "a\nb", "\"", "\\", "{}", "null", "0", "-1", "'", "\ufeff"}

func (m maker) text() string {
	out := oddTexts[m.IntN(len(oddTexts))]
	for m.IntN(3) == 0 {
		out += oddTexts[m.IntN(len(oddTexts))]
	}
	return out
}

func (m maker) number(kind Kind) string {
	digits := []string{"0", "1", "-1", "9", "10", "-10", "99999999999999999999999999", "-99999999999999999999999999", "9007199254740993", "-9223372036854775808", "12345678901234567890"}
	out := digits[m.IntN(len(digits))]
	if kind == Decimal && m.IntN(2) == 0 {
		out += []string{".5", ".05", ".50", ".000000000000000000001", ".99", ".0"}[m.IntN(6)]
	}
	return out
}

func (m maker) moment(form string) string {
	years := []int{1, 999, 1066, 1969, 1970, 2026, 9999}
	t := time.Date(years[m.IntN(len(years))], time.Month(1+m.IntN(12)), 1+m.IntN(28), m.IntN(24), m.IntN(60), m.IntN(60), m.IntN(4)*1000*m.IntN(1_000_000)%1_000_000_000, time.UTC)
	return t.Format(form)
}

var everyKind = []Kind{Null, Text, Integer, Decimal, Boolean, Date, Time, Timestamp, LocalTimestamp, JSON, Bytes, Reference, Woven}

// field makes a field of a kind, and value a value that it may hold.
func (m maker) field(kind Kind) Field {
	f := Field{Name: "f", Kind: kind}
	switch kind {
	case Null:
		f.Kind = Text
	case Reference:
		f.Refers = []string{"unit", "dep", "assay", "mixed"}[m.IntN(4)]
		if m.IntN(3) == 0 {
			f.Refers, f.Among = "", []string{"unit", "dep", "assay"}
		}
	case Woven:
		f.Among = []string{"unit", "dep"}
	}
	if f.Kind == Text && m.IntN(3) == 0 {
		f.Rule = Rule{FoldCase: m.IntN(2) == 0, Trim: m.IntN(2) == 0, NFC: m.IntN(2) == 0, BlankIsNull: m.IntN(2) == 0}
	}
	return f
}

func (m maker) value(t *testing.T, f Field, null bool) Value {
	t.Helper()
	if null {
		return NullValue()
	}
	parse := func(text string) Value {
		v, err := Parse(f.Kind, text)
		require.NoError(t, err, "%s %q", f.Kind, text)
		return v
	}
	switch f.Kind {
	case Text:
		return parse(m.text())
	case Integer, Decimal:
		return parse(m.number(f.Kind))
	case Boolean:
		return BooleanValue(m.IntN(2) == 0)
	case Date:
		return parse(m.moment(time.DateOnly))
	case Time:
		return parse(m.moment("15:04:05.999999"))
	case Timestamp:
		return parse(m.moment("2006-01-02T15:04:05.999999Z07:00"))
	case LocalTimestamp:
		return parse(m.moment("2006-01-02T15:04:05.999999"))
	case JSON:
		return parse([]string{"null", "1", "1.50", `"x"`, "[]", `{"b":1,"a":[true,null,{"c":"\u0000"}]}`, `{"":{}}`, "[1e2,-0]"}[m.IntN(8)])
	case Bytes:
		return BytesValue([]byte(m.text()))
	case Reference:
		to := f.Refers
		if len(f.Among) > 0 {
			to = f.Among[m.IntN(len(f.Among))]
			return AmongValue(to, m.key(t, to, 0))
		}
		return ReferenceValue(to, m.key(t, to, 0))
	default:
		var pieces []Value
		for range m.IntN(4) {
			if m.IntN(2) == 0 {
				v, err := TextValue(m.text())
				require.NoError(t, err)
				pieces = append(pieces, v)
				continue
			}
			to := f.Among[m.IntN(2)]
			pieces = append(pieces, AmongValue(to, m.key(t, to, 0)))
		}
		return WovenValue(pieces)
	}
}

func (m maker) key(t *testing.T, typ string, depth int) Key {
	t.Helper()
	shape := m.shapes[typ]
	parts := make([]Value, len(shape))
	for i, f := range shape {
		switch {
		case f.Kind == Reference && (m.IntN(5) == 0 || depth > 2):
			parts[i] = NullValue()
		case f.Kind == Reference && len(f.Among) > 0:
			to := f.Among[m.IntN(len(f.Among))]
			parts[i] = AmongValue(to, m.key(t, to, depth+1))
		case f.Kind == Reference:
			parts[i] = ReferenceValue(f.Refers, m.key(t, f.Refers, depth+1))
		default:
			parts[i] = m.value(t, f, m.IntN(8) == 0)
		}
	}
	return m.shapes.Key(typ, parts)
}

func TestEveryValueComesBackFromItsForm(t *testing.T) {
	m := newMaker(1)
	for n := range tests.Times(1500, 6000) {
		kind := everyKind[n%len(everyKind)]
		f := m.field(kind)
		v := m.value(t, f, kind == Null)
		text := AppendValue(nil, v)
		back, err := m.shapes.ParseValue(text, f)
		require.NoError(t, err, "%s", text)
		require.True(t, v.Equal(back), "%s as %s", text, f.Kind)
		require.Equal(t, string(text), string(AppendValue(nil, back)))
		require.True(t, f.Same(v, back))
	}
}

func TestEveryRecordComesBackFromItsLine(t *testing.T) {
	m := newMaker(2)
	for range 1500 {
		typ := []string{"unit", "dep", "assay", "mixed"}[m.IntN(4)]
		var fields []Field
		rec := Record{Key: m.key(t, typ, 0)}
		for i := range m.IntN(14) {
			f := m.field(everyKind[m.IntN(len(everyKind))])
			f.Name = fmt.Sprintf("f%d %s", i, strings.ToValidUTF8(m.text(), ""))
			fields = append(fields, f)
			v := m.value(t, f, m.IntN(6) == 0)
			if m.IntN(6) == 0 {
				v = AbsentValue()
			}
			rec.Values = append(rec.Values, v)
		}
		rec.ChangedAt, rec.ChangedBy, rec.Why, rec.Through = "2026-01-01T00:00:00Z", m.text(), "along", m.text()
		line := AppendLine(nil, fields, rec)
		back, err := ParseLine(line, typ, fields, m.shapes)
		require.NoError(t, err, "%s", line)
		require.Equal(t, string(line), string(AppendLine(nil, fields, back)))
		require.Equal(t, rec.Key.Order(), back.Key.Order())
		for i := range fields {
			require.True(t, rec.Values[i].Equal(back.Values[i]), "%s: %s", fields[i].Name, line)
		}
		// Members in another order are the same record.
		if len(fields) > 1 {
			swapped := append([]Field{}, fields...)
			m.Shuffle(len(swapped), func(i, j int) { swapped[i], swapped[j] = swapped[j], swapped[i] })
			other, err := ParseLine(line, typ, swapped, m.shapes)
			require.NoError(t, err)
			for i, f := range swapped {
				require.True(t, other.Values[i].Equal(back.Values[FieldAt(fields, f.Name)]), f.Name)
			}
		}
		if key, ok := m.shapes.LineKey(line, typ); assert.True(t, ok) {
			require.Equal(t, rec.Key.Order(), key.Order(), "the key alone, read from the head of the line")
		}
	}
}

func TestSumsTellApartWhatDiffers(t *testing.T) {
	m := newMaker(3)
	for range tests.Times(1500, 6000) {
		f := m.field(everyKind[m.IntN(len(everyKind))])
		a, b := m.value(t, f, m.IntN(8) == 0), m.value(t, f, m.IntN(8) == 0)
		if m.IntN(3) == 0 {
			b = a
		}
		require.Equal(t, f.Same(a, b), f.Sum(a) == f.Sum(b), "%s and %s under %+v", AppendValue(nil, a), AppendValue(nil, b), f.Rule)
		require.Equal(t, f.Same(a, b), f.Same(b, a))
	}
}

// compareTyped orders two values of a field by what they mean.
func (m maker) compareTyped(t *testing.T, f Field, a, b Value) int {
	t.Helper()
	rule := f.Rule
	rule.NFC = true
	a, b = rule.Form(a), rule.Form(b)
	switch {
	case a.IsNull() && b.IsNull():
		return 0
	case a.IsNull():
		return -1
	case b.IsNull():
		return 1
	}
	switch f.Kind {
	case Reference:
		if c := strings.Compare(a.Refers(), b.Refers()); c != 0 {
			return c
		}
		return m.compareKeys(t, a.Refers(), a.Key(), b.Key())
	case Integer, Decimal:
		x, okX := new(big.Rat).SetString(a.Text())
		y, okY := new(big.Rat).SetString(b.Text())
		require.True(t, okX && okY)
		return x.Cmp(y)
	case Boolean:
		return cmp.Compare(a.Text(), b.Text())
	case Timestamp, LocalTimestamp:
		form := "2006-01-02T15:04:05.999999999"
		x, errX := time.Parse(form, strings.TrimSuffix(a.Text(), "Z"))
		y, errY := time.Parse(form, strings.TrimSuffix(b.Text(), "Z"))
		require.NoError(t, errX)
		require.NoError(t, errY)
		return x.Compare(y)
	case Time:
		x, errX := time.Parse("15:04:05.999999", a.Text())
		y, errY := time.Parse("15:04:05.999999", b.Text())
		require.NoError(t, errX)
		require.NoError(t, errY)
		return x.Compare(y)
	default:
		return strings.Compare(a.Text(), b.Text())
	}
}

func (m maker) compareKeys(t *testing.T, typ string, a, b Key) int {
	t.Helper()
	for i, f := range m.shapes[typ] {
		if c := m.compareTyped(t, f, a.Parts()[i], b.Parts()[i]); c != 0 {
			return c
		}
	}
	return 0
}

func TestKeysOrderAsTheirValuesDo(t *testing.T) {
	m := newMaker(4)
	m.shapes["plain"] = []Field{{Name: "a", Kind: Text}, {Name: "b", Kind: Decimal}, {Name: "c", Kind: Timestamp}}
	m.shapes["times"] = []Field{{Name: "a", Kind: LocalTimestamp}, {Name: "b", Kind: Time}, {Name: "c", Kind: Integer}}
	m.shapes["folded"] = []Field{{Name: "a", Kind: Text, Rule: Rule{FoldCase: true, Trim: true}}, {Name: "b", Kind: Text, Rule: Rule{BlankIsNull: true}}}
	for range tests.Times(3000, 12_000) {
		typ := []string{"unit", "dep", "assay", "mixed", "plain", "times", "folded"}[m.IntN(7)]
		a, b := m.key(t, typ, 0), m.key(t, typ, 0)
		want := m.compareKeys(t, typ, a, b)
		require.Equal(t, want, a.Compare(b), "%s and %s", AppendKey(nil, a), AppendKey(nil, b))
		require.Equal(t, -want, b.Compare(a))
		require.Equal(t, want == 0, a.Order() == b.Order())
	}
}

func TestAKeyComesBackFromItsText(t *testing.T) {
	m := newMaker(5)
	for range 1500 {
		typ := []string{"unit", "dep", "assay", "mixed"}[m.IntN(4)]
		key := m.key(t, typ, 0)
		back, err := m.shapes.ParseKey(AppendKey(nil, key), typ)
		require.NoError(t, err)
		require.Equal(t, key.Order(), back.Order())
		require.Equal(t, string(AppendKey(nil, key)), string(AppendKey(nil, back)))
		require.Zero(t, KeyByOrder(key.Order()).Compare(back))
	}
}

func TestWhatIsNoFormIsRefused(t *testing.T) {
	m := newMaker(6)
	for _, c := range []struct {
		field Field
		text  string
		why   string
	}{
		{Field{Kind: Boolean}, `"true"`, "true or false is expected"}, {Field{Kind: Integer}, `true`, "a whole number is expected"}, {Field{Kind: Decimal}, `[1]`, "a number is expected"},
		{Field{Kind: Text}, `1`, "a text is expected"}, {Field{Kind: Date}, `20260101`, "a text is expected"}, {Field{Kind: Date}, `"2026-13-01"`, "is not a date"},
		{Field{Kind: JSON}, `{"json":1,"x":2}`, `{"json": …} is expected`}, {Field{Kind: JSON}, `1`, `{"json": …} is expected`},
		{Field{Kind: Bytes}, `{"file":"md5:1"}`, `{"file": "sha256:…"} is expected`}, {Field{Kind: Bytes}, `{"file":"sha256:xyz"}`, "SHA-256"},
		{Field{Kind: Reference, Refers: "unit"}, `"mg"`, "a key of unit is an array of 1"}, {Field{Kind: Reference, Refers: "unit"}, `["mg","g"]`, "a key of unit is an array of 1"},
		{Field{Kind: Reference, Refers: "none"}, `["mg"]`, `the record type "none" is not described`},
		{Field{Kind: Reference, Among: []string{"unit"}}, `{"to":"dep","key":[null,"A"]}`, `it refers to "dep", which is none of unit`},
		{Field{Kind: Reference, Among: []string{"unit"}}, `["mg"]`, `{"to": record type, "key": […]} is expected`},
		{Field{Kind: Woven, Among: []string{"unit"}}, `{"woven":"x"}`, `{"woven": […]} is expected`}, {Field{Kind: Woven, Among: []string{"unit"}}, `{"woven":[1]}`, `{"to": record type`},
	} {
		_, err := m.shapes.ParseValue([]byte(c.text), c.field)
		assert.ErrorContains(t, err, c.why, "%s %s", c.field.Kind, c.text)
	}
}
