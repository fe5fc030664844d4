package record

import (
	"strings"

	"golang.org/x/text/cases"
	"golang.org/x/text/unicode/norm"
)

// Rule says how a text is compared. Keys are always brought to Unicode NFC first.
type Rule struct {
	FoldCase    bool `json:"fold_case,omitempty"`
	Trim        bool `json:"trim,omitempty"`
	NFC         bool `json:"nfc,omitempty"`
	BlankIsNull bool `json:"blank_is_null,omitempty"`
}

// Form gives the form in which a value is compared under the rule.
func (r Rule) Form(v Value) Value {
	if v.kind != Text || r == (Rule{}) {
		return v
	}
	text := v.text
	if r.Trim {
		text = strings.TrimSpace(text)
	}
	if r.NFC || r.FoldCase {
		text = norm.NFC.String(text)
	}
	if r.FoldCase {
		text = norm.NFC.String(cases.Fold().String(text))
	}
	if r.BlankIsNull && strings.TrimSpace(text) == "" {
		return Value{}
	}
	return Value{kind: Text, text: text}
}

// Key identifies a record in every environment: values and references, in the
// catalog's order, kept as found, with the order form in which keys compare.
type Key struct {
	parts []Value
	order string
}

// NewKey makes a key from its parts. Rules are per part; missing ones are the
// plain rule. The parts must not be changed afterwards.
func NewKey(parts []Value, rules []Rule) Key {
	var out []byte
	for i, part := range parts {
		rule := Rule{NFC: true}
		if i < len(rules) {
			rule = rules[i]
			rule.NFC = true
		}
		out = appendOrder(out, rule.Form(part))
	}
	return Key{parts: parts, order: string(out)}
}

// KeyByOrder makes a key of which only the order form is known: it compares, but has no
// parts.
func KeyByOrder(order string) Key { return Key{order: order} }

// Parts gives the key's values as found. The caller must not change them.
func (k Key) Parts() []Value { return k.parts }

// Order gives the bytes by which keys compare: equal bytes are the same key, and
// their order is the order of records (3 parts of the rule: null first, numbers by
// value, text by its UTF-8 bytes).
func (k Key) Order() string { return k.order }

// Compare orders two keys of a type.
func (k Key) Compare(other Key) int { return strings.Compare(k.order, other.order) }

// Classes of the order form. A reference is bracketed by its class and orderEnd,
// which is below every class, so a shorter key sorts before a longer one.
const (
	orderEnd     = 0x00
	orderNull    = 0x01
	orderRef     = 0x02
	orderBoolean = 0x03
	orderNumber  = 0x04
	orderText    = 0x05
)

func appendOrder(out []byte, v Value) []byte {
	switch v.kind {
	case Null, Absent:
		return append(out, orderNull)
	case Reference:
		out = append(out, orderRef)
		if v.among {
			out = appendText(out, v.refers)
		}
		out = append(out, v.text...)
		return append(out, orderEnd)
	case Boolean:
		if v.text == "true" {
			return append(out, orderBoolean, 1)
		}
		return append(out, orderBoolean, 0)
	case Integer, Decimal:
		return appendNumber(append(out, orderNumber), v.text)
	case Date, Time, Timestamp, LocalTimestamp:
		return appendText(append(out, orderText), sortableTime(v.text))
	default:
		return appendText(append(out, orderText), v.text)
	}
}

// appendText ends the text with 00 01 and writes a NUL inside it as 00 FF, so that
// a prefix sorts first and no text can imitate the end of another.
func appendText(out []byte, s string) []byte {
	for {
		i := strings.IndexByte(s, 0)
		if i < 0 {
			break
		}
		out = append(append(out, s[:i]...), 0x00, 0xFF)
		s = s[i+1:]
	}
	return append(append(out, s...), 0x00, 0x01)
}

// appendNumber writes sign, magnitude and digits; all but the sign inverted for
// negative numbers, so that bytes order as the numbers do.
func appendNumber(out []byte, text string) []byte {
	const negative, zero, positive = 1, 2, 3
	if text == "0" {
		return append(out, zero)
	}
	sign := byte(positive)
	if text[0] == '-' {
		sign, text = negative, text[1:]
	}
	whole, fraction, _ := strings.Cut(text, ".")
	magnitude := len(whole)
	if whole == "0" {
		trimmed := strings.TrimLeft(fraction, "0")
		magnitude = len(trimmed) - len(fraction)
		whole, fraction = "", trimmed
	}
	digits := strings.TrimRight(whole+fraction, "0")
	start := len(out) + 1
	biased := uint32(magnitude + 1<<30)
	out = append(out, sign, byte(biased>>24), byte(biased>>16), byte(biased>>8), byte(biased))
	out = append(out, digits...)
	out = append(out, 0)
	if sign == negative {
		for i := start; i < len(out); i++ {
			out[i] = ^out[i]
		}
	}
	return out
}
