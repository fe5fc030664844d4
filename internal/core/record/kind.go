package record

import "fmt"

// Kind says what a value is. The zero kind is Null.
type Kind uint8

// The kinds of values. Absent is no kind of content: it marks a field that a
// record does not carry, which says nothing about that field.
const (
	Null Kind = iota
	Text
	Integer
	Decimal
	Boolean
	Date
	Time
	Timestamp      // an instant, to the microsecond, kept in UTC
	LocalTimestamp // a date and a time without a zone
	JSON
	Bytes
	Reference
	Woven // a text or JSON that holds references
	Absent
)

var kindNames = [...]string{
	Null: "null", Text: "text", Integer: "integer", Decimal: "decimal", Boolean: "boolean",
	Date: "date", Time: "time", Timestamp: "timestamp", LocalTimestamp: "local timestamp",
	JSON: "json", Bytes: "bytes", Reference: "reference", Woven: "woven", Absent: "absent",
}

// String gives the kind's name as files and messages write it.
func (k Kind) String() string { return kindNames[k] }

// FieldKinds lists the names of the kinds that a catalog may give to a field.
func FieldKinds() []string { return kindNames[Text:Reference] }

// ParseKind reads a kind's name; null and absent are not kinds of fields.
func ParseKind(name string) (Kind, error) {
	for k := Text; k < Absent; k++ {
		if kindNames[k] == name {
			return k, nil
		}
	}
	return Null, fmt.Errorf("%q is no kind of value", name)
}

// MarshalText writes the kind's name.
func (k Kind) MarshalText() ([]byte, error) { return []byte(k.String()), nil }

// UnmarshalText reads the kind's name.
func (k *Kind) UnmarshalText(text []byte) error {
	parsed, err := ParseKind(string(text))
	*k = parsed
	return err
}
