package sheet

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"

	"github.com/xuri/excelize/v2"

	"anagram/internal/core/limit"
)

// RowError is a row that cannot be read.
type RowError struct {
	Row   int // from 1, the first is that of the names; of a CSV file its line
	Cause error
}

func (e *RowError) Error() string { return fmt.Sprintf("row %d: %v", e.Row, e.Cause) }

// Unwrap gives the cause.
func (e *RowError) Unwrap() error { return e.Cause }

// ReadCSV gives each row of a CSV file (RFC 4180, UTF-8, with or without a byte order
// mark, separated as Separator tells) and its line. Empty lines are passed over.
func ReadCSV(in io.Reader, row func(line int, cells []string) error) error {
	bounded := &rowBound{in: in, left: limit.Line}
	buffered := bufio.NewReaderSize(bounded, 64<<10)
	SkipMark(buffered)
	r := csv.NewReader(buffered)
	r.FieldsPerRecord = -1
	head, _ := buffered.Peek(buffered.Size())
	r.Comma = rune(Separator(head))
	for {
		cells, err := r.Read()
		bounded.left = limit.Line // the next row may be as long again
		if errors.Is(err, io.EOF) {
			return nil
		}
		line := 0
		if err == nil {
			line, _ = r.FieldPos(0)
			err = row(line, cells)
		}
		if err != nil {
			var parse *csv.ParseError
			if errors.As(err, &parse) {
				line, err = parse.StartLine, parse.Err // an open quote may run far
			}
			return &RowError{line, err}
		}
	}
}

// Separator tells what the cells of a CSV file are separated by, from how it begins: a
// semicolon or a tab where its first line has no comma, as spreadsheet programs write it in
// many countries.
func Separator(head []byte) byte {
	if end := bytes.IndexAny(head, "\r\n"); end >= 0 {
		head = head[:end]
	}
	out := byte(',')
	for _, other := range ";\t" {
		if !bytes.ContainsRune(head, ',') && bytes.ContainsRune(head, other) {
			out = byte(other)
		}
	}
	return out
}

// rowBound reads so much at most for one row: an open quote may run through gigabytes.
type rowBound struct {
	in   io.Reader
	left int
}

func (b *rowBound) Read(p []byte) (int, error) {
	if b.left <= 0 {
		return 0, fmt.Errorf("a row has more than %d MiB", limit.Line>>20)
	}
	n, err := b.in.Read(p)
	b.left -= n
	return n, err
}

// SkipMark passes over a byte order mark and reports whether there was one.
func SkipMark(in *bufio.Reader) bool {
	mark, err := in.Peek(3)
	if err != nil || string(mark) != "\ufeff" {
		return false
	}
	_, _ = in.Discard(3)
	return true
}

// ReadXLSX gives each row of the first sheet of a workbook.
func ReadXLSX(in io.Reader, row func(number int, cells []string) error) error {
	book, err := OpenBook(in)
	if err != nil {
		return err
	}
	defer book.Close()
	return book.Rows(book.Sheets()[0], row)
}

// Book is a workbook that is read.
type Book struct {
	file     *excelize.File
	styles   map[int]shown
	forms    map[string][]Form // by sheet
	from1904 bool
}

// BookOptions bound what a workbook may unfold to: more is no table made by hand.
var BookOptions = excelize.Options{UnzipSizeLimit: limit.Book, UnzipXMLSizeLimit: limit.BookPart, RawCellValue: true}

// OpenBook opens a workbook in XLSX form.
func OpenBook(in io.Reader) (*Book, error) {
	file, err := excelize.OpenReader(in, BookOptions)
	if err != nil {
		return nil, fmt.Errorf("it is no spreadsheet in XLSX form: %w", err)
	}
	props, err := file.GetWorkbookProps()
	if err != nil {
		_ = file.Close()
		return nil, err
	}
	return &Book{file: file, styles: map[int]shown{}, forms: map[string][]Form{}, from1904: props.Date1904 != nil && *props.Date1904}, nil
}

// Sheets lists the names of the sheets.
func (b *Book) Sheets() []string { return b.file.GetSheetList() }

// Days gives the first and the last day that a cell for dates holds.
func (b *Book) Days() [2]string {
	first, last := dateRange(b.from1904)
	return [2]string{first, last}
}

// Close closes the workbook.
func (b *Book) Close() error { return b.file.Close() }

