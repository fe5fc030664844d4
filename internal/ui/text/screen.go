package text

import (
	"crypto/rand"
	"io"
	"strconv"
	"strings"
	"unicode"

	"charm.land/lipgloss/v2"

	"anagram/internal/core/show"
)

// Everything that people read goes through a Screen, which passes on nothing that a terminal
// would obey but the styles that were made here. Lines are made by this room and by format
// texts; a line break within what is shown is data, and is seen as such.

// mark tells styles of this run from sequences that came with data: nobody else knows it.
var mark = func() string {
	number := make([]byte, 4)
	_, _ = rand.Read(number)
	return ";7" + strconv.Itoa(int(number[0])<<16|int(number[1])<<8|int(number[2]))
}()

// Style makes text stand out.
type Style struct{ style lipgloss.Style }

// NewStyle makes a style.
func NewStyle(style lipgloss.Style) Style { return Style{style} }

// Render styles texts, joined by blanks.
func (s Style) Render(words ...string) string {
	out := s.style.Render(Line(strings.Join(words, " ")))
	var marked strings.Builder
	for {
		before, after, found := strings.Cut(out, "\x1b[")
		marked.WriteString(before)
		end := strings.IndexByte(after, 'm')
		if !found || end < 0 {
			break
		}
		marked.WriteString("\x1b[" + after[:end] + mark + "m")
		out = after[end+1:]
	}
	return marked.String()
}

// Line makes what is shown one line: nothing in it acts, and line breaks are seen.
func Line(text string) string { return own(text, show.Harmless) }

// own gives what lies between the styles of this run to do, and leaves these as they are.
func own(text string, do func(string) string) string {
	if !strings.Contains(text, "\x1b") {
		return do(text)
	}
	var out strings.Builder
	for text != "" {
		at, n := nextStyle(text)
		out.WriteString(do(text[:at]))
		out.WriteString(text[at : at+n])
		text = text[at+n:]
	}
	return out.String()
}

// nextStyle finds the next style of this run; n is 0 where there is none.
func nextStyle(text string) (at, n int) {
	for from := 0; ; {
		i := strings.Index(text[from:], "\x1b[")
		if i < 0 {
			return len(text), 0
		}
		at = from + i
		end := strings.IndexByte(text[at:], 'm')
		if end >= 0 && strings.HasSuffix(text[at:at+end], mark) {
			return at, end + 1
		}
		from = at + 2
	}
}

// Screen is where people read.
type Screen struct{ out io.Writer }

// NewScreen makes a screen of an output.
func NewScreen(out io.Writer) Screen { return Screen{out} }

// Write shows text, whole lines of it.
func (s Screen) Write(p []byte) (int, error) {
	lines := strings.Split(string(p), "\n")
	for i, line := range lines {
		lines[i] = strings.ReplaceAll(own(line, func(text string) string { return isolated(show.Harmless(text)) }), mark+"m", "m")
	}
	if _, err := io.WriteString(s.out, strings.Join(lines, "\n")); err != nil {
		return 0, err
	}
	return len(p), nil
}

// Shown makes what is shown one line that moves nothing around it: nothing in it acts, and what
// is written from right to left stays in its place.
func Shown(line string) string { return isolated(show.Harmless(line)) }

// isolated puts isolates around runs of words that are written from right to left, so that
// the rest of the line stays where it is (Unicode Standard Annex 9).
func isolated(line string) string {
	if strings.IndexFunc(line, rightToLeft) < 0 {
		return line
	}
	words := strings.Split(line, " ")
	inside := false
	for i, word := range words {
		if strings.IndexFunc(word, rightToLeft) < 0 {
			continue
		}
		if !inside {
			words[i], inside = "\u2068"+word, true
		}
		if next := i + 1; next == len(words) || strings.IndexFunc(words[next], rightToLeft) < 0 {
			words[i], inside = words[i]+"\u2069", false
		}
	}
	return strings.Join(words, " ")
}

func rightToLeft(r rune) bool {
	return r >= 0x590 && unicode.In(r, unicode.Hebrew, unicode.Arabic, unicode.Syriac, unicode.Thaana, unicode.Nko, unicode.Samaritan,
		unicode.Mandaic, unicode.Adlam, unicode.Mende_Kikakui, unicode.Hanifi_Rohingya)
}
