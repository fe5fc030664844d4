package record

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"slices"
	"strconv"
	"unicode/utf8"
)

// Value is one field's content in canonical form. The zero Value is null.
type Value struct {
	kind    Kind
	text    string  // canonical text; the order form of references; the SHA-256 of bytes
	parts   []Value // of a reference: the parts of the key it points at, as found; of woven text its pieces
	refers  string  // of a reference: the record type it points at
	among   bool    // of a reference: its field may point at several types, so files name it
	content Content // of bytes, where it is at hand
}

// Content gives the bytes of an attachment as often as they are asked for.
type Content interface {
	Open() (io.ReadCloser, error)
	Size() int64
}

// Kind tells what the value is.
func (v Value) Kind() Kind { return v.kind }

// IsNull reports whether the value is null.
func (v Value) IsNull() bool { return v.kind == Null }

// IsAbsent reports whether the record does not carry the field.
func (v Value) IsAbsent() bool { return v.kind == Absent }

// Text gives the canonical text: digits, ISO 8601, canonical JSON, or for bytes
// the SHA-256 in hexadecimal. It is empty for null and means nothing for references.
func (v Value) Text() string { return v.text }

// Parts gives the key parts of a reference, or the pieces of a woven text: texts and
// references in their order. The caller must not change them.
func (v Value) Parts() []Value { return v.parts }

// Key gives the key that a reference points at.
func (v Value) Key() Key { return Key{parts: v.parts, order: v.text} }

// Refers gives the record type that a reference points at.
func (v Value) Refers() string { return v.refers }

// IsAmong reports whether a reference names its type, as its field may point at several.
func (v Value) IsAmong() bool { return v.among }

// References gives the references that a value holds: itself, or those woven into it.
func (v Value) References() []Value {
	switch v.kind {
	case Reference:
		return []Value{v}
	case Woven:
		return slices.DeleteFunc(slices.Clone(v.parts), func(piece Value) bool { return piece.kind != Reference })
	default:
		return nil
	}
}

// Content gives the bytes of a bytes value, or nil where only their SHA-256 is known.
func (v Value) Content() Content { return v.content }

// Equal reports whether two values are the same: kind, canonical text, and of
// references the record type.
func (v Value) Equal(other Value) bool {
	if v.kind == Absent && v.text != "" {
		return false
	}
	return v.kind == other.kind && v.text == other.text && v.refers == other.refers
}

// NullValue and AbsentValue make the two values without content.
func NullValue() Value { return Value{} }

// AbsentValue marks a field that a record does not carry.
func AbsentValue() Value { return Value{kind: Absent} }

// UnreadableValue marks a field whose stored content has no canonical form, and says why. It is
// absent to everything that asks for values, and equal to nothing.
func UnreadableValue(why string) Value { return Value{kind: Absent, text: why} }

// Unreadable says why the content of a field cannot be read; ok is false of every other value.
func (v Value) Unreadable() (why string, ok bool) { return v.text, v.kind == Absent && v.text != "" }

// TextValue makes a text. Text that is not UTF-8 is refused.
func TextValue(s string) (Value, error) {
	if !utf8.ValidString(s) {
		return Value{}, fmt.Errorf("the text is not UTF-8")
	}
	return Value{kind: Text, text: s}, nil
}

// IntegerValue makes an integer.
func IntegerValue(i int64) Value {
	return Value{kind: Integer, text: strconv.FormatInt(i, 10)}
}

// BooleanValue makes a boolean.
func BooleanValue(b bool) Value { return Value{kind: Boolean, text: strconv.FormatBool(b)} }

// BytesValue makes a bytes value that holds b, which the caller must not change afterwards.
func BytesValue(b []byte) Value {
	sum := sha256.Sum256(b)
	return Value{kind: Bytes, text: hex.EncodeToString(sum[:]), content: memory(b)}
}

// ContentValue makes a bytes value from its SHA-256 in hexadecimal and, where at
// hand, its content (else nil).
func ContentValue(sha string, content Content) (Value, error) {
	raw, err := hex.DecodeString(sha)
	if err != nil || len(raw) != sha256.Size || hex.EncodeToString(raw) != sha {
		return Value{}, fmt.Errorf("%q is not a SHA-256 in lower-case hexadecimal", sha)
	}
	return Value{kind: Bytes, text: sha, content: content}, nil
}

// ReferenceValue makes a reference to the record of a type with this key.
func ReferenceValue(typ string, k Key) Value {
	return Value{kind: Reference, text: k.order, parts: k.parts, refers: typ}
}

// AmongValue is ReferenceValue for a field that may point at one of several types.
func AmongValue(typ string, k Key) Value {
	v := ReferenceValue(typ, k)
	v.among = true
	return v
}

// WovenValue makes a text that holds references, from texts and references in their
// order, which must not be changed afterwards. The references are made by AmongValue.
func WovenValue(pieces []Value) Value {
	var order []byte
	for _, piece := range pieces {
		order = appendOrder(order, piece)
	}
	return Value{kind: Woven, text: string(order), parts: pieces}
}

// Parse brings a text that a file or an engine delivered to the canonical form
// of a kind, or says why it cannot be: wrong form, or something would be lost.
func Parse(kind Kind, s string) (Value, error) {
	var text string
	var err error
	switch kind {
	case Text:
		return TextValue(s)
	case Integer:
		text, err = canonicalInteger(s)
	case Decimal:
		text, err = canonicalDecimal(s)
	case Boolean:
		switch s {
		case "true", "false":
			text = s
		default:
			err = fmt.Errorf("%q is neither true nor false", s)
		}
	case Date:
		text, err = canonicalDate(s)
	case Time:
		text, err = canonicalTime(s)
	case Timestamp:
		text, err = canonicalTimestamp(s)
	case LocalTimestamp:
		text, err = canonicalLocalTimestamp(s)
	case JSON:
		text, err = canonicalJSON([]byte(s))
	default:
		err = fmt.Errorf("a text cannot be read as %s", kind)
	}
	if err != nil {
		return Value{}, err
	}
	return Value{kind: kind, text: text}, nil
}

type memory []byte

func (m memory) Open() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(m)), nil }
func (m memory) Size() int64                  { return int64(len(m)) }