// Rows gives each row of a sheet that has cells, as the person sees them. The error is a
// *RowError where it is about one.
func (b *Book) Rows(name string, row func(number int, cells []string) error) error {
	return b.Texts(name, func(n int, cells []string) error {
		for i := range cells {
			at, err := excelize.CoordinatesToCellName(i+1, n)
			if err == nil {
				var as shown
				if cells[i], as, err = b.text(name, at, cells[i]); err == nil && n > 1 && as != asNothing {
					err = b.note(name, i, as, at)
				}
			}
			if err != nil {
				return err
			}
		}
		return row(n, cells)
	})
}

// Texts is Rows with the cells as they are stored, in memory that does not grow with the sheet:
// for tables all of whose cells are texts.
func (b *Book) Texts(name string, row func(number int, cells []string) error) error {
	rows, err := b.file.Rows(name)
	if err != nil {
		return err
	}
	defer rows.Close()
	for n := 1; rows.Next(); n++ {
		cells, err := rows.Columns(excelize.Options{RawCellValue: true})
		if err == nil && len(cells) > 0 {
			err = row(n, cells)
		}
		if err != nil {
			return &RowError{Row: n, Cause: err}
		}
	}
	return rows.Error()
}

// Writer takes rows.
type Writer interface {
	Row(cells []string) error
	// Close writes what is left; the stream below stays open.
	Close() error
}

// WriteTo writes the workbook as it is now.
func (b *Book) WriteTo(out io.Writer) (int64, error) { return b.file.WriteTo(out) }

// NewCSV writes a CSV file.
func NewCSV(out io.Writer) Writer { return csvWriter{csv.NewWriter(out)} }

type csvWriter struct{ *csv.Writer }

func (w csvWriter) Row(cells []string) error {
	if len(cells) == 1 && cells[0] == "" { // a lone null would be an empty line, which is no row
		w.Flush()
		return errors.New("a row of one empty cell cannot be written as CSV")
	}
	return w.Write(cells)
}

func (w csvWriter) Close() error {
	w.Flush()
	return w.Error()
}

// NewXLSX writes a workbook with one sheet, whose cells are all texts and whose first row
// stays in sight.
func NewXLSX(out io.Writer, name string) (Writer, error) {
	book := excelize.NewFile()
	if len(name) > 31 {
		name = name[:31]
	}
	if err := book.SetSheetName("Sheet1", name); err != nil {
		return nil, err
	}
	text, err := book.NewStyle(&excelize.Style{NumFmt: 49, Alignment: &excelize.Alignment{Vertical: "top"}})
	if err != nil {
		return nil, err
	}
	head, err := book.NewStyle(&excelize.Style{NumFmt: 49, Font: &excelize.Font{Bold: true},
		Fill: excelize.Fill{Type: "pattern", Pattern: 1, Color: []string{"DDE8E4"}}})
	if err != nil {
		return nil, err
	}
	stream, err := book.NewStreamWriter(name)
	if err != nil {
		return nil, err
	}
	if err := stream.SetPanes(&excelize.Panes{Freeze: true, YSplit: 1, TopLeftCell: "A2", ActivePane: "bottomLeft"}); err != nil {
		return nil, err
	}
	if err := stream.SetColWidth(1, 60, 18); err != nil {
		return nil, err
	}
	return &xlsxWriter{book: book, stream: stream, out: out, text: text, head: head}, nil
}

type xlsxWriter struct {
	book       *excelize.File
	stream     *excelize.StreamWriter
	out        io.Writer
	text, head int
	rows       int
}

func (w *xlsxWriter) Row(cells []string) error {
	w.rows++
	style := w.text
	if w.rows == 1 {
		style = w.head
	}
	values := make([]any, len(cells))
	for i, cell := range cells {
		if n := Units(cell); n > MaxCell {
			return fmt.Errorf("a value of %d characters does not fit into a cell of a spreadsheet; use CSV", n)
		}
		if cell != "" {
			values[i] = excelize.Cell{StyleID: style, Value: cell}
		}
	}
	at, err := excelize.CoordinatesToCellName(1, w.rows)
	if err != nil {
		return err
	}
	return w.stream.SetRow(at, values)
}

func (w *xlsxWriter) Close() error {
	defer w.book.Close()
	if err := w.stream.Flush(); err != nil {
		return err
	}
	_, err := w.book.WriteTo(w.out)
	return err
}
