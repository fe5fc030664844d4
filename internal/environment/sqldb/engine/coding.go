package engine

import (
	"encoding/hex"
	"fmt"
	"io"
	"strconv"
	"strings"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
)

// DecodeText decodes what an engine delivers as text, and bytes for bytes.
func DecodeText(stored any, kind record.Kind, c catalog.Column) (record.Value, error) {
	switch v := stored.(type) {
	case nil:
		return record.NullValue(), nil
	case []byte:
		switch {
		case kind == record.Bytes:
			return record.BytesValue(v), nil
		case kind == record.Text && c.Kind == record.Bytes:
			return InHex(v)
		}
		return DecodeText(string(v), kind, c)
	case int64, float64:
		return DecodeText(fmt.Sprint(v), kind, c)
	case string:
		if kind == record.Boolean {
			switch v {
			case "t", "true", "1", "\x01":
				return record.BooleanValue(true), nil
			case "f", "false", "0", "\x00":
				return record.BooleanValue(false), nil
			}
		}
		if kind != record.Bytes {
			value, err := record.Parse(kind, v)
			if err != nil {
				err = fmt.Errorf("%w. Correct the value, or say what the field holds with as: in the catalog", err)
			}
			return value, err
		}
	}
	return record.Value{},
		fmt.Errorf("it holds %s, which cannot be read as %s. Say what the field holds with as: in the catalog, or correct the value", DescribeStored(stored), kind)
}

// mostInHex is how many bytes are shown as a text.
const mostInHex = 1024

// InHex gives bytes as a text, which is how keys and what as: text asks for hold them.
func InHex(content []byte) (record.Value, error) {
	if len(content) > mostInHex {
		return record.Value{}, fmt.Errorf("it holds %d bytes, and at most %d can be taken as a text", len(content), mostInHex)
	}
	return record.TextValue(hex.EncodeToString(content))
}

// FromHex gives the bytes that InHex wrote, never nil.
func FromHex(text string) (any, error) {
	content, err := hex.DecodeString(text)
	if err != nil || hex.EncodeToString(content) != text {
		return nil, fmt.Errorf("%q is not bytes in lower-case hexadecimal, which the column holds", text)
	}
	return append([]byte{}, content...), nil
}

// InRange reports whether a whole number fits into so many bits.
func InRange(v record.Value, bits int) bool {
	_, err := strconv.ParseInt(v.Text(), 10, bits)
	return bits > 0 && err == nil
}

// PlainLiteral writes a stored value for engines that take SQL as the standard has it.
func PlainLiteral(stored any) string {
	switch v := stored.(type) {
	case nil:
		return "NULL"
	case []byte:
		return "X'" + hex.EncodeToString(v) + "'"
	case string:
		return "'" + strings.ReplaceAll(v, "'", "''") + "'"
	default:
		return StoredText(v)
	}
}

// StoredText gives an internal id as text, for maps and messages.
func StoredText(stored any) string {
	switch v := stored.(type) {
	case []byte:
		return string(v)
	case nil:
		return ""
	default:
		return fmt.Sprint(v)
	}
}

// OneOrZero is a boolean in engines that keep it as a number.
func OneOrZero(v record.Value) int64 {
	if v.Text() == "true" {
		return 1
	}
	return 0
}

// Spaced writes a timestamp with a space between date and time, as SQL does.
func Spaced(v record.Value) string { return strings.Replace(v.Text(), "T", " ", 1) }

// ContentOf reads the bytes of a value, never nil.
func ContentOf(v record.Value) ([]byte, error) {
	if v.Content() == nil {
		return nil, fmt.Errorf("the bytes with SHA-256 %s are not at hand", v.Text())
	}
	in, err := v.Content().Open()
	if err != nil {
		return nil, err
	}
	defer in.Close()
	data, err := io.ReadAll(in)
	return append([]byte{}, data...), err
}

// DescribeStored names a stored value in a sentence.
func DescribeStored(stored any) string {
	switch v := stored.(type) {
	case []byte:
		return fmt.Sprintf("%d bytes", len(v))
	case string:
		if len(v) > 40 {
			return fmt.Sprintf("a text of %d bytes", len(v))
		}
		return fmt.Sprintf("the text %q", v)
	default:
		return fmt.Sprintf("the number %v", v)
	}
}
