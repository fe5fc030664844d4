package docket

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"sync"

	"anagram/internal/core/catalog"
	"anagram/internal/core/match"
	"anagram/internal/core/show"
	"anagram/internal/files/sqlitefile"
	"anagram/internal/store/docket/form"
)

// Docket is an open docket.
type Docket struct {
	Header  Header
	Catalog *catalog.Catalog
	Types   []Type // in dependency order
	Found   Found  // what the match found

	db      *sql.DB
	path    string
	version int     // of its form
	origin  *Origin // where what happens now is done; nil where nobody said
	witness Witness // empty where nobody keeps the head of its chain
	digest  string  // once it was worked out
	// turn lets those who read and who writes within this program wait for each other, however
	// slow the disk is; the database would give up after a while.
	turn *sync.RWMutex
	// announced is the link that the open transaction adds.
	announced *Seal
}

// Found reads what the match found, with what was decided on it since.
type Found struct {
	db      *sql.DB
	path    string
	turn    *sync.RWMutex
	version int
}

// reading keeps those waiting who write, until done is called.
func (of Found) reading() (q sqlitefile.Queryer, done func()) {
	of.turn.RLock()
	return of.db, of.turn.RUnlock
}

func (of Found) wrap(err error) error { return wrap(of.path, err) }

// Type finds a record type of the docket.
func (d *Docket) Type(name string) (Type, bool) {
	for _, t := range d.Types {
		if t.Name == name {
			return t, true
		}
	}
	return Type{}, false
}

// Path is where the docket is.
func (d *Docket) Path() string { return d.path }

// Close closes the docket.
func (d *Docket) Close() error { return d.db.Close() }

func (d *Docket) read(ctx context.Context) error {
	var application int
	row := d.db.QueryRowContext(ctx, "SELECT (SELECT * FROM pragma_application_id), (SELECT * FROM pragma_user_version)")
	if err := row.Scan(&application, &d.version); err != nil {
		return d.Wrap(err)
	}
	d.Found.version = d.version
	switch {
	case application != form.ApplicationID:
		return &Error{Path: d.path, Message: "the file is an SQLite database, but not a docket"}
	case d.version > form.Version:
		return &Error{Path: d.path,
			Message: fmt.Sprintf("the docket has version %d; this program knows versions up to %d. Use a newer anagram",
				d.version, form.Version)}
	case d.version < form.Oldest:
		return &Error{Path: d.path,
			Message: fmt.Sprintf("the docket has version %d; this program reads version %d and later. Match again, or use the anagram that made it", d.version, form.Oldest)}
	}
	if strange, err := form.Strange(ctx, d.db, d.version); err != nil || strange != "" {
		if err == nil {
			err = &Error{Path: d.path, Message: strange}
		}
		return d.Wrap(err)
	}
	var header, source string
	err := d.db.QueryRowContext(ctx,
		"SELECT (SELECT value FROM header WHERE name = 'match'), (SELECT value FROM header WHERE name = 'catalog')").Scan(&header, &source)
	if err != nil {
		return d.Wrap(err)
	}
	if err := json.Unmarshal([]byte(header), &d.Header); err != nil {
		return &Error{Path: d.path, Message: "its header cannot be read: " + err.Error(), Cause: err}
	}
	if d.Catalog, err = catalog.Again(d.path+", catalog", []byte(source)); err != nil {
		return err
	}
	d.Types, err = sqlitefile.List(ctx, d.db, scanType,
		"SELECT name, fields, required, conflict, changed, new, target_edit, target_only, same, not_compared FROM types ORDER BY rank")
	return d.Wrap(err)
}

func scanType(row sqlitefile.Row) (t Type, err error) {
	var fields, required string
	n := make([]int, 6)
	if err := row.Scan(&t.Name, &fields, &required, &n[0], &n[1], &n[2], &n[3], &n[4], &n[5], &t.NotCompared); err != nil {
		return t, err
	}
	if err := errors.Join(json.Unmarshal([]byte(fields), &t.Fields), json.Unmarshal([]byte(required), &t.Required)); err != nil {
		return t, fmt.Errorf("its record types cannot be read: %w", err)
	}
	t.Counts = map[match.Status]int{}
	for i, status := range match.Statuses() {
		t.Counts[status] = n[i]
	}
	return t, nil
}

// Current refuses to decide or import in a docket of an earlier form. What was begun in it is
// gone on with, and taken back.
func (d *Docket) Current() error {
	if d.version == form.Version {
		return nil
	}
	again := d.Header.Again()
	if d.Header.Restores == 0 && d.Header.TargetParcel == "" {
		again = fmt.Sprintf("Match again with: anagram match %s --against %s", show.Arg(d.Header.Parcel), show.Arg(d.Header.Target))
	}
	return &Error{Path: d.path, Cause: ErrEarlier, Message: fmt.Sprintf(
		"it was made by an earlier Anagram (%s). It can be read, resumed and taken back, but nothing new is decided or imported with it. %s. What was declined or held in it is remembered", d.Header.Program, again)}
}

// Change does something in one transaction, and adds what link is given to the chain.
func (d *Docket) Change(ctx context.Context, do func(tx *sql.Tx, link func(kind string, content any) error) error) error {
	return d.transaction(ctx, func(tx *sql.Tx) error {
		return do(tx, func(kind string, content any) error { return d.link(ctx, tx, kind, content) })
	})
}

// Reading gives the file to read from until done is called.
func (d *Docket) Reading() (q sqlitefile.Queryer, done func()) { return d.Found.reading() }

// Where tells where what happens now is done.
func (d *Docket) Where() *Origin { return d.origin }

// Wrap says of an error which docket it is of.
func (d *Docket) Wrap(err error) error { return wrap(d.path, err) }

// Digest gives the sum of all that the match found. It is worked out once, by Verify where
// that came first.
func (d *Docket) Digest(ctx context.Context) (string, error) {
	if d.digest == "" {
		text, err := form.DigestOf(ctx, d.db)
		if err != nil {
			return "", d.Wrap(err)
		}
		d.digest = text
	}
	return d.digest, nil
}
