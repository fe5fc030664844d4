package docket

import (
	"context"
	"errors"
	"fmt"
	"os"
	"sync"
	"time"

	"modernc.org/sqlite"
	lib "modernc.org/sqlite/lib"

	"anagram/internal/files/sqlitefile"
)

// Error is a docket that cannot be used.
type Error struct {
	Path    string
	Message string
	Cause   error
}

func (e *Error) Error() string { return e.Path + ": " + e.Message }

// Unwrap gives the cause.
func (e *Error) Unwrap() error { return e.Cause }

// ErrEarlier is a docket of an earlier form, in which nothing new is decided.
var ErrEarlier = errors.New("an earlier form")

// wait is how long another anagram that works on a docket is waited for.
const wait = 3 * time.Second

// Open opens a docket, for reading and for deciding.
func Open(ctx context.Context, path string) (*Docket, error) {
	switch info, err := os.Stat(path); {
	case errors.Is(err, os.ErrNotExist):
		return nil, &Error{Path: path, Message: "there is no such docket; anagram history lists those there are", Cause: err}
	case err == nil && !info.Mode().IsRegular():
		return nil, &Error{Path: path, Message: "it is a folder, not a docket"}
	case err == nil && info.Size() == 0:
		return nil, &Error{Path: path, Message: "the file is empty"}
	}
	db, err := sqlitefile.Open(path, sqlitefile.Options{Wait: wait, Pragmas: []string{"synchronous(FULL)", "trusted_schema(0)"}})
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(4)
	turn := &sync.RWMutex{}
	d := &Docket{db: db, path: path, turn: turn, Found: Found{db: db, path: path, turn: turn}}
	if err := d.read(ctx); err != nil {
		_ = db.Close()
		return nil, err
	}
	return d, nil
}

// OpenNumbered opens the docket that stands under a number, and refuses another that has
// its name, so that nobody decides or imports what was never shown.
func OpenNumbered(ctx context.Context, path string, number int) (*Docket, error) {
	d, err := Open(ctx, path)
	if err != nil || d.Header.Number == number {
		return d, err
	}
	_ = d.Close()
	return nil, &Error{Path: path,
		Message: fmt.Sprintf("the file holds docket %d. Give it back the name %04d.docket, or open it by its path",
			d.Header.Number, d.Header.Number)}
}

func wrap(path string, err error) error {
	var told *Error
	if err == nil || errors.As(err, &told) {
		return err
	}
	var sqliteErr *sqlite.Error
	if errors.As(err, &sqliteErr) {
		switch sqliteErr.Code() & 0xFF {
		case lib.SQLITE_NOTADB, lib.SQLITE_CORRUPT:
			return &Error{Path: path, Message: "the file is not a docket, or is damaged", Cause: err}
		case lib.SQLITE_BUSY, lib.SQLITE_LOCKED:
			return &Error{Path: path,
				Message: "another anagram is working on this docket; wait until it has finished and try again", Cause: err}
		case lib.SQLITE_READONLY, lib.SQLITE_CANTOPEN, lib.SQLITE_PERM:
			return &Error{Path: path, Message: "the file may not be written by this account", Cause: err}
		}
	}
	return fmt.Errorf("%s: %w", path, err)
}
