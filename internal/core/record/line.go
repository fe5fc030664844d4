package record

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// One record is one line of JSON:
//
//	{"key":[…],"values":{…},"changed_at":…,"changed_by":…,"why":"chosen"}
//
// with the fields in the stream's order, integers as JSON numbers (as text beyond
// 2^53), decimals, dates and times as text, references as the array of key parts,
// JSON wrapped as {"json":…} and bytes as {"file":"sha256:…"}.

const filePrefix = "sha256:"

// AppendLine writes a record without a line end. The same record gives the same bytes.
func AppendLine(out []byte, fields []Field, r Record) []byte {
	out = append(out, `{"key":`...)
	out = appendParts(out, r.Key.parts)
	out = append(out, `,"values":{`...)
	first := true
	for i, field := range fields {
		if r.Values[i].IsAbsent() {
			continue
		}
		if !first {
			out = append(out, ',')
		}
		first = false
		out = append(appendString(out, field.Name), ':')
		out = AppendValue(out, r.Values[i])
	}
	out = append(out, '}')
	for _, extra := range [...]struct{ name, text string }{
		{"changed_at", r.ChangedAt}, {"changed_by", r.ChangedBy}, {"why", r.Why},
	} {
		if extra.text != "" {
			out = append(out, `,"`+extra.name+`":`...)
			out = appendString(out, extra.text)
		}
	}
	return append(out, '}')
}

func appendParts(out []byte, parts []Value) []byte {
	out = append(out, '[')
	for i, part := range parts {
		if i > 0 {
			out = append(out, ',')
		}
		out = AppendValue(out, part)
	}
	return append(out, ']')
}

// AppendValue writes one value as a record line has it.
func AppendValue(out []byte, v Value) []byte {
	switch v.kind {
	case Null, Absent:
		return append(out, "null"...)
	case Boolean:
		return append(out, v.text...)
	case Integer:
		if i, err := strconv.ParseInt(v.text, 10, 64); err == nil && i >= -1<<53 && i <= 1<<53 {
			return append(out, v.text...)
		}
		return appendString(out, v.text)
	case JSON:
		out = append(out, `{"json":`...)
		return append(append(out, v.text...), '}')
	case Bytes:
		return append(append(append(out, `{"file":"`+filePrefix...), v.text...), `"}`...)
	case Reference:
		return appendParts(out, v.parts)
	default:
		return appendString(out, v.text)
	}
}

// ParseLine reads a record line. Fields that the line leaves out are absent.
// Errors name the column or the field, never the file: the caller knows it.
func ParseLine(line []byte, typ string, fields []Field, shapes Shapes) (Record, error) {
	var r Record
	node, err := parseJSON(line)
	if err != nil {
		return r, err
	}
	if node.kind != jsonObject {
		return r, errors.New("a record is a JSON object")
	}
	key, ok := node.member("key")
	if !ok {
		return r, errors.New(`the record has no "key"`)
	}
	if r.Key, err = shapes.parseKey(key, typ); err != nil {
		return r, fmt.Errorf("key: %w", err)
	}
	r.Values = make([]Value, len(fields))
	for i := range r.Values {
		r.Values[i] = AbsentValue()
	}
	for i, name := range node.names {
		item := &node.items[i]
		switch name {
		case "key":
		case "values":
			if item.kind != jsonObject {
				return r, errors.New(`"values" is a JSON object`)
			}
			for j, fieldName := range item.names {
				at := slices.IndexFunc(fields, func(f Field) bool { return f.Name == fieldName })
				if at < 0 {
					return r, fmt.Errorf("the field %q is not described in the manifest", fieldName)
				}
				if r.Values[at], err = shapes.parseValue(&item.items[j], fields[at]); err != nil {
					return r, fmt.Errorf("field %q: %w", fieldName, err)
				}
			}
		case "changed_at":
			r.ChangedAt = item.text
		case "changed_by":
			r.ChangedBy = item.text
		case "why":
			r.Why = item.text
		default:
			return r, fmt.Errorf("the member %q is not known", name)
		}
	}
	return r, nil
}

// ParseKey reads the JSON array of a key's parts.
func (s Shapes) ParseKey(text []byte, typ string) (Key, error) {
	node, err := parseJSON(text)
	if err != nil {
		return Key{}, err
	}
	return s.parseKey(&node, typ)
}

// AppendKey writes a key as the JSON array of its parts.
func AppendKey(out []byte, k Key) []byte { return appendParts(out, k.parts) }

func (s Shapes) parseKey(n *jsonNode, typ string) (Key, error) {
	fields, ok := s[typ]
	if !ok {
		return Key{}, fmt.Errorf("the record type %q is not described", typ)
	}
	if n.kind != jsonArray || len(n.items) != len(fields) {
		return Key{}, fmt.Errorf("a key of %s is an array of %d", typ, len(fields))
	}
	parts := make([]Value, len(fields))
	for i := range fields {
		part, err := s.parseValue(&n.items[i], fields[i])
		if err != nil {
			return Key{}, fmt.Errorf("part %d (%s): %w", i+1, fields[i].Name, err)
		}
		parts[i] = part
	}
	return s.Key(typ, parts), nil
}

func (s Shapes) parseValue(n *jsonNode, field Field) (Value, error) {
	wrong := func(want string) error { return fmt.Errorf("%s is expected", want) }
	if n.kind == jsonNull {
		return Value{}, nil
	}
	switch field.Kind {
	case Reference:
		key, err := s.parseKey(n, field.Refers)
		return ReferenceValue(key), err
	case Boolean:
		if n.kind != jsonBool {
			return Value{}, wrong("true or false")
		}
		return Parse(Boolean, n.text)
	case Integer:
		if n.kind != jsonNumber && n.kind != jsonString {
			return Value{}, wrong("a whole number")
		}
		return Parse(Integer, n.text)
	case Decimal:
		if n.kind != jsonNumber && n.kind != jsonString {
			return Value{}, wrong("a number")
		}
		return Parse(Decimal, n.text)
	case JSON:
		inner, ok := n.member("json")
		if !ok || len(n.names) != 1 {
			return Value{}, wrong(`{"json": …}`)
		}
		text, err := appendCanonical(nil, inner)
		return Value{kind: JSON, text: string(text)}, err
	case Bytes:
		inner, ok := n.member("file")
		if !ok || len(n.names) != 1 || !strings.HasPrefix(inner.text, filePrefix) {
			return Value{}, wrong(`{"file": "sha256:…"}`)
		}
		return ContentValue(strings.TrimPrefix(inner.text, filePrefix), nil)
	default:
		if n.kind != jsonString {
			return Value{}, wrong("a text")
		}
		return Parse(field.Kind, n.text)
	}
}
