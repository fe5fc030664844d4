package folder

import (
	"bufio"
	"context"
	"database/sql"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/xuri/excelize/v2"

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
	db, err := sqlitefile.Open(filepath.Join(f.temporary, "now.db"), sqlitefile.Options{})
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
		return err
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
			return f.fail(t.file, err)
		}
	}
	if len(files) == 0 {
		return nil
	}
	return replacement.Commit()
}

// changed reports whether any table of a file has other rows than before.
func (f *folder) changed(ctx context.Context, db *sql.DB, file string) (bool, error) {
	for _, t := range f.tables {
		if t.file != file {
			continue
		}
		n := 0
		name := quote(t.name)
		err := db.QueryRowContext(ctx, fmt.Sprintf("SELECT count(*) FROM (SELECT rowid, * FROM main.%[1]s EXCEPT SELECT rowid, * FROM before.%[1]s)", name)).Scan(&n)
		if err != nil || n > 0 {
			return n > 0, err
		}
	}
	return false, nil
}

// rows gives the rows of a table in their order.
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
	all := fmt.Sprintf("SELECT {columns} FROM main.%s ORDER BY rowid", quote(t.name))
	if strings.EqualFold(filepath.Ext(t.file), ".csv") {
		err = t.writeCSV(ctx, db, all, buffered)
	} else {
		err = t.writeJSON(ctx, db, all, buffered)
	}
	if err == nil {
		err = buffered.Flush()
	}
	if err == nil {
		err = out.Sync()
	}
	return errors.Join(err, out.Close())
}

func (t *table) writeCSV(ctx context.Context, db *sql.DB, all string, out io.Writer) error {
	if t.form.mark {
		if _, err := io.WriteString(out, "\ufeff"); err != nil {
			return err
		}
	}
	w := csv.NewWriter(out)
	w.Comma, w.UseCRLF = t.form.comma, t.form.crlf
	if err := w.Write(t.columns); err != nil {
		return err
	}
	if err := t.rows(ctx, db, all, func(_ int, cells []*string) error {
		row := make([]string, len(cells))
		for i, cell := range cells {
			row[i] = sheet.Cell(cell)
		}
		return w.Write(row)
	}); err != nil {
		return err
	}
	w.Flush()
	return w.Error()
}

func (t *table) writeJSON(ctx context.Context, db *sql.DB, all string, out io.Writer) error {
	return t.rows(ctx, db, all, func(_ int, cells []*string) error {
		line := []byte{'{'}
		for i, name := range t.columns {
			if i > 0 {
				line = append(line, ',')
			}
			key, _ := json.Marshal(name)
			line = append(append(line, key...), ':')
			value := []byte("null")
			if cells[i] != nil {
				value, _ = json.Marshal(*cells[i])
				if kind := t.form.kinds[name]; kind != 0 && json.Valid([]byte(*cells[i])) {
					value = []byte(*cells[i])
					if kind == 'b' && (*cells[i] == "1" || *cells[i] == "0") {
						value = map[string][]byte{"1": []byte("true"), "0": []byte("false")}[*cells[i]]
					}
				}
			}
			line = append(line, value...)
		}
		_, err := out.Write(append(line, '}', '\n'))
		return err
	})
}

// writeBook changes the cells of a workbook that changed; everything else in it stays.
func (f *folder) writeBook(ctx context.Context, db *sql.DB, file string, out io.Writer) error {
	book, err := excelize.OpenFile(filepath.Join(f.path, file), sheet.BookOptions)
	if err != nil {
		return err
	}
	defer book.Close()
	for _, t := range f.tables {
		if t.file != file {
			continue
		}
		name := quote(t.name)
		changed := fmt.Sprintf("SELECT {columns} FROM main.%[1]s WHERE rowid IN (SELECT rowid FROM (SELECT rowid, * FROM main.%[1]s EXCEPT SELECT rowid, * FROM before.%[1]s)) ORDER BY rowid", name)
		if err := t.rows(ctx, db, changed, func(row int, cells []*string) error {
			for i, cell := range cells {
				at, err := excelize.CoordinatesToCellName(i+1, row)
				if err != nil {
					return err
				}
				have, err := book.GetCellValue(t.sheet, at, excelize.Options{RawCellValue: true})
				if err != nil {
					return err
				}
				if have == sheet.Cell(cell) {
					continue
				}
				if err := book.SetCellStr(t.sheet, at, sheet.Cell(cell)); err != nil {
					return err
				}
			}
			return nil
		}); err != nil {
			return err
		}
	}
	_, err = book.WriteTo(out)
	return err
}
