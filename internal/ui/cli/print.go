package cli

import (
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"
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

// wrap breaks text at blanks to the width; every line but the first is indented.
func (a *app) wrap(text, indent string) string {
	var out []string
	for _, line := range strings.Split(text, "\n") {
		inner := line[:len(line)-len(strings.TrimLeft(line, " "))] + indent
		width := a.width() - ansi.StringWidth(inner)
		for i, part := range folded(strings.TrimLeft(line, " "), width) {
			switch {
			case i == 0 && len(out) == 0:
				out = append(out, strings.TrimSuffix(inner, indent)+part)
			default:
				out = append(out, inner+part)
			}
		}
	}
	return strings.Join(out, "\n")
}

// folded breaks a line between words. Names with hyphens stay whole.
func folded(line string, width int) []string {
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

// printJSON prints one document on one line.
func (a *app) printJSON(v any) error {
	encoder := json.NewEncoder(a.Out)
	encoder.SetEscapeHTML(false)
	return encoder.Encode(v)
}

// count writes a number and its noun, singular or plural.
func count(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	switch {
	case strings.HasSuffix(noun, "ss"):
		noun += "es"
	case strings.HasSuffix(noun, "y") && !strings.HasSuffix(noun, "ey"):
		noun = strings.TrimSuffix(noun, "y") + "ies"
	default:
		noun += "s"
	}
	return fmt.Sprintf("%d %s", n, noun)
}

// when writes a kept UTC time for people, with its zone.
func when(stamp string) string {
	t, err := time.Parse(time.RFC3339, stamp)
	if err != nil {
		return stamp
	}
	return t.UTC().Format("2006-01-02 15:04 MST")
}

// size writes a number of bytes.
func size(n int64) string {
	switch {
	case n < 1000:
		return fmt.Sprintf("%d B", n)
	case n < 1000*1000:
		return fmt.Sprintf("%.1f kB", float64(n)/1e3)
	default:
		return fmt.Sprintf("%.1f MB", float64(n)/1e6)
	}
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

// table prints rows in aligned columns; names of columns that begin with > are set to
// the right, as numbers are. Where the rows are wider than the page, the widest columns
// of text are narrowed and their cells wrapped, but never those that begin with =.
type table struct {
	columns []string
	rows    [][]string
}

func (t *table) add(cells ...string) { t.rows = append(t.rows, cells) }

const (
	columnGap = 2
	narrowest = 12 // columns, below which a text is not narrowed
)

func (a *app) printTable(t table, indent string) {
	widths := make([]int, len(t.columns))
	right := make([]bool, len(t.columns))
	head := make([]string, len(t.columns))
	fixed := make([]bool, len(t.columns))
	for i, name := range t.columns {
		head[i], right[i] = strings.CutPrefix(name, ">")
		head[i], fixed[i] = strings.CutPrefix(head[i], "=")
		widths[i] = ansi.StringWidth(head[i])
	}
	for _, row := range t.rows {
		for i, cell := range row {
			widths[i] = max(widths[i], ansi.StringWidth(cell))
		}
	}
	over := len(indent) + columnGap*(len(widths)-1) - a.width()
	for _, width := range widths {
		over += width
	}
	for ; over > 0; over-- {
		widest := -1
		for i := range widths {
			if !right[i] && !fixed[i] && widths[i] > narrowest && (widest < 0 || widths[i] > widths[widest]) {
				widest = i
			}
		}
		if widest < 0 {
			break
		}
		widths[widest]--
	}
	out := a.out()
	printRow(out, indent, widths, right, head, faint.Render)
	for _, row := range t.rows {
		printRow(out, indent, widths, right, row, nil)
	}
}

// printRow prints cells in columns of given widths; longer cells are wrapped.
func printRow(out io.Writer, indent string, widths []int, right []bool, cells []string, style func(...string) string) {
	wrapped := make([][]string, len(cells))
	lines := 1
	for i, cell := range cells {
		wrapped[i] = strings.Split(ansi.Wrap(cell, widths[i], " /"), "\n")
		lines = max(lines, len(wrapped[i]))
	}
	for n := range lines {
		var b strings.Builder
		for i := range cells {
			text := ""
			if n < len(wrapped[i]) {
				text = strings.TrimSpace(wrapped[i][n])
			}
			gap := strings.Repeat(" ", max(0, widths[i]-ansi.StringWidth(text)))
			if style != nil && text != "" {
				text = style(text)
			}
			if right != nil && right[i] {
				b.WriteString(gap + text)
			} else {
				b.WriteString(text + gap)
			}
			b.WriteString(strings.Repeat(" ", columnGap))
		}
		fmt.Fprintln(out, indent+strings.TrimRight(b.String(), " "))
	}
}

// some lists the first names and how many more there are.
func some(names []string, most int) string {
	if len(names) <= most {
		return strings.Join(names, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(names[:most], ", "), len(names)-most)
}

// orEmpty makes JSON write an empty list, not null.
func orEmpty(names []string) []string {
	if names == nil {
		return []string{}
	}
	return names
}
