package show

import (
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"
)

// What comes from data, files, servers and people is shown so that it cannot act: this is
// the one place that says what can.

// Harmless writes signs that a terminal obeys or that cannot be seen, line breaks too, as
// escapes that can be.
func Harmless(text string) string {
	if !hasUnseen(text) {
		return text
	}
	var out strings.Builder
	for i, r := range text {
		switch {
		case r == utf8.RuneError && !strings.HasPrefix(text[i:], "\uFFFD"):
			out.WriteString(`\x` + strconv.FormatUint(uint64(text[i])|0x100, 16)[1:])
		case Unseen(r):
			quoted := strconv.QuoteRuneToASCII(r)
			out.WriteString(quoted[1 : len(quoted)-1])
		default:
			out.WriteRune(r)
		}
	}
	return out.String()
}

func hasUnseen(text string) bool {
	for i := 0; i < len(text); i++ {
		if text[i] < 0x20 || text[i] >= 0x7f {
			return !utf8.ValidString(text) || strings.ContainsFunc(text, Unseen)
		}
	}
	return false
}

// Unseen reports whether a sign controls a terminal or the order and the joining of others,
// or takes no place.
func Unseen(r rune) bool {
	switch {
	case r < 0x20 || r >= 0x7f && r < 0xa0:
		return true
	case r < 0xa0:
		return false
	case unicode.Is(unicode.Cf, r): // those that Arabic and Kaithi writing shows are none
		return r < 0x600 || r > 0x605 && r != 0x6dd && r != 0x70f && r != 0x890 && r != 0x891 && r != 0x8e2 && r != 0x110bd && r != 0x110cd
	}
	switch r {
	case 0x2028, 0x2029, 0x34f, 0x115f, 0x1160, 0x17b4, 0x17b5, 0x3164, 0xffa0:
		return true
	}
	return false
}

// Arg gives a text as one argument for a shell.
func Arg(text string) string {
	plain := func(r rune) bool {
		return r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || strings.ContainsRune("_./:@%+=,-", r)
	}
	if text != "" && strings.IndexFunc(text, func(r rune) bool { return !plain(r) }) < 0 {
		return text
	}
	if hasUnseen(text) {
		// As the shells have it that know $'...'.
		return "$'" + escaped(text) + "'"
	}
	return "'" + strings.ReplaceAll(text, "'", `'\''`) + "'"
}

// escaped writes a text byte by byte where it has signs that cannot be seen.
func escaped(text string) string {
	var out strings.Builder
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case c == '\\' || c == '\'':
			out.WriteString(`\` + string(c))
		case c < 0x20 || c >= 0x7f:
			out.WriteString(`\x` + strconv.FormatUint(uint64(c)|0x100, 16)[1:])
		default:
			out.WriteByte(c)
		}
	}
	return out.String()
}
