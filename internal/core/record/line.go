package record

import (
	"bytes"
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
// and, where values cannot be read, "unreadable":{FIELD:WHY} after the values,
// with the fields in the stream's order, integers as JSON numbers (as text beyond
// 2^53), decimals, dates and times as text, references as the array of key parts,
// JSON wrapped as {"json":…} and bytes as {"file":"sha256:…"}. A reference that may
// point at several types is {"to":TYPE,"key":[…]}; a text with references inside is
// {"woven":[…]}, an array of texts and such references.

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
	return append(appendExtras(appendUnreadable(append(out, '}'), fields, r), r), '}')
}

const unreadable = `,"unreadable":{`

// appendUnreadable writes which values cannot be read, and why.
func appendUnreadable(out []byte, fields []Field, r Record) []byte {
	first := true
	for i, field := range fields {
		why, ok := r.Values[i].Unreadable()
		if !ok {
			continue
		}
		if first {
			out = append(out, unreadable...)
		} else {
			out = append(out, ',')
		}
		first = false
		out = appendString(append(appendString(out, field.Name), ':'), why)
	}
	if !first {
		out = append(out, '}')
	}
	return out
}

// AnyUnreadable reports whether a line may be of a record with a value that cannot be read; where
// it reports false there is none.
func AnyUnreadable(line []byte) bool { return bytes.Contains(line, []byte(unreadable)) }

// appendExtras writes what a line has beside key and values.
func appendExtras(out []byte, r Record) []byte {
	for _, extra := range [...]struct{ name, text string }{
		{"changed_at", r.ChangedAt}, {"changed_by", r.ChangedBy}, {"why", r.Why}, {"through", r.Through},
	} {
		if extra.text != "" {
			out = append(out, `,"`+extra.name+`":`...)
			out = appendString(out, extra.text)
		}
	}
	return out
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
		if v.among {
			out = appendString(append(out, `{"to":`...), v.refers)
			return append(appendParts(append(out, `,"key":`...), v.parts), '}')
		}
		return appendParts(out, v.parts)
	case Woven:
		out = append(out, `{"woven":[`...)
		for i, piece := range v.parts {
			if i > 0 {
				out = append(out, ',')
			}
			out = AppendValue(out, piece)
		}
		return append(out, "]}"...)
	default:
		return appendString(out, v.text)
	}
}

// ParseLine reads a record line. Fields that the line leaves out are absent.
// Errors name the column or the field, never the file: the caller knows it.
func ParseLine(line []byte, typ string, fields []Field, shapes Shapes) (Record, error) {
	var r Record
	room := takeRoom()
	defer room.giveBack()
	node, err := parseJSON(line, room)
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
			find := fieldFinder(fields)
			for j, fieldName := range item.names {
				at := find(fieldName)
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
		case "through":
			r.Through = item.text
		case "unreadable":
			if err := r.unreadable(item, fields); err != nil {
				return r, err
			}
		default:
			return r, fmt.Errorf("the member %q is not known", name)
		}
	}
	return r, nil
}

// unreadable reads which values cannot be read.
func (r *Record) unreadable(item *jsonNode, fields []Field) error {
	if item.kind != jsonObject {
		return errors.New(`"unreadable" is a JSON object`)
	}
	find := fieldFinder(fields)
	for i, name := range item.names {
		at := find(name)
		switch {
		case at < 0:
			return fmt.Errorf("the field %q is not described in the manifest", name)
		case item.items[i].kind != jsonString || item.items[i].text == "":
			return fmt.Errorf("field %q: why it cannot be read is a text", name)
		case !r.Values[at].IsAbsent():
			return fmt.Errorf("field %q has a value, and is said to be unreadable", name)
		}
		r.Values[at] = UnreadableValue(item.items[i].text)
	}
	return nil
}

// fieldFinder gives positions of fields by name, -1 for none; fastest where they are asked
// for in order, and linear in any.
func fieldFinder(fields []Field) func(name string) int {
	next := 0
	var byName map[string]int
	return func(name string) int {
		at := next
		switch {
		case next < len(fields) && fields[next].Name == name:
		case len(fields) <= 8:
			at = FieldAt(fields, name)
		default:
			if byName == nil {
				byName = make(map[string]int, len(fields))
				for i, f := range fields {
					byName[f.Name] = i
				}
			}
			var ok bool
			if at, ok = byName[name]; !ok {
				at = -1
			}
		}
		next = max(next, at+1)
		return at
	}
}

// ParseKey reads the JSON array of a key's parts.
func (s Shapes) ParseKey(text []byte, typ string) (Key, error) {
	room := takeRoom()
	defer room.giveBack()
	node, err := parseJSON(text, room)
	if err != nil {
		return Key{}, err
	}
	return s.parseKey(&node, typ)
}

