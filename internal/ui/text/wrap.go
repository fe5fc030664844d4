package text

import (
	"strings"

	"github.com/charmbracelet/x/ansi"
)

// Wrap breaks text at blanks to a width; every line but the first is indented.
//
// A line break in the text is part of what is shown.
func Wrap(text, indent string, width int) string {
	line := Line(text)
	inner := line[:len(line)-len(strings.TrimLeft(line, " "))] + indent
	out := fold(strings.TrimLeft(line, " "), width-ansi.StringWidth(inner))
	for i := range out {
		if i == 0 {
			out[i] = strings.TrimSuffix(inner, indent) + out[i]
		} else {
			out[i] = inner + out[i]
		}
	}
	return strings.Join(out, "\n")
}

// fold breaks a line between words.
func fold(line string, width int) []string {
	var out []string
	for line != "" {
		end, at := len(line), 0
		for ansi.StringWidth(line[:end]) > width {
			if at = strings.LastIndexByte(strings.TrimRight(line[:end], " "), ' '); at <= 0 {
				break
			}
			end = at
		}
		if at <= 0 && ansi.StringWidth(line[:end]) > width { // a single word is too long
			if end = strings.IndexByte(line, ' '); end < 0 {
				end = len(line)
			}
		}
		out = append(out, strings.TrimRight(line[:end], " "))
		line = strings.TrimLeft(line[end:], " ")
	}
	if out == nil {
		out = []string{""}
	}
	return out
}
