package text

import (
	"strings"

	"github.com/charmbracelet/x/ansi"
)

// Table is rows in aligned columns. Names of columns that begin with > are set to the
// right, as numbers are. Where the rows are wider than the page, the widest columns of text
// are narrowed and their cells wrapped, but never those that begin with =.
type Table struct {
	Columns []string
	rows    [][]string
}

// Add adds a row.
func (t *Table) Add(cells ...string) {
	for i := range cells {
		cells[i] = Line(cells[i])
	}
	t.rows = append(t.rows, cells)
}

// Rows gives how many rows there are.
func (t *Table) Rows() int { return len(t.rows) }

const (
	columnGap = 2
	narrowest = 12 // columns, below which a text is not narrowed
)

// Lines lays the table out for a page; head styles the names of the columns.
func (t *Table) Lines(indent string, width int, head func(...string) string) []string {
	l := layout{indent: indent, right: make([]bool, len(t.Columns))}
	names := make([]string, len(t.Columns))
	fixed := make([]bool, len(t.Columns))
	for i, name := range t.Columns {
		names[i], l.right[i] = strings.CutPrefix(name, ">")
		names[i], fixed[i] = strings.CutPrefix(names[i], "=")
		l.widths = append(l.widths, ansi.StringWidth(names[i]))
		l.words = append(l.words, longestWord(names[i]))
	}
	for _, row := range t.rows {
		for i, cell := range row {
			l.widths[i] = max(l.widths[i], ansi.StringWidth(cell))
			l.words[i] = max(l.words[i], longestWord(cell))
		}
	}
	l.narrow(width, fixed)
	out := l.lines(names, head)
	for _, row := range t.rows {
		out = append(out, l.lines(row, nil)...)
	}
	return out
}

func longestWord(cell string) (most int) {
	for _, word := range strings.Fields(cell) {
		most = max(most, ansi.StringWidth(word))
	}
	return most
}

// Columns lays cells out in columns of given widths, which the caller has chosen; longer
// cells are wrapped.
func Columns(indent string, widths []int, cells []string, style func(...string) string) []string {
	return layout{indent: indent, widths: widths, right: make([]bool, len(widths))}.lines(cells, style)
}

// layout is where the columns of a table are.
type layout struct {
	indent string
	widths []int
	words  []int // the longest word of each column
	right  []bool
}

// narrow takes from the widest column of text until all fit; on a page that is narrower still,
// from those as well that are not to be narrowed, as far as no word is broken.
func (l layout) narrow(width int, fixed []bool) {
	least := make([]int, len(l.widths))
	for i := range least {
		least[i] = narrowest
	}
	l.take(width, least, fixed)
	l.take(width, l.words, make([]bool, len(fixed)))
}

func (l layout) take(width int, least []int, fixed []bool) {
	over := len(l.indent) + columnGap*(len(l.widths)-1) - width
	for _, w := range l.widths {
		over += w
	}
	for ; over > 0; over-- {
		widest := -1
		for i, w := range l.widths {
			if !l.right[i] && !fixed[i] && w > least[i] && (widest < 0 || w > l.widths[widest]) {
				widest = i
			}
		}
		if widest < 0 {
			return
		}
		l.widths[widest]--
	}
}

// lines lays out one row; longer cells are wrapped.
func (l layout) lines(cells []string, style func(...string) string) []string {
	wrapped := make([][]string, len(cells))
	height := 1
	for i, cell := range cells {
		cell = Line(cell)
		wrapped[i] = strings.Split(ansi.Wrap(cell, l.widths[i], " /"), "\n")
		height = max(height, len(wrapped[i]))
	}
	out := make([]string, height)
	for n := range height {
		var b strings.Builder
		for i := range cells {
			text := ""
			if n < len(wrapped[i]) {
				text = strings.TrimSpace(wrapped[i][n])
			}
			gap := strings.Repeat(" ", max(0, l.widths[i]-ansi.StringWidth(text)))
			if style != nil && text != "" {
				text = style(text)
			}
			if l.right[i] {
				b.WriteString(gap + text)
			} else {
				b.WriteString(text + gap)
			}
			b.WriteString(strings.Repeat(" ", columnGap))
		}
		out[n] = l.indent + strings.TrimRight(b.String(), " ")
	}
	return out
}
