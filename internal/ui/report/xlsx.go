package report

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/charmbracelet/x/ansi"
	"github.com/xuri/excelize/v2"

	"anagram/internal/core/answers"
	"anagram/internal/core/match"
	"anagram/internal/core/show"
	"anagram/internal/files/sheet"
	"anagram/internal/flow/decide"
	"anagram/internal/flow/shown"
	"anagram/internal/store/docket"
	"anagram/internal/ui/text"
)

// Widths of the columns of a workbook, in signs, in the order of decide's columns.
var widths = []float64{32, 26, 24, 20, 30, 30, 22, 9, 60, 26, 12, 10, 30, 22, 16, 21, 44}

// wraps are the columns whose cells go on in another line.
var wraps = []int{shown.ColTitle, shown.ColSource, shown.ColTarget, shown.ColAgreed, shown.ColChecks, shown.ColStands, shown.ColNote,
	shown.ColChanged}

const (
	lineHeight = 15 // of a row of one line, in points
	mostLines  = 20
)

// heightOf gives the height of a row: spreadsheets do not work it out for a file that they
// open.
func heightOf(row []string) float64 {
	lines := 1
	for _, i := range wraps {
		lines = max(lines, 1+ansi.StringWidth(row[i])*10/9/int(widths[i]))
	}
	return float64(lineHeight * min(lines, mostLines))
}

