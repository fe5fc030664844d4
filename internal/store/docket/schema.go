// Package docket keeps the result of one match and everything that happens to it, in
// one SQLite file that is complete in itself.
//
// The contract: a docket is built beside its place and appears there complete or not
// at all. Findings, checks and needs never change afterwards, which the digest proves;
// all that happens to it is an append-only chain, which the tables are compared with (see
// chain.go); before-images are durable before SaveBackup returns. A file with a newer
// version, or with anything in its schema that this program does not make, is refused.
package docket

import (
	"context"
	"errors"
	"fmt"
	"os"
	"time"

	"anagram/internal/files/sqlitefile"

	"modernc.org/sqlite"
	lib "modernc.org/sqlite/lib"
)

// Version is written to the file's user_version.
const Version = 6

// applicationID marks the file: "Angm".
const applicationID = 0x416e676d

// claimTable is the form of the claims, of which most are of no interest; see LinkClaims.
const claimTable = `(
  finding INTEGER NOT NULL, fields TEXT NOT NULL, writes TEXT NOT NULL, proposed INTEGER NOT NULL, wants BLOB NOT NULL,
  held_order BLOB, held_by TEXT NOT NULL DEFAULT '', held_as TEXT NOT NULL DEFAULT '', held_at TEXT NOT NULL, held_who TEXT NOT NULL, must INTEGER NOT NULL, holder INTEGER NOT NULL DEFAULT 0)`

