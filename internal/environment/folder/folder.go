// Package folder makes an environment of a folder of CSV, JSON Lines and XLSX files, for
// applications that only give and take files.
//
// The contract: each file is a place named after it, each sheet of a workbook with
// several is BOOK/SHEET. Opening reads the files into a temporary database, which answers
// everything that is asked. A commit writes the files that changed anew, all of them or,
// after an interruption, the rest when the folder is opened next; what was there is kept
// beside them as NAME.before-TIME. Files that somebody changed in between are not
// overwritten. In cells the rule is that of package sheet: an empty cell is null, "" in
// quotes is the empty text.
package folder

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"anagram/internal/core/limit"
	"anagram/internal/environment"
	"anagram/internal/environment/sqldb/sqlite"
	"anagram/internal/files/safe"
	"anagram/internal/files/sheet"
	"anagram/internal/files/sqlitefile"
)

// table is one place: a file, or a sheet of a workbook.
type table struct {
	name    string
	file    string // base name
	sheet   string // of a workbook
	columns []string
	form    fileForm
}

// fileForm is what is kept of a file's form when it is written again.
type fileForm struct {
	comma byte            // of a CSV file
	end   string          // how its lines end
	mark  bool            // it begins with a byte order mark
	full  map[string]bool // of JSON lines: members that every object has
	kinds map[string]byte // of JSON lines, by column: n number, b boolean, j other than text
	cells []sheet.Form    // of a sheet: what the cells of each column have in common
	words []words         // of CSV files and sheets: how each column says yes and no
	last  int             // of a sheet: its last row that holds anything
	days  [2]string       // of a workbook: the first and the last day that a cell for dates holds
}

// state is how a file was when it was read.
type state struct {
	size     int64
	modified time.Time
}

type folder struct {
	environment.Environment
	name, path string
	temporary  string
	tables     []*table
	states     map[string]state
	broken     map[string]string // places that cannot be read, and why
}

// Open reads a folder.
func Open(ctx context.Context, name, path string, readOnly bool) (environment.Environment, error) {
	f := &folder{name: name, path: path, states: map[string]state{}, broken: map[string]string{}}
	info, err := os.Stat(path)
	if err != nil || !info.IsDir() {
		return nil, &environment.Error{Environment: name, Message: fmt.Sprintf("there is no folder %s.", path),
			Mend: environment.MendAddress, Cause: err}
	}
	if err := f.finishReplacing(readOnly); err != nil {
		return nil, err
	}
	if f.temporary, err = os.MkdirTemp("", "anagram-folder-"); err != nil {
		return nil, err
	}
	if err := f.load(ctx); err != nil {
		_ = os.RemoveAll(f.temporary)
		return nil, err
	}
	if f.Environment, err = sqlite.OpenTables(ctx, name, filepath.Join(f.temporary, "now.db"), readOnly); err != nil {
		_ = os.RemoveAll(f.temporary)
		return nil, err
	}
	return f, nil
}

// finishReplacing makes good an import that was interrupted while the files were being put
// into their places. Who only reads leaves that to the next import.
func (f *folder) finishReplacing(readOnly bool) error {
	if !safe.Pending(f.path) {
		return nil
	}
	if readOnly {
		return &environment.Error{Environment: f.name,
			Message: fmt.Sprintf("an import into %s was interrupted while it put the files into their places.", f.path),
			Mend:    "Import that docket again: that puts the rest into place first."}
	}
	err := safe.Finish(f.path, func(name string) bool {
		return filepath.Base(name) == name && !strings.HasPrefix(name, ".") && slices.Contains(forms, strings.ToLower(filepath.Ext(name)))
	})
	var bad *safe.Error
	if errors.As(err, &bad) {
		return &environment.Error{Environment: f.name, Message: bad.Error() + ".",
			Mend: "Look at the files below .anagram-new in that folder, bring into place by hand what is wanted, and remove the note.", Cause: err}
	}
	return err
}

// forms are the endings of files that are read.
var forms = []string{".csv", ".jsonl", ".xlsx"}

func (f *folder) fail(file string, err error) error {
	if err := f.noRoom(err); err != nil {
		return err
	}
	return &environment.Error{Environment: f.name, Message: fmt.Sprintf("%s: %v.", filepath.Join(f.path, file), err),
		Mend: "Correct the file and try again.", Cause: err}
}