// XLSX writes a review as a workbook: a summary, and a sheet for each record type with a row
// for each record and each differing field. Only what is to be filled in can be changed.
// Scratch is a folder for what does not fit in memory.
func XLSX(ctx context.Context, out io.Writer, r Review, scratch string) error {
	b, err := newBook(scratch)
	if err != nil {
		return err
	}
	defer b.close()
	b.names = map[string]bool{strings.ToLower(first): true}
	t := shown.TableOf(r.Docket.Header, r.Digest, r.Made)
	var on *page
	var sheets [][2]string
	last := ""
	defer func() { on.close() }()
	err = r.Each(ctx, func(f decide.Reviewed) error {
		if on == nil || f.Type != last || on.rows > mostRows {
			if err := on.done(); err != nil {
				return err
			}
			last = f.Type
			name := b.sheetName(f.Type)
			sheets = append(sheets, [2]string{f.Type, name})
			var err error
			if on, err = b.page(name, t.Header()); err != nil {
				return err
			}
		}
		for i, row := range t.Rows(shown.Of(r.Docket, f)) {
			if err := on.row(row, i == 0); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	if err := on.done(); err != nil {
		return err
	}
	if err := b.summary(r, sheets); err != nil {
		return err
	}
	return b.write(out)
}

// mostRows is after how many rows a type goes on in another sheet: spreadsheets have no more
// than 1,048,576.
const mostRows = 1_000_000

// page is a sheet that is being written.
type page struct {
	book   *book // that it is going to be in
	own    *book // that it is written in
	name   string
	stream *excelize.StreamWriter
	rows   int
	width  int
}

func (b *book) page(name string, header []string) (*page, error) {
	own, err := newBook(b.scratch)
	if err != nil {
		return nil, err
	}
	p := &page{book: b, own: own, name: name, width: len(header)}
	if err := p.begin(header); err != nil {
		own.close()
		return nil, err
	}
	return p, nil
}

func (p *page) begin(header []string) error {
	if _, err := p.own.file.NewSheet(p.name); err != nil {
		return err
	}
	if err := p.own.layout(p.name); err != nil {
		return err
	}
	stream, err := p.own.file.NewStreamWriter(p.name)
	if err != nil {
		return err
	}
	p.stream = stream
	for i, w := range widths {
		if err := stream.SetColWidth(i+1, i+1, w); err != nil {
			return err
		}
	}
	if err := stream.SetPanes(&excelize.Panes{Freeze: true, XSplit: 1, YSplit: 1, TopLeftCell: "B2",
		ActivePane: "bottomRight"}); err != nil {
		return err
	}
	cells := make([]any, len(header))
	for i, cell := range header {
		cells[i] = excelize.Cell{StyleID: p.own.head, Value: cell}
	}
	p.rows = 1
	return stream.SetRow("A1", cells)
}

// layout prints a sheet on pages that are as wide as it is.
func (b *book) layout(name string) error {
	landscape, fit, wide, tall := "landscape", true, 1, 0
	if err := b.file.SetPageLayout(name, &excelize.PageLayoutOptions{Orientation: &landscape, FitToWidth: &wide,
		FitToHeight: &tall}); err != nil {
		return err
	}
	return b.file.SetSheetProps(name, &excelize.SheetPropsOptions{FitToPage: &fit})
}

func (p *page) row(row []string, record bool) error {
	p.rows++
	cells := make([]any, len(row))
	for i, cell := range row {
		style := p.own.plain
		switch {
		case i == shown.ColDecision || i == shown.ColTake || i == shown.ColNote || i == shown.ColBy:
			style = p.own.answer
		case record && slices.Contains(wraps, i):
			style = p.own.record
		case record:
			style = p.own.narrowRecord
		case !slices.Contains(wraps, i):
			style = p.own.narrow
		}
		value := excelize.Cell{StyleID: style}
		if cell != "" {
			value.Value = cell
		}
		cells[i] = value
	}
	at, err := excelize.CoordinatesToCellName(1, p.rows)
	if err != nil {
		return err
	}
	return p.stream.SetRow(at, cells, excelize.RowOpts{Height: heightOf(row)})
}

// done ends a sheet: what may be filled in, filters, and protection of the rest.
func (p *page) done() error {
	if p == nil {
		return nil
	}
	defer p.close()
	// All of it is written by Flush, which therefore comes last.
	f := p.own.file
	column := func(n int) string {
		name, _ := excelize.ColumnNumberToName(n + 1)
		return name
	}
	for _, list := range []struct {
		column int
		words  []string
	}{{shown.ColDecision, answers.Decisions()}, {shown.ColTake, []string{"source", "target"}}} {
		v := excelize.NewDataValidation(true)
		v.Sqref = fmt.Sprintf("%s2:%s%d", column(list.column), column(list.column), p.rows)
		if err := v.SetDropList(list.words); err != nil {
			return err
		}
		title, message := "Not known", "One of: "+strings.Join(list.words, ", ")
		v.SetError(excelize.DataValidationErrorStyleStop, title, message)
		if err := f.AddDataValidation(p.name, v); err != nil {
			return err
		}
	}
	filtered := fmt.Sprintf("A1:%s%d", column(p.width-1), p.rows)
	if err := f.AutoFilter(p.name, filtered, nil); err != nil {
		return err
	}
	err := f.ProtectSheet(p.name, &excelize.SheetProtectionOptions{SelectLockedCells: true, SelectUnlockedCells: true,
		AutoFilter: true, FormatColumns: true, FormatRows: true, Sort: true})
	if err != nil {
		return err
	}
	if err := p.stream.Flush(); err != nil {
		return err
	}
	return p.book.take(p.own, p.name, filtered)
}

// close lets go of a sheet; after done it does nothing.
func (p *page) close() {
	if p != nil {
		p.own.close()
	}
}

// sheetLines writes lines of a sheet one below the other.
type sheetLines struct {
	book *book
	name string
	n    int
}

// add writes a line; styles are those of its cells, the last of them for the rest.
func (l *sheetLines) add(cells []string, styles ...int) error {
	l.n++
	for i, cell := range cells {
		at, err := excelize.CoordinatesToCellName(i+1, l.n)
		if err != nil {
			return err
		}
		if err := l.book.file.SetCellStr(l.name, at, cell); err != nil {
			return err
		}
		if err := l.book.file.SetCellStyle(l.name, at, at, styles[min(i, len(styles)-1)]); err != nil {
			return err
		}
	}
	return nil
}

type summaryLine struct {
	cells  []string
	answer int // style of the second cell
}

// summary fills in the first sheet: what was compared with what, how many of what, and how
// to answer.
func (b *book) summary(r Review, sheets [][2]string) error {
	const name = first
	h := r.Docket.Header
	l := &sheetLines{book: b, name: name}
	said := func(words string) string { return sheet.Shown(show.Harmless(words)) }
	lines := []summaryLine{
		{[]string{fmt.Sprintf("Docket %d", h.Number)}, b.title},
		{[]string{"from", said(fmt.Sprintf("%s, parcel %s, exported %s by %s", h.Source, h.Parcel, text.When(h.ExportedAt),
			h.ExportedBy))}, b.note},
		{[]string{"to", said(fmt.Sprintf("%s, matched %s by %s", h.Target, text.When(h.MatchedAt), h.MatchedBy))}, b.note},
		{[]string{"around", said(strings.Join(shown.AroundTexts(h), "; "))}, b.note},
		{[]string{"made", said(text.When(r.Made) + " by " + r.By)}, b.note},
		{[]string{shown.SummaryDigest, r.Digest}, b.note},
		{[]string{shown.SummaryBy, ""}, b.answer},
		{nil, b.note},
		{[]string{"how to answer",
			"Fill in the yellow cells: decision in the row of a record decides the record, in the row of a field the field. Where both sides changed something, take says whose value is right. Put your name above, save, and send the file back."}, b.note},
		{nil, b.note},
	}
	if h.Around == nil {
		lines = slices.DeleteFunc(lines, func(line summaryLine) bool { return len(line.cells) > 0 && line.cells[0] == "around" })
	}
	for i, line := range lines {
		label := b.label
		if i == 0 {
			label = b.title
		}
		if err := l.add(line.cells, label, line.answer); err != nil {
			return err
		}
	}
	if err := b.file.SetRowHeight(name, len(lines)-1, 3*lineHeight+3); err != nil {
		return err
	}
	if err := b.counts(l, r.Docket.Types, sheets); err != nil {
		return err
	}
	for column, width := range map[string]float64{"A": 18, "B": 74, "C": 11, "D": 11, "E": 11, "F": 12, "G": 12, "H": 11} {
		if err := b.file.SetColWidth(name, column, column, width); err != nil {
			return err
		}
	}
	if err := b.layout(name); err != nil {
		return err
	}
	return b.file.ProtectSheet(name, &excelize.SheetProtectionOptions{SelectLockedCells: true, SelectUnlockedCells: true})
}

// counts writes how much of what there is, and where.
func (b *book) counts(l *sheetLines, types []docket.Type, sheets [][2]string) error {
	head := []string{"record type", "sheet"}
	for _, status := range match.Statuses() {
		head = append(head, string(status))
	}
	if err := l.add(head, b.head); err != nil {
		return err
	}
	for _, typ := range types {
		cells := []string{typ.Name, ""}
		for _, s := range sheets {
			if s[0] == typ.Name {
				cells[1] = strings.TrimPrefix(cells[1]+", "+s[1], ", ")
			}
		}
		for _, status := range match.Statuses() {
			cells = append(cells, fmt.Sprint(typ.Counts[status]))
		}
		if err := l.add(cells, b.plain); err != nil {
			return err
		}
	}
	return nil
}
