package record

import (
	"encoding/hex"
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// An address is a record's name in text: TYPE/PART/PART. A part is
// percent-encoded (RFC 3986) where it holds /, %, *, ?, a control character or a
// leading or trailing space; a null part is ~ and a text of tildes alone is encoded, as
// "~" is %7E. A reference that is there, but to a record whose own key begins with a null,
// has a tilde more for each reference that leads to it: ~~ is not the null that ~ is.

// Nulls reports whether a part of an address is a null, or one that references lead to.
func Nulls(part string) bool { return part != "" && strings.Trim(part, "~") == "" }

// EncodePart gives the text of one address part.
func EncodePart(v Value) string {
	if v.IsNull() || v.IsAbsent() {
		return "~"
	}
	return encodePart(v.text)
}

func encodePart(s string) string {
	if Nulls(s) {
		return strings.Repeat("%7E", len(s))
	}
	plain := true
	for i, r := range s {
		if mustEncode(s, i, r) {
			plain = false
			break
		}
	}
	if plain {
		return s
	}
	var out strings.Builder
	for i, r := range s {
		if !mustEncode(s, i, r) {
			out.WriteRune(r)
			continue
		}
		for _, b := range []byte(string(r)) {
			fmt.Fprintf(&out, "%%%02X", b)
		}
	}
	return out.String()
}

func mustEncode(s string, i int, r rune) bool {
	switch r {
	case '/', '%', '*', '?':
		return true
	}
	if unicode.IsControl(r) || r == '\u2028' || r == '\u2029' {
		return true
	}
	edge := i == 0 || i+utf8.RuneLen(r) == len(s)
	return edge && unicode.IsSpace(r)
}

// EncodePath joins parts that are encoded already into one part, for the rare key
// in which two references of changing length stand beside each other.
func EncodePath(parts []string) string { return encodePart(strings.Join(parts, "/")) }

// DecodePart gives the text that EncodePart wrote; the part of a null is ~ itself.
func DecodePart(s string) (string, error) {
	if !utf8.ValidString(s) {
		return "", fmt.Errorf("%q is not UTF-8", s)
	}
	if !strings.Contains(s, "%") {
		return s, nil
	}
	var out []byte
	for i := 0; i < len(s); i++ {
		if s[i] != '%' {
			out = append(out, s[i])
			continue
		}
		var b [1]byte
		if i+2 >= len(s) {
			return "", fmt.Errorf("%q ends inside a percent code; a percent sign itself is written %%25", s)
		}
		if _, err := hex.Decode(b[:], []byte(s[i+1:i+3])); err != nil {
			return "", fmt.Errorf("%q holds %q, which is no percent code; a percent sign itself is written %%25", s, s[i:i+3])
		}
		out = append(out, b[0])
		i += 2
	}
	if !utf8.Valid(out) {
		return "", fmt.Errorf("%q does not decode to UTF-8", s)
	}
	return string(out), nil
}