// ParseValue reads one value as AppendValue writes it.
func (s Shapes) ParseValue(text []byte, field Field) (Value, error) {
	room := takeRoom()
	defer room.giveBack()
	node, err := parseJSON(text, room)
	if err != nil {
		return Value{}, err
	}
	return s.parseValue(&node, field)
}

// LineKey reads only the key of a record line, which stands at its head; ok is false where
// the line is not as AppendLine writes it, so that ParseLine has to say what it is.
func (s Shapes) LineKey(line []byte, typ string) (key Key, ok bool) {
	text, found := bytes.CutPrefix(line, []byte(`{"key":`))
	if !found {
		return Key{}, false
	}
	depth, quoted := 0, false
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case quoted && c == '\\':
			i++
		case c == '"':
			quoted = !quoted
		case quoted:
		case c == '[' || c == '{':
			depth++
		case c == ']' || c == '}':
			if depth--; depth == 0 {
				key, err := s.ParseKey(text[:i+1], typ)
				return key, err == nil
			}
		}
	}
	return Key{}, false
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
	if n.kind == jsonNull {
		return Value{}, nil
	}
	switch field.Kind {
	case Reference:
		if len(field.Among) > 0 {
			return s.parseTyped(n, field)
		}
		key, err := s.parseKey(n, field.Refers)
		return ReferenceValue(field.Refers, key), err
	case Woven:
		return s.parseWoven(n, field)
	case JSON:
		inner, err := n.only("json", `{"json": …}`)
		if err != nil {
			return Value{}, err
		}
		text, err := appendCanonical(nil, inner)
		return Value{kind: JSON, text: string(text)}, err
	case Bytes:
		inner, err := n.only("file", `{"file": "sha256:…"}`)
		if err == nil && !strings.HasPrefix(inner.text, filePrefix) {
			err = expected(`{"file": "sha256:…"}`)
		}
		if err != nil {
			return Value{}, err
		}
		return ContentValue(strings.TrimPrefix(inner.text, filePrefix), nil)
	}
	form := plainForms[field.Kind]
	if form.kinds == nil {
		form = textForm
	}
	if !slices.Contains(form.kinds, n.kind) {
		return Value{}, expected(form.name)
	}
	return Parse(field.Kind, n.text)
}

func expected(what string) error { return fmt.Errorf("%s is expected", what) }

// plainForm is how a kind without structure is written: kinds of JSON, and their name in
// messages.
type plainForm struct {
	kinds []jsonKind
	name  string
}

var (
	plainForms = map[Kind]plainForm{
		Boolean: {[]jsonKind{jsonBool}, "true or false"},
		Integer: {[]jsonKind{jsonNumber, jsonString}, "a whole number"},
		Decimal: {[]jsonKind{jsonNumber, jsonString}, "a number"},
	}
	textForm = plainForm{[]jsonKind{jsonString}, "a text"}
)

// only gives the one member of an object that has no other.
func (n *jsonNode) only(name, what string) (*jsonNode, error) {
	inner, ok := n.member(name)
	if !ok || len(n.names) != 1 {
		return nil, expected(what)
	}
	return inner, nil
}

// parseTyped reads a reference that names its record type.
func (s Shapes) parseTyped(n *jsonNode, field Field) (Value, error) {
	to, hasTo := n.member("to")
	key, hasKey := n.member("key")
	if !hasTo || !hasKey || len(n.names) != 2 {
		return Value{}, errors.New(`{"to": record type, "key": […]} is expected`)
	}
	if !slices.Contains(field.Among, to.text) {
		return Value{}, fmt.Errorf("it refers to %q, which is none of %s", to.text, strings.Join(field.Among, ", "))
	}
	k, err := s.parseKey(key, to.text)
	return AmongValue(to.text, k), err
}

func (s Shapes) parseWoven(n *jsonNode, field Field) (Value, error) {
	inner, err := n.only("woven", `{"woven": […]}`)
	if err == nil && inner.kind != jsonArray {
		err = expected(`{"woven": […]}`)
	}
	if err != nil {
		return Value{}, err
	}
	pieces := make([]Value, len(inner.items))
	for i := range inner.items {
		item := &inner.items[i]
		if item.kind == jsonString {
			pieces[i] = Value{kind: Text, text: item.text}
			continue
		}
		piece, err := s.parseTyped(item, field)
		if err != nil {
			return Value{}, err
		}
		pieces[i] = piece
	}
	return WovenValue(pieces), nil
}
