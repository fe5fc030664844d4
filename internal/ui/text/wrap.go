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
	lead := line[:len(line)-len(strings.TrimLeft(line, " "))]
	inner := lead + indent
	out := fold(strings.TrimLeft(line, " "), width-ansi.StringWidth(lead), width-ansi.StringWidth(inner))
	for i := range out {
		if i == 0 {
			out[i] = strings.TrimSuffix(inner, indent) + out[i]
		} else {
			out[i] = inner + out[i]
		}
	}
	return strings.Join(out, "\n")
}

// fold breaks a line between words: the first one to a width, the others to another.
func fold(line string, first, others int) []string {
	var out []string
	for line != "" {
		width := others
		if len(out) == 0 {
			width = first
		}
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