// load reads all files into a database, and keeps a copy to tell later what changed.
func (f *folder) load(ctx context.Context) error {
	entries, err := os.ReadDir(f.path)
	if err != nil {
		return &environment.Error{Environment: f.name, Message: fmt.Sprintf("%s cannot be read: %v.", f.path, err), Cause: err}
	}
	db, err := sqlitefile.Open(filepath.Join(f.temporary, "now.db"), sqlitefile.Options{Create: true, Attach: true})
	if err != nil {
		return err
	}
	defer db.Close()
	db.SetMaxOpenConns(1)
	tx, err := db.BeginTx(context.WithoutCancel(ctx), nil)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }()
	for _, entry := range entries {
		if err := f.loadEntry(ctx, tx, entry); err != nil {
			return err
		}
	}
	if err := tx.Commit(); err != nil {
		return f.scratch(err)
	}
	if _, err = db.ExecContext(ctx, "VACUUM INTO ?", filepath.Join(f.temporary, "before.db")); err != nil {
		return f.scratch(err)
	}
	return nil
}

// loadEntry reads a file, if it is one to read. One that cannot be read is kept as a place that
// is broken: those who do not ask for it go on.
func (f *folder) loadEntry(ctx context.Context, tx *sql.Tx, entry fs.DirEntry) error {
	file := entry.Name()
	form := strings.ToLower(filepath.Ext(file))
	if entry.IsDir() || strings.HasPrefix(file, ".") || strings.HasPrefix(file, "~") || !slices.Contains(forms, form) {
		return nil
	}
	info, err := entry.Info()
	if err != nil {
		return err
	}
	place := strings.TrimSuffix(file, filepath.Ext(file))
	if !info.Mode().IsRegular() {
		f.breaks(place, file, errors.New("it is not a plain file"))
		return nil
	}
	f.states[file] = state{info.Size(), info.ModTime()}
	err = f.loadFile(ctx, tx, file, form)
	var ours scratchError
	switch {
	case err == nil:
		return nil
	case ctx.Err() != nil:
		return ctx.Err()
	case errors.As(err, &ours):
		return f.scratch(ours.cause)
	}
	f.breaks(place, file, err)
	return f.forget(tx, func(t *table) bool { return t.file == file })
}

// breaks notes that a place cannot be read.
func (f *folder) breaks(place, file string, err error) {
	f.broken[place] = fmt.Sprintf("%s: %v. Correct the file", filepath.Join(f.path, file), err)
}

// forget takes tables out again that were begun.
func (f *folder) forget(tx *sql.Tx, which func(*table) bool) error {
	for _, t := range f.tables {
		if which(t) {
			if _, err := tx.Exec("DROP TABLE IF EXISTS " + quote(t.name)); err != nil {
				return f.scratch(err)
			}
		}
	}
	f.tables = slices.DeleteFunc(f.tables, which)
	return nil
}

// scratchError is one of the temporary database, which says nothing about a file that is read.
type scratchError struct{ cause error }

func (e scratchError) Error() string { return e.cause.Error() }

// scratch tells of an error of the temporary database.
func (f *folder) scratch(err error) error {
	if full := f.noRoom(err); full != nil {
		return full
	}
	return &environment.Error{Environment: f.name,
		Message: fmt.Sprintf("files of %s cannot be put down in %s: %v.", f.path, f.temporary, err),
		Mend:    "Check the rights and the room of that folder and try again.", Cause: err}
}

// noRoom tells of a disk that is full; nil where that is not the error.
func (f *folder) noRoom(err error) error {
	if !safe.NoRoom(err) {
		return nil
	}
	return &environment.Error{Environment: f.name,
		Message: fmt.Sprintf("there is no room left on the disk of %s, or on that of %s.", f.path, filepath.Dir(f.temporary)),
		Mend:    "Make room there and try again; the files stay as they are.", Cause: err}
}

// loader fills one table.
type loader struct {
	tx   *sql.Tx
	stmt *sql.Stmt
	t    *table

	words []words // by column, so far
}

