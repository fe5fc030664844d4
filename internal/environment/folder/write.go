package folder

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"iter"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"anagram/internal/environment"
	"anagram/internal/files/safe"
	"anagram/internal/files/sheet"
	"anagram/internal/files/sqlitefile"
)

// work is one unit of work: that of the temporary database, and at its end the files.
type work struct {
	environment.Work
	folder *folder
	lock   *sql.DB
	done   bool
}

func (w *work) release() {
	if !w.done {
		w.done = true
		_ = w.lock.Close()
	}
}

// Rollback leaves the files as they are.
func (w *work) Rollback() error {
	err := w.Work.Rollback()
	w.release()
	return err
}

// Commit writes the files that changed.
func (w *work) Commit(ctx context.Context) error {
	if err := w.Work.Commit(ctx); err != nil {
		return err
	}
	defer w.release()
	f := w.folder
	if err := f.unchanged(); err != nil {
		return err
	}
	db, err := sqlitefile.Open(filepath.Join(f.temporary, "now.db"), sqlitefile.Options{Attach: true})
	if err != nil {
		return err
	}
	defer db.Close()
	db.SetMaxOpenConns(1)
	if _, err := db.ExecContext(ctx, "ATTACH ? AS before", filepath.Join(f.temporary, "before.db")); err != nil {
		return err
	}
	replacement, err := safe.Begin(f.path, ".before-"+time.Now().UTC().Format("20060102-150405.000"))
	if err != nil {
		return f.fail("", err)
	}
	defer replacement.Close()
	var files []string
	for _, t := range f.tables {
		if slices.Contains(files, t.file) {
			continue // another sheet of a workbook that is written already
		}
		changed, err := f.changed(ctx, db, t.file)
		if err != nil {
			return err
		}
		if !changed {
			continue
		}
		files = append(files, t.file)
		if err := f.write(ctx, db, t, replacement); err != nil {
			return f.notWritten(t.file, err)
		}
	}
	if len(files) == 0 {
		return nil
	}
	if err := f.readBack(ctx, db, replacement.Staged(), files); err != nil {
		return err
	}
	if err := replacement.Commit(); err != nil {
		return f.fail("", err)
	}
	return nil
}

// changed reports whether any table of a file has other rows than before.
func (f *folder) changed(ctx context.Context, db *sql.DB, file string) (bool, error) {
	for _, t := range f.tables {
		if t.file != file {
			continue
		}
		n := 0
		name := quote(t.name)
		err := db.QueryRowContext(ctx,
			fmt.Sprintf("SELECT (SELECT count(*) FROM (SELECT rowid, * FROM main.%[1]s EXCEPT SELECT rowid, * FROM before.%[1]s)) + (SELECT count(*) FROM before.%[1]s WHERE rowid NOT IN (SELECT rowid FROM main.%[1]s))", name)).Scan(&n)
		if err != nil || n > 0 {
			return n > 0, err
		}
	}
	return false, nil
}

// said is how a file says what is stored in a column.
func (t *table) said(column int, stored string) string {
	if t.form.kinds[t.columns[column]] == 'b' { // of JSON lines
		return words{as: "true"}.say(stored)
	}
	if column < len(t.form.words) {
		return t.form.words[column].say(stored)
	}
	return stored
}

// rows gives the rows of a table in their order, as its file says their values.
func (t *table) rows(ctx context.Context, db *sql.DB, query string, do func(row int, cells []*string) error) error {
	var names []string
	for _, name := range t.columns {
		names = append(names, quote(name))
	}
	rows, err := db.QueryContext(ctx, strings.ReplaceAll(query, "{columns}", "rowid, "+strings.Join(names, ", ")))
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var n int
		cells := make([]*string, len(t.columns))
		into := []any{&n}
		for i := range cells {
			into = append(into, &cells[i])
		}
		if err := rows.Scan(into...); err != nil {
			return err
		}
		for i, cell := range cells {
			if cell != nil {
				text := t.said(i, *cell)
				cells[i] = &text
			}
		}
		if err := do(n, cells); err != nil {
			return err
		}
	}
	return rows.Err()
}