const schema = `
CREATE TABLE header (name TEXT PRIMARY KEY, value TEXT NOT NULL) WITHOUT ROWID;
CREATE TABLE types (
  rank INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE, fields TEXT NOT NULL, required TEXT NOT NULL,
  conflict INTEGER NOT NULL, changed INTEGER NOT NULL, new INTEGER NOT NULL,
  target_edit INTEGER NOT NULL, target_only INTEGER NOT NULL, same INTEGER NOT NULL,
  not_compared INTEGER NOT NULL);
CREATE TABLE findings (
  id INTEGER PRIMARY KEY, rank INTEGER NOT NULL, type TEXT NOT NULL, key_order BLOB NOT NULL,
  key TEXT NOT NULL, address TEXT NOT NULL, was TEXT NOT NULL, title TEXT NOT NULL, status TEXT NOT NULL,
  reasons TEXT NOT NULL, source TEXT, target TEXT, agreed TEXT, fields TEXT NOT NULL);
CREATE UNIQUE INDEX findings_key ON findings (type, key_order);
CREATE INDEX findings_status ON findings (status);
CREATE TABLE needs (
  finding INTEGER NOT NULL, field TEXT NOT NULL, owner INTEGER NOT NULL, required INTEGER NOT NULL, by_name INTEGER NOT NULL,
  type TEXT NOT NULL, key_order BLOB NOT NULL, key TEXT NOT NULL, address TEXT NOT NULL,
  in_target INTEGER NOT NULL DEFAULT 0, needed INTEGER NOT NULL DEFAULT 0, frees INTEGER NOT NULL DEFAULT 0);
CREATE INDEX needs_finding ON needs (finding);
CREATE INDEX needs_key ON needs (type, key_order);
CREATE TABLE checks (
  finding INTEGER, code TEXT NOT NULL, level TEXT NOT NULL, message TEXT NOT NULL, mend TEXT NOT NULL,
  fields TEXT NOT NULL DEFAULT '[]', writes TEXT NOT NULL DEFAULT '[]', partial INTEGER NOT NULL DEFAULT 0);
CREATE INDEX checks_finding ON checks (finding);
CREATE TABLE claims ` + claimTable + `;
CREATE INDEX claims_finding ON claims (finding, fields);
CREATE TABLE groups (id INTEGER PRIMARY KEY, head INTEGER NOT NULL, cause TEXT NOT NULL, address TEXT NOT NULL);
CREATE TABLE members (finding INTEGER PRIMARY KEY, grp INTEGER NOT NULL, owner INTEGER NOT NULL);
CREATE INDEX members_group ON members (grp);
CREATE INDEX members_owner ON members (owner);
CREATE TABLE hangs (finding INTEGER NOT NULL, on_finding INTEGER NOT NULL, PRIMARY KEY (finding, on_finding)) WITHOUT ROWID;
CREATE TABLE back (finding INTEGER PRIMARY KEY, content TEXT NOT NULL);
CREATE TABLE contents (sha256 TEXT NOT NULL, part INTEGER NOT NULL, data BLOB NOT NULL, PRIMARY KEY (sha256, part));
CREATE TABLE decisions (
  seq INTEGER PRIMARY KEY, at TEXT NOT NULL, who TEXT NOT NULL,
  finding INTEGER NOT NULL, field TEXT NOT NULL, decision TEXT NOT NULL, note TEXT NOT NULL,
  carried INTEGER NOT NULL DEFAULT 0, rule INTEGER NOT NULL DEFAULT 0);
CREATE INDEX decisions_finding ON decisions (finding, field, seq);
CREATE TABLE comments (seq INTEGER PRIMARY KEY, at TEXT NOT NULL, who TEXT NOT NULL, finding INTEGER NOT NULL, text TEXT NOT NULL);
CREATE TABLE signatures (seq INTEGER PRIMARY KEY, at TEXT NOT NULL, who TEXT NOT NULL, text TEXT NOT NULL, signature TEXT NOT NULL);
CREATE TABLE earlier (finding INTEGER PRIMARY KEY, docket INTEGER NOT NULL, who TEXT NOT NULL, note TEXT NOT NULL);
CREATE TABLE links (seq INTEGER PRIMARY KEY, kind TEXT NOT NULL, content TEXT NOT NULL, sum TEXT NOT NULL);
CREATE TABLE runs (
  seq INTEGER PRIMARY KEY, kind TEXT NOT NULL, who TEXT NOT NULL, started_at TEXT NOT NULL, journaled INTEGER NOT NULL DEFAULT 0,
  ended_at TEXT NOT NULL DEFAULT '', outcome TEXT NOT NULL DEFAULT '', new INTEGER NOT NULL DEFAULT 0,
  changed INTEGER NOT NULL DEFAULT 0, removed INTEGER NOT NULL DEFAULT 0, left_out INTEGER NOT NULL DEFAULT 0, message TEXT NOT NULL DEFAULT '');
CREATE TABLE backup (
  run INTEGER NOT NULL, finding INTEGER NOT NULL, image TEXT, internal_id TEXT NOT NULL, beside TEXT NOT NULL, PRIMARY KEY (run, finding)) WITHOUT ROWID;
CREATE TABLE afters (
  run INTEGER NOT NULL, finding INTEGER NOT NULL, sum TEXT NOT NULL, internal_id TEXT NOT NULL, PRIMARY KEY (run, finding)) WITHOUT ROWID;
CREATE TABLE outcomes (
  run INTEGER NOT NULL, finding INTEGER NOT NULL, outcome TEXT NOT NULL, why TEXT NOT NULL, message TEXT NOT NULL,
  PRIMARY KEY (run, finding)) WITHOUT ROWID;
`

// Error is a docket that cannot be used.
type Error struct {
	Path    string
	Message string
	Cause   error
}

func (e *Error) Error() string { return e.Path + ": " + e.Message }

// Unwrap gives the cause.
func (e *Error) Unwrap() error { return e.Cause }

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
	d := &Docket{db: db, path: path}
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
	return nil, &Error{Path: path, Message: fmt.Sprintf("the file holds docket %d. Give it back the name %04d.docket, or open it by its path", d.Header.Number, d.Header.Number)}
}

func (d *Docket) wrap(err error) error {
	if err == nil {
		return nil
	}
	var sqliteErr *sqlite.Error
	if errors.As(err, &sqliteErr) {
		switch sqliteErr.Code() & 0xFF {
		case lib.SQLITE_NOTADB, lib.SQLITE_CORRUPT:
			return &Error{Path: d.path, Message: "the file is not a docket, or is damaged", Cause: err}
		case lib.SQLITE_BUSY, lib.SQLITE_LOCKED:
			return &Error{Path: d.path, Message: "another anagram is working on this docket; wait until it has finished and try again", Cause: err}
		case lib.SQLITE_READONLY, lib.SQLITE_CANTOPEN, lib.SQLITE_PERM:
			return &Error{Path: d.path, Message: "the file may not be written by this account", Cause: err}
		}
	}
	return fmt.Errorf("%s: %w", d.path, err)
}
