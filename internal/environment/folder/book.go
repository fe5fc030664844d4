package folder

import (
	"context"
	"database/sql"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"github.com/xuri/excelize/v2"

	"anagram/internal/files/sheet"
)

// cellForm is what the cells of a column of a sheet have in common.
func (t *table) cellForm(column int) sheet.Form {
	if column < len(t.form.cells) {
		return t.form.cells[column]
	}
	return sheet.Form{}
}

// writeBook changes the cells of a workbook that changed; everything else in it stays.
func (f *folder) writeBook(ctx context.Context, db *sql.DB, file string, out io.Writer) error {
	in, err := os.Open(filepath.Join(f.path, file))
	if err != nil {
		return err
	}
	defer in.Close()
	book, err := sheet.OpenBook(in)
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
		moves := 0
		if err := db.QueryRowContext(ctx, fmt.Sprintf("SELECT (SELECT count(*) FROM main.%s WHERE rowid > %d) + (SELECT count(*) FROM (%s))",
			name, t.form.last, goneRows(name))).Scan(&moves); err != nil {
			return err
		}
		if moves > 0 {
			if err := book.Extend(t.sheet, 0, 0); err != nil { // refused before anything is changed
				return err
			}
		}
		added := t.form.last
		if err := t.rows(ctx, db, changed, func(row int, cells []*string) error {
			added = max(added, row)
			for i, cell := range cells {
				at, err := excelize.CoordinatesToCellName(i+1, row)
				if err != nil {
					return err
				}
				have, err := book.Cell(t.sheet, at)
				if err != nil {
					return err
				}
				if have == sheet.Cell(cell) {
					continue
				}
				if err := book.Set(t.sheet, at, sheet.Cell(cell), t.cellForm(i)); err != nil {
					return err
				}
			}
			return nil
		}); err != nil {
			return err
		}
		if added > t.form.last {
			if err := book.Extend(t.sheet, t.form.last, added); err != nil {
				return err
			}
		}
		// From the last one up, as those below move when one goes.
		if err := t.rows(ctx, db, fmt.Sprintf("SELECT {columns} FROM before.%s WHERE rowid IN (%s) ORDER BY rowid DESC", name,
			goneRows(name)), func(row int, _ []*string) error {
			return book.Remove(t.sheet, row)
		}); err != nil {
			return err
		}
	}
	_, err = book.WriteTo(out)
	return err
}
