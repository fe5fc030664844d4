package cli

import (
	"encoding/json"
	"fmt"
	"io"
	"os"

	"anagram/internal/ui/text"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/colorprofile"
	"golang.org/x/term"
)

// width is how many columns text may take: 80, or those of a wider terminal.
func (a *app) width() int {
	if f, ok := a.Out.(*os.File); ok {
		if w, _, err := term.GetSize(int(f.Fd())); err == nil && w > 80 {
			return min(w, 160)
		}
	}
	return 80
}

// out is standard output with colours only where they are wanted and shown.
func (a *app) out() io.Writer {
	environ := a.Environ
	if a.noColor {
		environ = append(append([]string{}, environ...), "NO_COLOR=1")
	}
	return colorprofile.NewWriter(a.Out, environ)
}

// note prints a line that is no result; --quiet leaves it out.
func (a *app) note(format string, args ...any) {
	if !a.quiet {
		fmt.Fprintln(a.Err, a.wrap(fmt.Sprintf(format, args...), ""))
	}
}

// next names the sensible next command.
func (a *app) next(command string) {
	if !a.quiet && !a.json {
		fmt.Fprintln(a.Err, "Next: "+command)
	}
}

// Short names for what stands in nearly every line.
var (
	count = text.Count
	when  = text.When
	size  = text.Size
	some  = text.Some
)

// wrap breaks text at blanks to the width; every line but the first is indented.
func (a *app) wrap(words, indent string) string { return text.Wrap(words, indent, a.width()) }

// printTable prints a table as wide as the page.
func (a *app) printTable(t text.Table, indent string) {
	a.printLines(t.Lines(indent, a.width(), faint.Render))
}

func (a *app) printLines(lines []string) {
	out := a.out()
	for _, line := range lines {
		fmt.Fprintln(out, line)
	}
}

// printJSON prints one document on one line.
func (a *app) printJSON(v any) error {
	encoder := json.NewEncoder(a.Out)
	encoder.SetEscapeHTML(false)
	return encoder.Encode(v)
}

// Styles. Colours are the terminal's own sixteen, and never the only sign of anything.
var (
	strong = lipgloss.NewStyle().Bold(true)
	faint  = lipgloss.NewStyle().Faint(true)
	tones  = map[string]lipgloss.Style{
		"conflict": lipgloss.NewStyle().Foreground(lipgloss.Magenta).Bold(true),
		"changed":  lipgloss.NewStyle().Foreground(lipgloss.Blue),
		"new":      lipgloss.NewStyle().Foreground(lipgloss.Blue).Bold(true),
		"blocker":  lipgloss.NewStyle().Foreground(lipgloss.Magenta).Bold(true),
		"caution":  lipgloss.NewStyle().Foreground(lipgloss.Yellow),
	}
)

func tone(word string) string {
	if style, ok := tones[word]; ok {
		return style.Render(word)
	}
	return word
}

// orEmpty makes JSON write an empty list, not null.
func orEmpty(names []string) []string {
	if names == nil {
		return []string{}
	}
	return names
}
