package cli

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"reflect"
	"strings"
	"unicode/utf16"

	"anagram/internal/core/show"

	"anagram/internal/ui/text"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/colorprofile"
	"golang.org/x/term"
)

// width is how many columns text may take: 80, or those of a wider terminal.
func (a *app) width() int {
	if a.screen > 0 {
		return a.screen
	}
	if f, ok := a.rawOut.(*os.File); ok {
		if w, _, err := term.GetSize(int(f.Fd())); err == nil && w > 0 {
			return max(40, min(w, 160))
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
	return text.NewScreen(colorprofile.NewWriter(a.rawOut, environ))
}

// note prints a line that is no result; --quiet leaves it out.
func (a *app) note(format string, args ...any) {
	if !a.quiet {
		fmt.Fprintln(a.Err, a.wrap(fmt.Sprintf(format, args...), ""))
	}
}

// next names the sensible next command.
func (a *app) next(command ...any) {
	if a.quiet || a.json {
		return
	}
	words := make([]string, len(command))
	for i, word := range command {
		words[i] = fmt.Sprint(word)
		if given, ok := word.(arg); ok {
			words[i] = show.Arg(string(given))
		}
	}
	fmt.Fprintln(a.Err, "Next: "+text.Line(strings.Join(words, " ")))
}

// arg is what a command is given that is not the program's own word.
type arg string

// Short names for what stands in nearly every line.
var (
	count = text.Count
	when  = text.When
	size  = text.Size
	some  = text.Some
)

// wrap breaks text at blanks to the width; every line but the first is indented.
func (a *app) wrap(words, indent string) laid { return laid(text.Wrap(words, indent, a.width())) }

// laid is text in lines, as wrap lays it.
type laid string

// printf prints in a format; what is put into it is data, whose line breaks are none.
func printf(out io.Writer, format string, args ...any) {
	shown := make([]any, len(args))
	for i, arg := range args {
		switch v := arg.(type) {
		case laid:
			shown[i] = string(v)
		case string:
			shown[i] = text.Line(v)
		case error:
			shown[i] = text.Line(v.Error())
		case fmt.Stringer:
			shown[i] = text.Line(v.String())
		default:
			shown[i] = arg
			if word := reflect.ValueOf(arg); word.Kind() == reflect.String {
				shown[i] = text.Line(word.String())
			}
		}
	}
	fmt.Fprintf(out, format, shown...)
}

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
	var out bytes.Buffer
	encoder := json.NewEncoder(&out)
	encoder.SetEscapeHTML(false)
	if err := encoder.Encode(v); err != nil {
		return err
	}
	_, err := io.WriteString(a.rawOut, seen(out.String()))
	return err
}

// seen writes signs that cannot be seen as JSON's own escapes; they only stand in texts.
func seen(document string) string {
	body := strings.TrimSuffix(document, "\n")
	if !strings.ContainsFunc(body, show.Unseen) {
		return document
	}
	var out strings.Builder
	for _, r := range body {
		switch {
		case !show.Unseen(r):
			out.WriteRune(r)
		case r > 0xffff:
			high, low := utf16.EncodeRune(r)
			fmt.Fprintf(&out, `\u%04x\u%04x`, high, low)
		default:
			fmt.Fprintf(&out, `\u%04x`, r)
		}
	}
	return out.String() + "\n"
}

// Styles. Colours are the terminal's own sixteen, and never the only sign of anything.
var (
	strong = text.NewStyle(lipgloss.NewStyle().Bold(true))
	faint  = text.NewStyle(lipgloss.NewStyle().Faint(true))
	tones  = map[string]text.Style{
		"conflict": text.NewStyle(lipgloss.NewStyle().Foreground(lipgloss.Magenta).Bold(true)),
		"changed":  text.NewStyle(lipgloss.NewStyle().Foreground(lipgloss.Blue)),
		"new":      text.NewStyle(lipgloss.NewStyle().Foreground(lipgloss.Blue).Bold(true)),
		"blocker":  text.NewStyle(lipgloss.NewStyle().Foreground(lipgloss.Magenta).Bold(true)),
		"caution":  text.NewStyle(lipgloss.NewStyle().Foreground(lipgloss.Yellow)),
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
