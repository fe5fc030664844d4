// Package form is how dockets are written to files: which tables each version has, what is
// summed up of them and how.
//
// The contract: what a version was stays as it was. A file is of a version that is known here and
// has exactly its tables, or it is refused; its digest is summed up by the rules of its version.
package form

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"anagram/internal/files/sqlitefile"
)

// Version is that of new dockets, in the file's user_version. Oldest is the first that is still
// read; files of the versions in between can be read, resumed and taken back, and nothing new is
// decided in them.
const (
	Version = 7
	Oldest  = 6
	// ByPerson is the first in which each person's own latest word counts.
	ByPerson = 7
)

// ApplicationID marks the file: "Angm".
const ApplicationID = 0x416e676d

// ClaimTable is the form of the claims, of which most are of no interest once they are linked.
const ClaimTable = `(
  finding INTEGER NOT NULL, fields TEXT NOT NULL, writes TEXT NOT NULL, proposed INTEGER NOT NULL, wants BLOB NOT NULL,
  held_order BLOB, held_by TEXT NOT NULL DEFAULT '', held_as TEXT NOT NULL DEFAULT '', held_at TEXT NOT NULL,
  held_who TEXT NOT NULL, must INTEGER NOT NULL, holder INTEGER NOT NULL DEFAULT 0)`

// schema are the tables; {more} stands where later versions have a column more.
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
  reasons TEXT NOT NULL, source TEXT, target TEXT, agreed TEXT, fields TEXT NOT NULL{more});
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
CREATE TABLE claims ` + ClaimTable + `;
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
  carried INTEGER NOT NULL DEFAULT 0, rule INTEGER NOT NULL DEFAULT 0{more});
CREATE INDEX decisions_finding ON decisions (finding, field, seq);
CREATE TABLE comments (seq INTEGER PRIMARY KEY, at TEXT NOT NULL, who TEXT NOT NULL, finding INTEGER NOT NULL, text TEXT NOT NULL{more});
CREATE TABLE signatures (seq INTEGER PRIMARY KEY, at TEXT NOT NULL, who TEXT NOT NULL, text TEXT NOT NULL, signature TEXT NOT NULL);
CREATE TABLE earlier (finding INTEGER PRIMARY KEY, docket INTEGER NOT NULL, who TEXT NOT NULL, note TEXT NOT NULL);
CREATE TABLE links (seq INTEGER PRIMARY KEY, kind TEXT NOT NULL, content TEXT NOT NULL, sum TEXT NOT NULL);
CREATE TABLE runs (
  seq INTEGER PRIMARY KEY, kind TEXT NOT NULL, who TEXT NOT NULL, started_at TEXT NOT NULL, journaled INTEGER NOT NULL DEFAULT 0,
  ended_at TEXT NOT NULL DEFAULT '', outcome TEXT NOT NULL DEFAULT '', new INTEGER NOT NULL DEFAULT 0,
  changed INTEGER NOT NULL DEFAULT 0, removed INTEGER NOT NULL DEFAULT 0, left_out INTEGER NOT NULL DEFAULT 0,
	message TEXT NOT NULL DEFAULT ''{more});
CREATE TABLE backup (
  run INTEGER NOT NULL, finding INTEGER NOT NULL, image TEXT, internal_id TEXT NOT NULL, beside TEXT NOT NULL, PRIMARY KEY (run,
	finding)) WITHOUT ROWID;
CREATE TABLE afters (
  run INTEGER NOT NULL, finding INTEGER NOT NULL, sum TEXT NOT NULL, internal_id TEXT NOT NULL, PRIMARY KEY (run, finding)) WITHOUT ROWID;
CREATE TABLE outcomes (
  run INTEGER NOT NULL, finding INTEGER NOT NULL, outcome TEXT NOT NULL, why TEXT NOT NULL, message TEXT NOT NULL,
  PRIMARY KEY (run, finding)) WITHOUT ROWID;
`

// more is a column of version 7: what one version after the other has to add, as JSON.
const more = `, more TEXT NOT NULL DEFAULT '{}'`

// schemaOf gives the tables of a version.
func schemaOf(version int) string {
	add := ""
	if version > 6 {
		add = more
	}
	return strings.ReplaceAll(schema, "{more}", add)
}

// Create makes the tables of a new docket in an empty file.
func Create(ctx context.Context, db *sql.DB) error {
	_, err := db.ExecContext(ctx, schemaOf(Version)+fmt.Sprintf("PRAGMA application_id = %d; PRAGMA user_version = %d;",
		ApplicationID, Version))
	return err
}

// MoreThanKnown says that the column more of something that the digest is not about holds what
// this program does not write there, "" where it does not.
func MoreThanKnown(ctx context.Context, q sqlitefile.Queryer, version int) (string, error) {
	if version < 7 {
		return "", nil
	}
	found, err := sqlitefile.List(ctx, q, sqlitefile.One[string],
		`SELECT 'decision' FROM decisions WHERE more NOT IN ('{}', '`+overrules+`')
		UNION ALL SELECT 'run' FROM runs WHERE more <> '{}' LIMIT 1`)
	if err != nil || len(found) == 0 {
		return "", err
	}
	return "a " + found[0] + " holds more than was written", nil
}

// overrules is what the column more says of a decision that overrules others.
const overrules = `{"overrules":true}`

// MoreOf gives the column more of a decision.
func MoreOf(overruling bool) string {
	if overruling {
		return overrules
	}
	return "{}"
}

// Overrules is an expression that tells whether a decision overrules others.
func Overrules(version int) string {
	if version < 7 {
		return "0"
	}
	return "more = '" + overrules + "'"
}

// More is the column more of a table, as far as a version has it.
func More(version int) string {
	if version < 7 {
		return "'{}'"
	}
	return "more"
}

type moreOfComment struct {
	To        string `json:"to,omitempty"`
	Withdraws bool   `json:"withdraws,omitempty"`
}

// MoreOfComment gives the column more of a comment: who is asked, and whether what was asked before
// is withdrawn.
func MoreOfComment(to string, withdraws bool) string {
	text, _ := json.Marshal(moreOfComment{to, withdraws})
	return string(text)
}

// ReadMoreOfComment reads it; what this program does not write there is an error.
func ReadMoreOfComment(text string) (to string, withdraws bool, err error) {
	var more moreOfComment
	if err := json.Unmarshal([]byte(text), &more); err != nil || MoreOfComment(more.To, more.Withdraws) != text {
		return "", false, errors.New("a comment holds more than was written")
	}
	return more.To, more.Withdraws, nil
}
