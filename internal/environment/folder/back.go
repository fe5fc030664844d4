package folder

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"iter"
	"path/filepath"
	"slices"
	"strings"

	"anagram/internal/environment"
	"anagram/internal/files/sqlitefile"
)

// What was written is read back from the new files, taken apart anew, before any of them
// replaces what is there.

// notWritten tells that a file could not be made.
func (f *folder) notWritten(file string, err error) error {
	if full := f.noRoom(err); full != nil {
		return full
	}
	return &environment.Error{Environment: f.name, Message: fmt.Sprintf("%s was not written, and stays as it is: %v.",
		filepath.Join(f.path, file), err), Cause: err}
}

// readBack holds the new files against what they are to hold.
func (f *folder) readBack(ctx context.Context, db *sql.DB, staged string, files []string) error {
	path := filepath.Join(f.temporary, "after.db")
	after, err := sqlitefile.Open(path, sqlitefile.Options{Create: true})
	if err != nil {
		return err
	}
	defer after.Close()
	after.SetMaxOpenConns(1)
	tx, err := after.BeginTx(context.WithoutCancel(ctx), nil)
	if err != nil {
		return f.scratch(err)
	}
	defer func() { _ = tx.Rollback() }()
	read := &folder{name: f.name, path: staged, temporary: f.temporary, broken: map[string]string{}}
	for _, file := range files {
		err := read.loadFile(ctx, tx, file, strings.ToLower(filepath.Ext(file)))
		if err == nil {
			for place, why := range read.broken {
				if _, was := f.broken[place]; !was {
					err = fmt.Errorf("it could not be read back: %s", why)
				}
			}
		}
		if err != nil {
			return f.notWritten(file, err)
		}
	}
	if err := tx.Commit(); err != nil {
		return f.scratch(err)
	}
	for _, t := range f.tables {
		if !slices.Contains(files, t.file) {
			continue
		}
		at := slices.IndexFunc(read.tables, func(o *table) bool { return o.name == t.name })
		if at < 0 {
			return f.notWritten(t.file, fmt.Errorf("%s is not found in it when it is read back", t.name))
		}
		if err := t.equal(ctx, db, read.tables[at], after); err != nil {
			return f.notWritten(t.file, err)
		}
	}
	return nil
}

// equal tells where a table that was read back is not what it is to be.
func (t *table) equal(ctx context.Context, db *sql.DB, read *table, after *sql.DB) error {
	type row struct {
		n     int
		cells []*string
	}
	stream := func(of *table, db *sql.DB) iter.Seq2[row, error] {
		return func(yield func(row, error) bool) {
			all := fmt.Sprintf("SELECT {columns} FROM main.%s ORDER BY rowid", quote(of.name))
			err := of.rows(ctx, db, all, func(n int, cells []*string) error {
				if !yield(row{n, cells}, nil) {
					return errEnough
				}
				return nil
			})
			if err != nil && !errors.Is(err, errEnough) {
				yield(row{}, err)
			}
		}
	}
	next, stop := iter.Pull2(stream(read, after))
	defer stop()
	at := make([]int, len(t.columns))
	for i, name := range t.columns {
		at[i] = slices.Index(read.columns, name) // JSON lines need not have what is null everywhere
	}
	for wanted, err := range stream(t, db) {
		if err != nil {
			return err
		}
		got, err, more := next()
		if err != nil {
			return err
		}
		if !more {
			return fmt.Errorf("row %d of %s is missing when it is read back", wanted.n, t.name)
		}
		for i, cell := range wanted.cells {
			var held *string
			if at[i] >= 0 {
				held = got.cells[at[i]]
			}
			if (cell == nil) != (held == nil) || cell != nil && *cell != *held {
				return fmt.Errorf("row %d of %s would hold %s in %s, and %s is to be written", got.n, t.name, told(held), t.columns[i],
					told(cell))
			}
		}
	}
	got, err, more := next()
	if err == nil && more {
		return fmt.Errorf("row %d of %s is one too many when it is read back", got.n, t.name)
	}
	return err
}

// told shows a cell in a message.
func told(cell *string) string {
	if cell == nil {
		return "nothing"
	}
	if text := []rune(*cell); len(text) > 60 {
		return fmt.Sprintf("%q and so on", string(text[:60]))
	}
	return fmt.Sprintf("%q", *cell)
}

// errEnough ends a stream that nobody reads on.
var errEnough = errors.New("enough")
