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
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/xuri/excelize/v2"

	"anagram/internal/environment"
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
	var files []string
	defer func() {
		for _, file := range files {
			_ = os.Remove(filepath.Join(f.path, fresh(file)))
		}
	}()
	db, err := sql.Open("sqlite", filepath.Join(f.temporary, "now.db"))
	if err != nil {
		return err
	}
	defer db.Close()
	db.SetMaxOpenConns(1)
	if _, err := db.ExecContext(ctx, "ATTACH ? AS before", filepath.Join(f.temporary, "before.db")); err != nil {
		return err
	}
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
		if err := f.write(ctx, db, t); err != nil {
			return f.fail(t.file, err)
		}
	}
	if len(files) == 0 {
		return nil
	}
	return f.replace(files)
}

// fresh is the name under which a file is written before it takes its place.
func fresh(file string) string { return ".anagram-new-" + file }

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
func (f *folder) write(ctx context.Context, db *sql.DB, t *table) error {
	path := filepath.Join(f.path, fresh(t.file))
	if t.sheet != "" {
		return f.writeBook(ctx, db, t.file, path)
	}
	mode := os.FileMode(0o644)
	if info, err := os.Stat(filepath.Join(f.path, t.file)); err == nil {
		mode = info.Mode().Perm()
	}
	out, err := os.OpenFile(path, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, mode)
	if err != nil {
		return err
	}
	defer out.Close()
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
			row[i] = cellText(cell)
		}
		return w.Write(row)
	}); err != nil {
		return err
	}
	w.Flush()
	return w.Error()
}

// cellText writes null as nothing, and a text that would be read otherwise as JSON.
func cellText(cell *string) string {
	switch {
	case cell == nil:
		return ""
	case *cell == "" || strings.HasPrefix(*cell, `"`) || strings.Contains(*cell, "\r"):
		quoted, _ := json.Marshal(*cell)
		return string(quoted)
	default:
		return *cell
	}
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
func (f *folder) writeBook(ctx context.Context, db *sql.DB, file, path string) error {
	book, err := excelize.OpenFile(filepath.Join(f.path, file), bookOptions)
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
				if have == cellText(cell) {
					continue
				}
				if err := book.SetCellStr(t.sheet, at, cellText(cell)); err != nil {
					return err
				}
			}
			return nil
		}); err != nil {
			return err
		}
	}
	return book.SaveAs(path)
}

// replacing is the note that says which files are about to be replaced.
type replacing struct {
	Files  []string `json:"files"`
	Suffix string   `json:"suffix"`
}

const replacingName = ".anagram-replacing"

// replace puts new files in the place of the old ones, which are kept. The note makes
// sure that an interruption in the middle is made good.
func (f *folder) replace(files []string) error {
	note := replacing{Files: files, Suffix: ".before-" + time.Now().UTC().Format("20060102-150405.000")}
	text, err := json.Marshal(note)
	if err != nil {
		return err
	}
	path := filepath.Join(f.path, replacingName)
	if err := writeSynced(path+"-new", text); err != nil {
		return err
	}
	if err := os.Rename(path+"-new", path); err != nil {
		return err
	}
	return f.finishReplacing()
}

func writeSynced(path string, text []byte) error {
	out, err := os.OpenFile(path, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	defer out.Close()
	if _, err := out.Write(text); err != nil {
		return err
	}
	return out.Sync()
}

// finishReplacing carries out what the note says, where there is one.
func (f *folder) finishReplacing() error {
	path := filepath.Join(f.path, replacingName)
	text, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	var note replacing
	if err := json.Unmarshal(text, &note); err != nil {
		return &environment.Error{Environment: f.name, Message: fmt.Sprintf("%s is damaged: %v.", path, err), Mend: "Look at the files of the folder whose names begin with .anagram-new-, bring them into place by hand, and remove it.", Cause: err}
	}
	for _, file := range note.Files {
		if filepath.Base(file) != file {
			return &environment.Error{Environment: f.name, Message: fmt.Sprintf("%s names a file outside the folder.", path), Mend: "Remove it."}
		}
		from, to := filepath.Join(f.path, fresh(file)), filepath.Join(f.path, file)
		if _, err := os.Stat(from); errors.Is(err, fs.ErrNotExist) {
			continue // it is in its place already
		}
		if err := os.Link(to, to+note.Suffix); err != nil && !errors.Is(err, fs.ErrExist) {
			return err
		}
		if err := os.Rename(from, to); err != nil {
			return err
		}
	}
	return os.Remove(path)
}