// write writes a file anew, beside the one that is there.
func (f *folder) write(ctx context.Context, db *sql.DB, t *table, r *safe.Replacement) error {
	out, err := r.Create(t.file)
	if err != nil {
		return err
	}
	defer out.Close()
	if t.sheet != "" {
		return errors.Join(f.writeBook(ctx, db, t.file, out), out.Sync(), out.Close())
	}
	buffered := bufio.NewWriterSize(out, 256<<10)
	in, err := os.Open(filepath.Join(f.path, t.file))
	if err != nil {
		return errors.Join(err, out.Close())
	}
	defer in.Close()
	from := bufio.NewReaderSize(in, 256<<10)
	rows, stop := t.changedRows(ctx, db)
	defer stop()
	if strings.EqualFold(filepath.Ext(t.file), ".csv") {
		err = t.writeCSV(from, rows, buffered)
	} else {
		err = t.writeJSON(from, rows, buffered)
	}
	if err == nil {
		err = buffered.Flush()
	}
	if err == nil {
		err = out.Sync()
	}
	return errors.Join(err, out.Close())
}

// changedRow is a row that is new or other than it was, and what it was.
type changedRow struct {
	row    int
	cells  []*string
	before []*string // nil where it is new
	gone   bool      // it was removed; cells are what it was
}

// changed reports whether a cell of the row is another one.
func (c changedRow) changed(i int) bool {
	if c.before == nil {
		return true
	}
	a, b := c.cells[i], c.before[i]
	return (a == nil) != (b == nil) || a != nil && *a != *b
}

// changedRows gives them in their order; ok is false after the last one.
func (t *table) changedRows(ctx context.Context, db *sql.DB) (next func() (row changedRow, err error, ok bool), stop func()) {
	pull, stop := iter.Pull2(func(yield func(changedRow, error) bool) {
		name := quote(t.name)
		ids := fmt.Sprintf("SELECT rowid FROM (SELECT rowid, * FROM main.%[1]s EXCEPT SELECT rowid, * FROM before.%[1]s)", name)
		gone := goneRows(name)
		// The file has one connection, so what was is read first, a batch at a time.
		last := 0
		for {
			var batch []changedRow
			err := t.rows(ctx, db,
				fmt.Sprintf("SELECT {columns} FROM main.%s WHERE rowid IN (%s) AND rowid > %d ORDER BY rowid LIMIT 500", name,
					ids, last), func(row int, cells []*string) error {
					batch = append(batch, changedRow{row: row, cells: cells})
					return nil
				})
			changed, upTo := len(batch), ""
			if changed == 500 {
				upTo = fmt.Sprintf(" AND rowid <= %d", batch[changed-1].row)
			}
			if err == nil {
				err = t.rows(ctx, db,
					fmt.Sprintf("SELECT {columns} FROM before.%s WHERE rowid IN (%s) AND rowid > %d%s ORDER BY rowid", name,
						gone, last, upTo), func(row int, cells []*string) error {
						batch = append(batch, changedRow{row: row, cells: cells, gone: true})
						return nil
					})
			}
			slices.SortFunc(batch, func(a, b changedRow) int { return a.row - b.row })
			if err == nil && len(batch) > 0 {
				at := map[int]int{}
				for i, c := range batch {
					at[c.row] = i
				}
				err = t.rows(ctx, db, fmt.Sprintf("SELECT {columns} FROM before.%s WHERE rowid >= %d AND rowid <= %d", name,
					batch[0].row, batch[len(batch)-1].row), func(row int, cells []*string) error {
					if i, ok := at[row]; ok {
						batch[i].before = cells
					}
					return nil
				})
			}
			if err != nil {
				yield(changedRow{}, err)
				return
			}
			for _, c := range batch {
				if last = c.row; !yield(c, nil) {
					return
				}
			}
			if changed < 500 {
				return
			}
		}
	})
	return pull, stop
}

// goneRows selects the numbers of rows that were removed.
func goneRows(name string) string {
	return fmt.Sprintf("SELECT rowid FROM before.%[1]s WHERE rowid NOT IN (SELECT rowid FROM main.%[1]s)", name)
}

// writeCSV copies the file byte for byte but for the cells that changed, and adds what is
// new at its end.
func (t *table) writeCSV(from *bufio.Reader, rows func() (changedRow, error, bool), out *bufio.Writer) error {
	if sheet.SkipMark(from) {
		if _, err := out.WriteString("\ufeff"); err != nil {
			return err
		}
	}
	comma := t.form.comma
	r := &csvReader{in: from, comma: comma, cr: t.form.end == "\r"}
	next, err, more := rows()
	last := t.form.end
	for n := 0; ; n++ {
		if err != nil {
			return err
		}
		of, readErr := r.next()
		if errors.Is(readErr, io.EOF) {
			break
		}
		if readErr != nil {
			return readErr
		}
		if of.empty() && (n == 0 || len(t.columns) > 1) {
			n--
		} else if more && n > 0 && next.row == n {
			if next.gone {
				next, err, more = rows()
				continue
			}
			for i := range of.cells {
				if next.changed(i) {
					of.cells[i].raw = quotedCell(sheet.Cell(next.cells[i]), comma)
				}
			}
			next, err, more = rows()
		}
		last = of.end
		if _, writeErr := out.WriteString(of.bytes(comma)); writeErr != nil {
			return writeErr
		}
	}
	for ; more && err == nil; next, err, more = rows() {
		if _, err := out.WriteString(t.newCSV(next, last == "")); err != nil {
			return err
		}
		last = cmp.Or(t.form.end, "\n")
	}
	return err
}

