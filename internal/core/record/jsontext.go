package record

import (
	"bytes"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"unicode/utf16"
	"unicode/utf8"
)

// A small exact JSON reader: numbers stay text, member names may not repeat,
// nesting is bounded, and every error has a column. The standard decoder keeps the
// last of two equal names, which for a record would be a silent choice.

const maxDepth = 500

type jsonKind uint8

const (
	jsonNull jsonKind = iota
	jsonBool
	jsonNumber
	jsonString
	jsonArray
	jsonObject
)

type jsonNode struct {
	kind  jsonKind
	text  string // of numbers, strings and booleans
	names []string
	items []jsonNode
}

func (n *jsonNode) member(name string) (*jsonNode, bool) {
	for i, have := range n.names {
		if have == name {
			return &n.items[i], true
		}
	}
	return nil, false
}

type jsonReader struct {
	in []byte
	at int
	*jsonRoom
}

// parseJSON reads a text. The node holds until the room is given back.
func parseJSON(in []byte, room *jsonRoom) (jsonNode, error) {
	r := jsonReader{in: in, jsonRoom: room}
	node, err := r.value(0)
	if err != nil {
		return node, err
	}
	r.space()
	if r.at < len(in) {
		return node, r.errorf("something follows the end of the value")
	}
	return node, nil
}

func (r *jsonReader) errorf(format string, args ...any) error {
	return fmt.Errorf("column %d: %s", r.at+1, fmt.Sprintf(format, args...))
}

func (r *jsonReader) space() {
	for r.at < len(r.in) && strings.IndexByte(" \t\r\n", r.in[r.at]) >= 0 {
		r.at++
	}
}

func (r *jsonReader) value(depth int) (jsonNode, error) {
	r.space()
	if r.at >= len(r.in) {
		return jsonNode{}, r.errorf("the JSON ends too early")
	}
	if depth > maxDepth {
		return jsonNode{}, r.errorf("the JSON is nested deeper than %d levels", maxDepth)
	}
	switch c := r.in[r.at]; {
	case c == '{':
		return r.object(depth)
	case c == '[':
		return r.array(depth)
	case c == '"':
		s, err := r.str()
		return jsonNode{kind: jsonString, text: s}, err
	case c == '-' || c >= '0' && c <= '9':
		return r.number()
	default:
		for _, word := range []string{"true", "false", "null"} {
			if bytes.HasPrefix(r.in[r.at:], []byte(word)) {
				r.at += len(word)
				if word == "null" {
					return jsonNode{}, nil
				}
				return jsonNode{kind: jsonBool, text: word}, nil
			}
		}
		return jsonNode{}, r.errorf("this is not JSON")
	}
}

func (r *jsonReader) object(depth int) (jsonNode, error) {
	node := jsonNode{kind: jsonObject}
	r.at++
	r.space()
	if r.take('}') {
		return node, nil
	}
	const few = roomItems // up to here a look through the names is faster than a map
	var seen map[string]bool
	node.names, node.items = r.names(), r.items()
	for {
		r.space()
		if r.at >= len(r.in) || r.in[r.at] != '"' {
			return node, r.errorf("a member name in quotes is expected")
		}
		name, err := r.name()
		if err != nil {
			return node, err
		}
		if len(node.names) == few {
			seen = map[string]bool{}
			for _, have := range node.names {
				seen[have] = true
			}
		}
		if seen[name] || seen == nil && slices.Contains(node.names, name) {
			return node, r.errorf("the name %q stands twice", name)
		}
		if seen != nil {
			seen[name] = true
		}
		r.space()
		if !r.take(':') {
			return node, r.errorf("a colon is expected after %q", name)
		}
		item, err := r.value(depth + 1)
		if err != nil {
			return node, err
		}
		node.names = append(node.names, name)
		node.items = append(node.items, item)
		r.space()
		if r.take('}') {
			return node, nil
		}
		if !r.take(',') {
			return node, r.errorf("a comma or a closing brace is expected")
		}
	}
}

func (r *jsonReader) array(depth int) (jsonNode, error) {
	node := jsonNode{kind: jsonArray}
	r.at++
	r.space()
	if r.take(']') {
		return node, nil
	}
	node.items = r.items()
	for {
		item, err := r.value(depth + 1)
		if err != nil {
			return node, err
		}
		node.items = append(node.items, item)
		r.space()
		if r.take(']') {
			return node, nil
		}
		if !r.take(',') {
			return node, r.errorf("a comma or a closing bracket is expected")
		}
	}
}

func (r *jsonReader) take(c byte) bool {
	if r.at < len(r.in) && r.in[r.at] == c {
		r.at++
		return true
	}
	return false
}

func (r *jsonReader) number() (jsonNode, error) {
	start := r.at
	r.take('-')
	whole := r.digits()
	good := whole == 1 || whole > 1 && r.in[r.at-whole] != '0'
	if r.take('.') {
		good = good && r.digits() > 0
	}
	if r.take('e') || r.take('E') {
		if !r.take('+') {
			r.take('-')
		}
		good = good && r.digits() > 0
	}
	if !good {
		return jsonNode{}, r.errorf("%s is not a JSON number", clip(string(r.in[start:r.at])))
	}
	return jsonNode{kind: jsonNumber, text: string(r.in[start:r.at])}, nil
}

func (r *jsonReader) digits() int {
	start := r.at
	for r.at < len(r.in) && r.in[r.at] >= '0' && r.in[r.at] <= '9' {
		r.at++
	}
	return r.at - start
}

