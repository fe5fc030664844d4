package report

import (
	"archive/zip"
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/xuri/excelize/v2"
)

// A workbook with large sheets is put together from workbooks of one such sheet each: the package that
// writes them keeps some of every large sheet in memory until its workbook is complete.

// book is a workbook that is being written, with the styles of its cells.
type book struct {
	file    *excelize.File
	scratch string
	names   map[string]bool
	sheets  []string // files that hold one large sheet each, in order

	head, plain, record, answer, title, label, note, narrow, narrowRecord int
}

func (b *book) styles() error {
	style := func(into *int, s excelize.Style) error {
		s.NumFmt = 49 // text
		if s.Font == nil {
			s.Font = &excelize.Font{}
		}
		s.Font.Family = "Calibri"
		if s.Alignment == nil {
			s.Alignment = &excelize.Alignment{Vertical: "top", WrapText: true}
		}
		var err error
		*into, err = b.file.NewStyle(&s)
		return err
	}
	fill := func(color string) excelize.Fill {
		return excelize.Fill{Type: "pattern", Pattern: 1, Color: []string{color}}
	}
	open := &excelize.Protection{Locked: false}
	thin := []excelize.Border{{Type: "left", Color: "B9C7C2", Style: 1}, {Type: "right", Color: "B9C7C2", Style: 1},
		{Type: "top", Color: "B9C7C2", Style: 1}, {Type: "bottom", Color: "B9C7C2", Style: 1}}
	for _, of := range []struct {
		into *int
		s    excelize.Style
	}{
		{&b.head, excelize.Style{Font: &excelize.Font{Bold: true}, Fill: fill("DDE8E4")}},
		{&b.plain, excelize.Style{}},
		{&b.record, excelize.Style{Fill: fill("F3F6F5")}},
		{&b.narrow, excelize.Style{Alignment: &excelize.Alignment{Vertical: "top"}}},
		{&b.narrowRecord, excelize.Style{Font: &excelize.Font{Bold: true}, Fill: fill("F3F6F5"),
			Alignment: &excelize.Alignment{Vertical: "top"}}},
		{&b.answer, excelize.Style{Fill: fill("FFF8DC"), Border: thin, Protection: open}},
		{&b.title, excelize.Style{Font: &excelize.Font{Bold: true, Size: 14}, Alignment: &excelize.Alignment{Vertical: "top"}}},
		{&b.label, excelize.Style{Font: &excelize.Font{Color: "4A5A55"}}},
		{&b.note, excelize.Style{Alignment: &excelize.Alignment{Vertical: "top", WrapText: true}}},
	} {
		if err := style(of.into, of.s); err != nil {
			return err
		}
	}
	return nil
}

// sheetName makes the name of a sheet: at most 31 signs, and each once whatever its case.
func (b *book) sheetName(typ string) string {
	base := typ
	if len(base) > 27 {
		base = base[:27]
	}
	name := base
	for n := 2; b.names[strings.ToLower(name)]; n++ {
		name = fmt.Sprintf("%s-%d", base, n)
	}
	b.names[strings.ToLower(name)] = true
	return name
}

// first is the name of the first sheet of every workbook, which is the one that is selected: of
// several that are, what is typed into one would go into all of them.
const first = "Summary"

// newBook begins a workbook with its first sheet. Scratch is a folder for what does not fit in
// memory.
func newBook(scratch string) (*book, error) {
	b := &book{file: excelize.NewFile(excelize.Options{TmpDir: scratch}), scratch: scratch}
	err := b.styles()
	if err == nil {
		err = b.file.SetSheetName("Sheet1", first)
	}
	if err != nil {
		b.close()
		return nil, err
	}
	return b, nil
}

// close lets go of a workbook and of what it kept in files; it may be called again.
func (b *book) close() {
	_ = b.file.Close()
	for _, path := range b.sheets {
		_ = os.Remove(path)
	}
	b.sheets = nil
}

// take adds the second sheet of a workbook that is complete. Filtered are its cells with filters, which
// a workbook lists by itself.
func (b *book) take(own *book, name, filtered string) error {
	if _, err := b.file.NewSheet(name); err != nil {
		return err
	}
	if err := b.file.AutoFilter(name, filtered, nil); err != nil {
		return err
	}
	out, err := os.CreateTemp(b.scratch, "sheet-")
	if err != nil {
		return err
	}
	b.sheets = append(b.sheets, out.Name())
	_, err = own.file.WriteTo(out)
	return errors.Join(err, out.Close())
}

// write writes the workbook, with the sheets that were taken as they are.
func (b *book) write(out io.Writer) error {
	var frame bytes.Buffer
	if _, err := b.file.WriteTo(&frame); err != nil {
		return err
	}
	in, err := zip.NewReader(bytes.NewReader(frame.Bytes()), int64(frame.Len()))
	if err != nil {
		return err
	}
	taken := map[string]string{}
	for i, path := range b.sheets {
		taken[sheetFile(i+2)] = path // after the first one, which is the book's own
	}
	z := zip.NewWriter(out)
	for _, entry := range in.File {
		path, ok := taken[entry.Name]
		if !ok {
			err = z.Copy(entry)
		} else {
			delete(taken, entry.Name)
			err = copySheet(z, entry.Name, path)
		}
		if err != nil {
			return err
		}
	}
	if len(taken) > 0 {
		return errors.New("the workbook lacks sheets")
	}
	return z.Close()
}

func sheetFile(n int) string { return fmt.Sprintf("xl/worksheets/sheet%d.xml", n) }

// copySheet copies the second sheet of a workbook in a file.
func copySheet(z *zip.Writer, name, path string) error {
	in, err := zip.OpenReader(path)
	if err != nil {
		return err
	}
	defer in.Close()
	for _, entry := range in.File {
		if entry.Name != sheetFile(2) {
			continue
		}
		packed, err := entry.OpenRaw()
		if err != nil {
			return err
		}
		header := entry.FileHeader
		header.Name = name
		to, err := z.CreateRaw(&header)
		if err == nil {
			_, err = io.Copy(to, packed)
		}
		return err
	}
	return errors.New("the sheet is missing in " + path)
}