// newCSV writes a new row; after a last line without end it brings one, and has none itself.
func (t *table) newCSV(row changedRow, unended bool) string {
	raw := make([]string, len(row.cells))
	for i, cell := range row.cells {
		raw[i] = quotedCell(sheet.Cell(cell), t.form.comma)
	}
	line, end := strings.Join(raw, string(t.form.comma)), cmp.Or(t.form.end, "\n")
	if line == "" { // one empty cell alone would be no record
		line = `""`
	}
	if unended {
		return end + line + end
	}
	return line + end
}

// writeJSON copies the file byte for byte but for the members that changed, and adds what
// is new at its end.
func (t *table) writeJSON(from *bufio.Reader, rows func() (changedRow, error, bool), out *bufio.Writer) error {
	next, err, more := rows()
	end := "\n"
	for n := 1; err == nil; n++ {
		line, readErr := readLine(from)
		if errors.Is(readErr, io.EOF) {
			break
		}
		if readErr != nil {
			return readErr
		}
		if end = ""; bytes.HasSuffix(line, []byte("\n")) {
			end = "\n"
		}
		if more && next.row == n {
			if next.gone {
				next, err, more = rows()
				end = "\n"
				continue
			}
			if line, err = t.changedLine(line, next); err != nil {
				return err
			}
			next, err, more = rows()
		}
		if _, writeErr := out.Write(line); writeErr != nil {
			return writeErr
		}
	}
	for ; more && err == nil; next, err, more = rows() {
		line := []byte{'{'}
		for i, name := range t.columns {
			if next.cells[i] == nil && !t.form.full[name] {
				continue // not there is null here
			}
			if len(line) > 1 {
				line = append(line, ',')
			}
			key, _ := json.Marshal(name)
			line = append(append(append(line, key...), ':'), t.jsonValue(name, next.cells[i], 0)...)
		}
		line = append(line, '}', '\n')
		if end == "" {
			line, end = append([]byte{'\n'}, line...), "\n"
		}
		if _, err := out.Write(line); err != nil {
			return err
		}
	}
	return err
}

// changedLine puts the values that changed into an object.
func (t *table) changedLine(line []byte, row changedRow) ([]byte, error) {
	all, err := members(line)
	if err != nil {
		return nil, err
	}
	type edit struct {
		start, end int
		text       []byte
	}
	var edits []edit
	var added []byte
	for i, name := range t.columns {
		if !row.changed(i) {
			continue
		}
		m, there := named(all, name)
		if there {
			edits = append(edits, edit{m.start, m.end, t.jsonValue(name, row.cells[i], line[m.start])})
			continue
		}
		if row.cells[i] == nil {
			continue
		}
		key, _ := json.Marshal(name)
		if len(all) > 0 || len(added) > 0 {
			added = append(added, ',')
		}
		added = append(append(append(added, key...), ':'), t.jsonValue(name, row.cells[i], 0)...)
	}
	if len(added) > 0 {
		at := bytes.LastIndexByte(line, '}')
		edits = append(edits, edit{at, at, added})
	}
	slices.SortFunc(edits, func(a, b edit) int { return cmp.Compare(a.start, b.start) })
	var out []byte
	at := 0
	for _, e := range edits {
		out = append(append(out, line[at:e.start]...), e.text...)
		at = e.end
	}
	return append(out, line[at:]...), nil
}

// jsonValue writes a cell as the value before it was, a text as a text; where that says
// nothing, as the others of its column are.
func (t *table) jsonValue(name string, cell *string, was byte) []byte {
	if cell == nil {
		return []byte("null")
	}
	text, _ := json.Marshal(*cell)
	kind := t.form.kinds[name]
	switch {
	case was == '"', kind == 0, !json.Valid([]byte(*cell)):
		return text
	}
	return []byte(*cell)
}