func (r *jsonReader) str() (string, error) {
	r.at++
	start := r.at
	for r.at < len(r.in) { // the common case: nothing escaped
		c := r.in[r.at]
		if c == '"' {
			s := string(r.in[start:r.at])
			if !utf8.ValidString(s) {
				return "", r.errorf("the text is not UTF-8")
			}
			r.at++
			return s, nil
		}
		if c == '\\' || c < 0x20 {
			break
		}
		r.at++
	}
	out := append([]byte(nil), r.in[start:r.at]...)
	for r.at < len(r.in) {
		c := r.in[r.at]
		switch {
		case c == '"':
			r.at++
			if !utf8.Valid(out) {
				return "", r.errorf("the text is not UTF-8")
			}
			return string(out), nil
		case c < 0x20:
			return "", r.errorf("a control character must be escaped")
		case c == '\\':
			decoded, err := r.escape()
			if err != nil {
				return "", err
			}
			out = utf8.AppendRune(out, decoded)
		default:
			out = append(out, c)
			r.at++
		}
	}
	return "", r.errorf("the text has no closing quote")
}

func (r *jsonReader) escape() (rune, error) {
	if r.at+1 >= len(r.in) {
		return 0, r.errorf("the text has no closing quote")
	}
	c := r.in[r.at+1]
	if i := strings.IndexByte(`"\/bfnrt`, c); i >= 0 {
		r.at += 2
		return rune("\"\\/\b\f\n\r\t"[i]), nil
	}
	if c != 'u' {
		return 0, r.errorf("\\%c is not an escape of JSON", c)
	}
	first, err := r.hex4()
	if err != nil {
		return 0, err
	}
	if !utf16.IsSurrogate(first) {
		return first, nil
	}
	if bytes.HasPrefix(r.in[r.at:], []byte(`\u`)) {
		second, err := r.hex4()
		if err != nil {
			return 0, err
		}
		if pair := utf16.DecodeRune(first, second); pair != utf8.RuneError {
			return pair, nil
		}
	}
	return 0, r.errorf("half of a surrogate pair stands alone")
}

func (r *jsonReader) hex4() (rune, error) {
	if r.at+6 > len(r.in) {
		return 0, r.errorf("the escape ends too early")
	}
	code, err := strconv.ParseUint(string(r.in[r.at+2:r.at+6]), 16, 16)
	if err != nil {
		return 0, r.errorf("%q is not an escape of JSON", r.in[r.at:r.at+6])
	}
	r.at += 6
	return rune(code), nil
}

// canonicalJSON gives the form of RFC 8785, with one difference: a number that
// a 64 bit float cannot hold exactly keeps all its digits instead of losing some.
func canonicalJSON(in []byte) (string, error) {
	room := takeRoom()
	defer room.giveBack()
	node, err := parseJSON(in, room)
	if err != nil {
		return "", err
	}
	out, err := appendCanonical(nil, &node)
	return string(out), err
}

func appendCanonical(out []byte, n *jsonNode) ([]byte, error) {
	var err error
	switch n.kind {
	case jsonNull:
		return append(out, "null"...), nil
	case jsonBool:
		return append(out, n.text...), nil
	case jsonString:
		return appendString(out, n.text), nil
	case jsonNumber:
		return appendJSONNumber(out, n.text)
	case jsonArray:
		out = append(out, '[')
		for i := range n.items {
			if i > 0 {
				out = append(out, ',')
			}
			if out, err = appendCanonical(out, &n.items[i]); err != nil {
				return out, err
			}
		}
		return append(out, ']'), nil
	}
	order := make([]int, len(n.names))
	for i := range order {
		order[i] = i
	}
	slices.SortFunc(order, func(a, b int) int {
		return slices.Compare(utf16.Encode([]rune(n.names[a])), utf16.Encode([]rune(n.names[b])))
	})
	out = append(out, '{')
	for i, at := range order {
		if i > 0 {
			out = append(out, ',')
		}
		out = append(appendString(out, n.names[at]), ':')
		if out, err = appendCanonical(out, &n.items[at]); err != nil {
			return out, err
		}
	}
	return append(out, '}'), nil
}

// appendJSONNumber writes a number as ECMAScript does, which RFC 8785 asks for.
func appendJSONNumber(out []byte, text string) ([]byte, error) {
	exact, err := canonicalDecimal(text)
	if err != nil {
		return out, err
	}
	float, err := strconv.ParseFloat(text, 64)
	if err != nil || math.IsInf(float, 0) {
		return append(out, exact...), nil
	}
	short := strconv.FormatFloat(float, 'g', -1, 64)
	if back, err := canonicalDecimal(short); err != nil || back != exact {
		return append(out, exact...), nil
	}
	size := math.Abs(float)
	if size != 0 && (size < 1e-6 || size >= 1e21) {
		mantissa, exponent, _ := strings.Cut(strconv.FormatFloat(float, 'e', -1, 64), "e")
		digits := strings.TrimLeft(exponent[1:], "0")
		return append(out, mantissa+"e"+exponent[:1]+digits...), nil
	}
	return append(out, exact...), nil
}

const hexDigits = "0123456789abcdef"

// appendString writes a JSON text with the fewest escapes (RFC 8785, 3.2.2.2).
func appendString(out []byte, s string) []byte {
	out = append(out, '"')
	start := 0
	for i := range len(s) {
		c := s[i]
		if c >= 0x20 && c != '"' && c != '\\' {
			continue
		}
		out = append(out, s[start:i]...)
		start = i + 1
		if at := strings.IndexByte("\b\t\n\f\r\"\\", c); at >= 0 {
			out = append(out, '\\', `btnfr"\`[at])
		} else {
			out = append(out, `\u00`...)
			out = append(out, hexDigits[c>>4], hexDigits[c&15])
		}
	}
	return append(append(out, s[start:]...), '"')
}
