package present

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"reflect"
	"slices"
	"strings"
	"time"
	"unicode/utf16"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/colorprofile"
	"golang.org/x/term"

	"anagram/internal/core/show"
	"anagram/internal/ui/text"
)

// Streams is what a run of the program has of the outside.
type Streams struct {
	In      io.Reader
	Out     io.Writer
	Err     io.Writer
	Dir     string // the working folder
	Environ []string
	Now     func() time.Time
	Hurry   int // above 1, only one part in so many is waited for locks and silent servers
}

// Page is where results are shown: on a screen of some width, or as documents for programs.
type Page struct {
	Streams // Out and Err are screens
	RawOut  io.Writer
	RawErr  io.Writer
	JSON    bool
	Quiet   bool
	NoColor bool
	screen  int // columns and lines of the screen, where they were found out before
	lines   int
	Alone   string // the docket file that is worked with, where there is no workspace
	Result  any    // of a command that ended without an error, for the exit code
	// IsWeb reports whether an environment is a service on the web, which cannot rehearse.
	IsWeb func(environment string) bool
}

// NewPage shows results on the streams of a run.
func NewPage(s Streams) *Page {
	p := &Page{Streams: s, RawOut: s.Out, RawErr: s.Err, IsWeb: func(string) bool { return false }}
	p.Out, p.Err = text.NewScreen(s.Out), text.NewScreen(s.Err)
	return p
}

// Width is how many columns text may take: 80, or those of a wider terminal.
func (a *Page) Width() int {
	if a.screen > 0 {
		return a.screen
	}
	if f, ok := a.RawOut.(*os.File); ok {
		if w, _, err := term.GetSize(int(f.Fd())); err == nil && w > 0 {
			return max(40, min(w, 160))
		}
	}
	return 80
}

// Coloured is standard output with colours only where they are wanted and shown.
func (a *Page) Coloured() io.Writer {
	environ := a.Environ
	if a.NoColor {
		environ = append(append([]string{}, environ...), "NO_COLOR=1")
	}
	return text.NewScreen(colorprofile.NewWriter(a.RawOut, environ))
}

// Note prints a line that is no result; --quiet leaves it out.
func (a *Page) Note(format string, args ...any) {
	if !a.Quiet {
		fmt.Fprintln(a.Err, a.Wrap(fmt.Sprintf(format, args...), ""))
	}
}

// Next names the sensible next command.
func (a *Page) Next(command ...any) {
	if a.Quiet || a.JSON {
		return
	}
	words := make([]string, len(command))
	for i, word := range command {
		words[i] = fmt.Sprint(word)
		if given, ok := word.(Arg); ok {
			words[i] = show.Arg(string(given))
		}
	}
	fmt.Fprintln(a.Err, "Next: "+text.Line(strings.Join(words, " ")))
}

// Arg is what a command is given that is not the program's own word.
type Arg string

// Short names for what stands in nearly every line.
var (
	Count = text.Count
	When  = text.When
	Size  = text.Size
	Some  = text.Some
)

// Wrap breaks text at blanks to the width; every line but the first is indented.
func (a *Page) Wrap(words, indent string) laid { return laid(text.Wrap(words, indent, a.Width())) }

// laid is text in lines, as wrap lays it.
type laid string

// Printf prints in a format; what is put into it is data, whose line breaks are none.
func Printf(out io.Writer, format string, args ...any) {
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

// PrintTable prints a table as wide as the page.
func (a *Page) PrintTable(t text.Table, indent string) {
	a.printLines(t.Lines(indent, a.Width(), Faint.Render))
}

func (a *Page) printLines(lines []string) {
	out := a.Coloured()
	for _, line := range lines {
		fmt.Fprintln(out, line)
	}
}

// PrintJSON prints one document on one line.
func (a *Page) PrintJSON(v any) error {
	var out bytes.Buffer
	encoder := json.NewEncoder(&out)
	encoder.SetEscapeHTML(false)
	if err := encoder.Encode(v); err != nil {
		return err
	}
	_, err := io.WriteString(a.RawOut, seen(out.String()))
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
	Strong = text.NewStyle(lipgloss.NewStyle().Bold(true))
	Faint  = text.NewStyle(lipgloss.NewStyle().Faint(true))
	tones  = map[string]text.Style{
		"conflict": text.NewStyle(lipgloss.NewStyle().Foreground(lipgloss.Magenta).Bold(true)),
		"changed":  text.NewStyle(lipgloss.NewStyle().Foreground(lipgloss.Blue)),
		"new":      text.NewStyle(lipgloss.NewStyle().Foreground(lipgloss.Blue).Bold(true)),
		"blocker":  text.NewStyle(lipgloss.NewStyle().Foreground(lipgloss.Magenta).Bold(true)),
		"caution":  text.NewStyle(lipgloss.NewStyle().Foreground(lipgloss.Yellow)),
	}
)

// Tone gives a word the colour that it has wherever it stands.
func Tone(word string) string {
	if style, ok := tones[word]; ok {
		return style.Render(word)
	}
	return word
}

// OrEmpty makes JSON write an empty list, not null.
func OrEmpty(names []string) []string {
	if names == nil {
		return []string{}
	}
	return names
}

// Env gives a variable of the environment, "" where it is not set; of several the last counts.
func (a *Page) Env(name string) string {
	for _, entry := range slices.Backward(a.Environ) {
		if value, ok := strings.CutPrefix(entry, name+"="); ok {
			return value
		}
	}
	return ""
}

// Interactive reports whether a person is at a terminal that can show the interactive review.
func (a *Page) Interactive() bool {
	in, isIn := a.In.(*os.File)
	out, isOut := a.RawOut.(*os.File)
	return isIn && isOut && term.IsTerminal(int(in.Fd())) && term.IsTerminal(int(out.Fd())) && a.Env("TERM") != "dumb"
}
