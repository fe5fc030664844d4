package folder

import (
	"bufio"
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"anagram/internal/core/catalog"
	"anagram/internal/core/limit"
	"anagram/internal/files/sheet"
)

func (f *folder) loadFile(ctx context.Context, tx *sql.Tx, file, form string) error {
	in, err := os.Open(filepath.Join(f.path, file))
	if err != nil {
		return err
	}
	defer in.Close()
	name := strings.TrimSuffix(file, filepath.Ext(file))
	switch form {
	case ".csv":
		return f.loadCSV(ctx, tx, &table{name: name, file: file}, in)
	case ".jsonl":
		return f.loadJSON(ctx, tx, &table{name: name, file: file, form: fileForm{kinds: map[string]byte{}}}, in)
	default:
		return f.loadBook(ctx, tx, name, file, in)
	}
}

func (f *folder) loadCSV(ctx context.Context, tx *sql.Tx, t *table, in io.Reader) error {
	buffered := bufio.NewReaderSize(in, 256<<10)
	t.form.mark = sheet.SkipMark(buffered)
	head, err := buffered.Peek(4096)
	if err != nil && !errors.Is(err, io.EOF) && !errors.Is(err, bufio.ErrBufferFull) {
		return err
	}
	t.form.of(head)
	r := &csvReader{in: buffered, comma: t.form.comma, cr: t.form.end == "\r"}
	var l *loader
	for n := 0; ; n++ {
		of, err := r.next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err == nil {
			err = ctx.Err()
		}
		if err != nil {
			return err
		}
		if of.empty() && (l == nil || len(t.columns) > 1) {
			n--
			continue
		}
		cells := make([]string, len(of.cells))
		for i, cell := range of.cells {
			cells[i] = cell.text
		}
		if l == nil {
			t.columns = cells
			if l, err = f.begin(tx, t); err != nil {
				return err
			}
			continue
		}
		if err := l.addCells(n, cells); err != nil {
			return fmt.Errorf("line %d: %w", of.line, err)
		}
	}
	if l == nil {
		return errors.New("it is empty; the first line names the columns")
	}
	t.form.words = l.words
	return nil
}

// of tells the form of a CSV file by how it begins.
func (f *fileForm) of(head []byte) {
	end := bytes.IndexAny(head, "\r\n")
	if end >= 0 {
		f.end = string(head[end])
		if head[end] == '\r' && end+1 < len(head) && head[end+1] == '\n' {
			f.end = "\r\n"
		}
	}
	f.comma = sheet.Separator(head)
}

// addCells adds a row of cells. One that begins with a quote and is no JSON text is taken as
// it is: the application that wrote it need not know the rule.
func (l *loader) addCells(row int, cells []string) error {
	values := make([]any, len(l.t.columns))
	for i := range values {
		if i >= len(cells) {
			continue
		}
		text, err := sheet.Text(cells[i])
		switch {
		case err != nil:
			values[i] = cells[i]
		case text != nil:
			values[i] = *text
		}
		if text, ok := values[i].(string); ok {
			l.words[i] = l.words[i].with(text)
		}
	}
	return l.add(row, values)
}

const maxLine = limit.Line

