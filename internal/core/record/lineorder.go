package record

import (
	"bytes"
	"unicode/utf8"
)

// Of most lines only the order of the key and the bytes of key and values are needed. Both are
// found here without making values; a line that is not as AppendLine writes it, or has a key
// that is out of the ordinary, is left to ParseLine.

// LineOrder appends to order the order form of the key of a line, and tells where its values
// begin and end: the line up to there, with a brace after it, is that of key and values alone.
func (s Shapes) LineOrder(order, line []byte, typ string) (out []byte, begin, end int, ok bool) {
	const head, middle = `{"key":`, `,"values":`
	fields, known := s[typ]
	if !known || !bytes.HasPrefix(line, []byte(head)) {
		return order, 0, 0, false
	}
	out, at, ok := s.orderOf(order, line, len(head), fields, 0)
	if !ok || !bytes.HasPrefix(line[at:], []byte(middle)) {
		return order, 0, 0, false
	}
	begin = at + len(middle)
	end = objectEnd(line, begin)
	if end < 0 || end == len(line) || line[end] != '}' && line[end] != ',' {
		return order, 0, 0, false
	}
	return out, begin, end, true
}

// LineExtras reads what a line has after its key and values, from where LineOrder found their
// end; ok is false where ParseLine has to tell.
func LineExtras(line []byte, end int, r *Record) (ok bool) {
	rest := line[end:]
	for _, extra := range [...]struct {
		name string
		into *string
	}{{`,"changed_at":"`, &r.ChangedAt}, {`,"changed_by":"`, &r.ChangedBy}, {`,"why":"`, &r.Why}, {`,"through":"`, &r.Through}} {
		after, found := bytes.CutPrefix(rest, []byte(extra.name))
		if !found {
			continue
		}
		n := bytes.IndexByte(after, '"')
		if n < 0 {
			return false
		}
		for _, c := range after[:n] {
			if c < 0x20 || c == '\\' || c >= utf8.RuneSelf {
				return false
			}
		}
		*extra.into, rest = string(after[:n]), after[n+1:]
	}
	return string(rest) == "}"
}

// deepestKey is through how many references a key is read here.
const deepestKey = 60

// orderOf reads an array of parts that begins at a place of the line.
func (s Shapes) orderOf(out, line []byte, at int, fields []Field, depth int) ([]byte, int, bool) {
	if at >= len(line) || line[at] != '[' || depth > deepestKey {
		return out, at, false
	}
	for i := range fields {
		var ok bool
		if out, at, ok = s.partOf(out, line, at+1, &fields[i], depth); !ok || at >= len(line) {
			return out, at, false
		}
		if more := i < len(fields)-1; more && line[at] != ',' || !more && line[at] != ']' {
			return out, at, false
		}
	}
	return out, at + 1, len(fields) > 0
}

func (s Shapes) partOf(out, line []byte, at int, field *Field, depth int) ([]byte, int, bool) {
	if bytes.HasPrefix(line[at:], []byte("null")) {
		return append(out, orderNull), at + 4, true
	}
	switch field.Kind {
	case Reference:
		to, known := s[field.Refers]
		if !known || len(field.Among) > 0 {
			return out, at, false
		}
		out, at, ok := s.orderOf(OpenReference(out), line, at, to, depth+1)
		return CloseReference(out), at, ok
	case Integer:
		end := at
		for end < len(line) && line[end] != ',' && line[end] != ']' {
			end++
		}
		if !plainInteger(line[at:end]) {
			return out, at, false
		}
		out, ok := AppendPlainOrder(out, Integer, field.Rule, line[at:end])
		return out, end, ok
	case Text, Decimal, Date:
		if at >= len(line) || line[at] != '"' {
			return out, at, false
		}
		n := bytes.IndexByte(line[at+1:], '"')
		if n < 0 {
			return out, at, false
		}
		text := line[at+1 : at+1+n]
		for _, c := range text {
			if c == '\\' || c < 0x20 {
				return out, at, false
			}
		}
		canonical, ok := Plain(field.Kind, text, nil)
		if !ok || len(canonical) != len(text) {
			return out, at, false
		}
		if in, ok := AppendPlainOrder(out, field.Kind, field.Rule, canonical); ok {
			return in, at + n + 2, true
		}
		return AppendOrder(out, field.Rule, Value{kind: field.Kind, text: string(canonical)}), at + n + 2, true
	default:
		return out, at, false
	}
}

// objectEnd gives the place after the object that begins at a place of the line, -1 for none.
func objectEnd(line []byte, at int) int {
	if at >= len(line) || line[at] != '{' {
		return -1
	}
	depth := 0
	for i := at; i < len(line); i++ {
		switch line[i] {
		case '"':
			for i++; i < len(line) && line[i] != '"'; i++ {
				if line[i] == '\\' {
					i++
				}
			}
		case '{', '[':
			depth++
		case '}', ']':
			if depth--; depth == 0 {
				return i + 1
			}
		}
	}
	return -1
}