func (f *folder) begin(tx *sql.Tx, t *table) (*loader, error) {
	same := func(o *table) bool { return o.name == t.name }
	if at := slices.IndexFunc(f.tables, same); at >= 0 {
		other := f.tables[at].file
		if err := f.forget(tx, same); err != nil {
			return nil, err
		}
		return nil, fmt.Errorf("%s gives the place %q as well", other, t.name)
	}
	if len(t.columns) == 0 {
		return nil, errors.New("its first line names no columns")
	}
	var columns, marks []string
	for i, name := range t.columns {
		if strings.TrimSpace(name) == "" || slices.Index(t.columns, name) != i {
			if strings.TrimSpace(name) == "" {
				return nil, fmt.Errorf("column %d has no name in the first line", i+1)
			}
			return nil, fmt.Errorf("column %d has the name %q, which stands twice in the first line", i+1, name)
		}
		columns, marks = append(columns, quote(name)+" TEXT"), append(marks, "?")
	}
	if _, err := tx.Exec(fmt.Sprintf("CREATE TABLE %s (%s)", quote(t.name), strings.Join(columns, ", "))); err != nil {
		return nil, scratchError{err}
	}
	var names []string
	for _, name := range t.columns {
		names = append(names, quote(name))
	}
	stmt, err := tx.Prepare(fmt.Sprintf("INSERT INTO %s (rowid, %s) VALUES (?, %s)", quote(t.name), strings.Join(names, ", "),
		strings.Join(marks, ", ")))
	if err != nil {
		return nil, scratchError{err}
	}
	f.tables = append(f.tables, t)
	return &loader{tx: tx, stmt: stmt, t: t, words: make([]words, len(t.columns))}, nil
}

func (l *loader) add(row int, values []any) error {
	if _, err := l.stmt.Exec(append([]any{row}, values...)...); err != nil {
		return scratchError{err}
	}
	return nil
}

func quote(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

// Describe says what the folder is.
func (f *folder) Describe(ctx context.Context) (environment.Description, error) {
	about, err := f.Environment.Describe(ctx)
	about.Product, about.Address = "folder of files", "folder:"+f.path
	about.Rights, about.Broken = "read and write", f.broken
	for _, t := range f.tables {
		if place, ok := about.Places[t.name]; ok && t.sheet != "" {
			t.limits(place.Columns)
		}
	}
	probe, probeErr := os.CreateTemp(f.path, ".anagram-probe-")
	if probeErr != nil {
		about.Rights = "read"
		for name, place := range about.Places {
			place.CannotInsert, place.CannotUpdate, place.CannotDelete = true, true, true
			about.Places[name] = place
		}
		return about, err
	}
	_ = probe.Close()
	_ = os.Remove(probe.Name())
	return about, err
}

// Begin locks the folder against other imports.
func (f *folder) Begin(ctx context.Context, places []string) (environment.Work, error) {
	if err := safe.NoLink(filepath.Join(f.path, lockName)); err != nil {
		return nil, f.fail(lockName, err)
	}
	lock, err := sqlitefile.Open(filepath.Join(f.path, lockName), sqlitefile.Options{Create: true, Wait: limit.Wait(ctx, time.Second)})
	if err != nil {
		return nil, err
	}
	lock.SetMaxOpenConns(1)
	held := false
	defer func() {
		if !held {
			_ = lock.Close()
		}
	}()
	if _, err := lock.ExecContext(ctx, "BEGIN IMMEDIATE"); err != nil {
		if full := f.noRoom(err); full != nil {
			return nil, full
		}
		return nil, &environment.Error{Environment: f.name,
			Message: fmt.Sprintf("another import is at work in %s, or its files may not be written.", f.path),
			Mend:    "Wait until it has finished, or check the rights of the folder, and try again.", Cause: err}
	}
	if err := f.unchanged(); err != nil {
		return nil, err
	}
	inner, err := f.Environment.Begin(ctx, places)
	if err != nil {
		return nil, err
	}
	held = true
	return &work{Work: inner, folder: f, lock: lock}, nil
}

const lockName = ".anagram-lock"

// unchanged refuses files that somebody changed since they were read.
func (f *folder) unchanged() error {
	for file, was := range f.states {
		info, err := os.Stat(filepath.Join(f.path, file))
		if errors.Is(err, fs.ErrNotExist) || err == nil && (info.Size() != was.size || !info.ModTime().Equal(was.modified)) {
			return &environment.Error{Environment: f.name, Message: fmt.Sprintf("%s was changed by somebody else in the meantime.",
				filepath.Join(f.path, file)), Mend: "Try again; what moved is then left out and named."}
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// Close forgets what was read.
func (f *folder) Close() error {
	err := f.Environment.Close()
	return errors.Join(err, os.RemoveAll(f.temporary))
}

// Can offers looking at the data; a folder has no rules and takes no scripts.
func (f *folder) Can() environment.Capabilities {
	return environment.Capabilities{Prober: f.Environment.Can().Prober}
}