func (f *folder) loadJSON(ctx context.Context, tx *sql.Tx, t *table, in io.ReadSeeker) error {
	// The columns are those of all lines, so the file is read twice.
	each := func(do func(line int, object map[string]json.RawMessage) error) error {
		if _, err := in.Seek(0, io.SeekStart); err != nil {
			return err
		}
		lines := bufio.NewScanner(in)
		lines.Buffer(nil, maxLine)
		for n := 1; lines.Scan(); n++ {
			if len(bytes.TrimSpace(lines.Bytes())) == 0 {
				continue
			}
			object := map[string]json.RawMessage{}
			all, err := members(lines.Bytes())
			for _, m := range all {
				object[m.name] = slices.Clone(lines.Bytes()[m.start:m.end])
			}
			if err == nil {
				err = ctx.Err()
			}
			if err == nil {
				err = do(n, object)
			}
			if err != nil {
				return fmt.Errorf("line %d: %w", n, err)
			}
		}
		return lines.Err()
	}
	total, counts := 0, map[string]int{}
	if err := each(func(_ int, object map[string]json.RawMessage) error {
		total++
		for name := range object {
			counts[name]++
			if !slices.Contains(t.columns, name) {
				t.columns = append(t.columns, name)
			}
		}
		return nil
	}); err != nil {
		return err
	}
	slices.Sort(t.columns)
	t.form.full = map[string]bool{}
	for name, n := range counts {
		t.form.full[name] = n == total
	}
	l, err := f.begin(tx, t)
	if err != nil {
		return err
	}
	return each(func(line int, object map[string]json.RawMessage) error {
		values := make([]any, len(t.columns))
		for i, name := range t.columns {
			raw := bytes.TrimSpace(object[name])
			if len(raw) == 0 || string(raw) == "null" {
				continue
			}
			switch raw[0] {
			case '"':
				var text string
				if err := json.Unmarshal(raw, &text); err != nil {
					return err
				}
				values[i] = text
			case 't', 'f':
				t.form.kinds[name], values[i] = 'b', string(raw)
			case '{', '[':
				t.form.kinds[name], values[i] = 'j', string(raw)
			default:
				t.form.kinds[name], values[i] = 'n', string(raw)
			}
		}
		return l.add(line, values)
	})
}

func (f *folder) loadBook(ctx context.Context, tx *sql.Tx, name, file string, in io.Reader) error {
	book, err := sheet.OpenBook(in)
	if err != nil {
		return err
	}
	defer book.Close()
	sheets := book.Sheets()
	for _, title := range sheets {
		t := &table{name: name, file: file, sheet: title, form: fileForm{days: book.Days()}}
		if len(sheets) > 1 {
			t.name = name + "/" + title
		}
		err := f.loadSheet(ctx, tx, t, book)
		var ours scratchError
		if ctx.Err() != nil || errors.As(err, &ours) {
			return err
		}
		if err != nil { // the others are tables all the same
			f.breaks(t.name, file, err)
			if err := f.forget(tx, func(o *table) bool { return o == t }); err != nil {
				return err
			}
		}
	}
	return nil
}

// errNoTable is a sheet whose first row has no names.
var errNoTable = errors.New("the sheet is no table")

func (f *folder) loadSheet(ctx context.Context, tx *sql.Tx, t *table, book *sheet.Book) error {
	totals, err := book.Totals(t.sheet)
	if err != nil {
		return fmt.Errorf("sheet %s: %w", t.sheet, err)
	}
	var l *loader
	err = book.Rows(t.sheet, func(n int, cells []string) (err error) {
		switch {
		case ctx.Err() != nil:
			return ctx.Err()
		case l == nil && n > 1:
			return errNoTable
		case l == nil:
			t.columns = cells
			l, err = f.begin(tx, t)
			return err
		case strings.Join(cells, "") == "" || totals[n]:
			return nil
		}
		t.form.last = n
		return l.addCells(n, cells)
	})
	if errors.Is(err, errNoTable) || ctx.Err() != nil {
		return ctx.Err()
	}
	if err != nil {
		return fmt.Errorf("sheet %s: %w", t.sheet, err)
	}
	if l != nil {
		t.form.cells, t.form.words = book.Forms(t.sheet), l.words
	}
	return nil
}

// limits says what cells hold.
func (t *table) limits(columns []catalog.Column) {
	for i := range columns {
		c := &columns[i]
		c.Limits.Units = sheet.MaxCell
		at := slices.Index(t.columns, c.Name)
		if at < 0 || at >= len(t.form.cells) {
			continue
		}
		switch of := t.form.cells[at]; {
		case of.Dates():
			c.Limits.FirstDay, c.Limits.LastDay = t.form.days[0], t.form.days[1]
		case of.Numbers():
			c.Limits.Significant = 15
		}
	}
}
