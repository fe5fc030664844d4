package register

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"time"

	"anagram/internal/core/decision"
	"anagram/internal/files/safe"
	"anagram/internal/files/sqlitefile"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/run"
	"anagram/internal/store/workspace"
)

// Decided is what was last decided about each record, and each field of one, of the pairs
// of environments that a workspace has dockets of.
type Decided struct {
	db   *sql.DB
	find *sql.Stmt
}

// Said is a decision on a record or on one field of it. Docket is the first that it was
// said in, however often it was carried over.
type Said struct {
	Field     string // "" for the record
	Docket    int
	Decision  decision.Decision
	Who, Note string
	At        string // when it was said, UTC, RFC 3339
	source    []byte // sums of what both sides had then
	target    []byte
}

// On reports whether both sides of a finding are as they were when it was said: the whole
// record, or the field.
func (s Said) On(f docket.Finding) bool {
	if s.Field == "" {
		return string(s.source) == string(sum(f.Source)) && string(s.target) == string(sum(f.Target))
	}
	at := slices.IndexFunc(f.Fields, func(field docket.Field) bool { return field.Field == s.Field })
	return at >= 0 && string(s.source) == string(sumOf(f.Fields[at].Source)) && string(s.target) == string(sumOf(f.Fields[at].Target))
}

// sumOf tells null from every text.
func sumOf(text *string) []byte {
	if text == nil {
		return sum("null")
	}
	return sum("=" + *text)
}

func sum(text string) []byte {
	whole := sha256.Sum256([]byte(text))
	return whole[:16]
}

const decidedSchema = `
CREATE TABLE IF NOT EXISTS decided (source TEXT, target TEXT, type TEXT, ord BLOB, field TEXT, docket INTEGER, first INTEGER,
	decision TEXT, who TEXT, note TEXT, at TEXT,
  source_sum BLOB, target_sum BLOB, PRIMARY KEY (source, target, type, ord, field)) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS seen (docket INTEGER PRIMARY KEY, matched_at TEXT, size INTEGER, modified INTEGER);
PRAGMA user_version = 4;`

// wait is how long another anagram that brings this up to date is waited for.
const wait = 10 * time.Second

// OpenDecided brings what was decided up to date with the dockets before a number, and
// opens it. It is made anew where the dockets are not those that it was made from.
func OpenDecided(ctx context.Context, w *workspace.Workspace, before int) (*Decided, error) {
	if _, err := w.Scratch(); err != nil { // makes the folder
		return nil, err
	}
	path := filepath.Join(w.Dir, ".anagram", "decided.db")
	d, err := openDecided(ctx, w, before, path)
	if err != nil && ctx.Err() == nil {
		// It is worth nothing that the dockets do not say; what is damaged is made anew.
		if os.Remove(path) == nil {
			d, err = openDecided(ctx, w, before, path)
		}
	}
	return d, err
}

func openDecided(ctx context.Context, w *workspace.Workspace, before int, path string) (*Decided, error) {
	if err := safe.NoLink(path); err != nil {
		return nil, err
	}
	db, err := sqlitefile.Open(path, sqlitefile.Options{Create: true, Wait: wait, Pragmas: []string{"synchronous(OFF)"}})
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	d := &Decided{db: db}
	var was int
	if err = db.QueryRowContext(ctx, "PRAGMA user_version").Scan(&was); err == nil && was != 0 && was != 4 {
		err = errors.New("an earlier program made it")
	}
	if err == nil {
		_, err = db.ExecContext(ctx, decidedSchema)
	}
	if err == nil {
		err = d.update(ctx, w, before)
	}
	if err == nil {
		d.find, err = db.PrepareContext(ctx,
			"SELECT field, first, decision, who, note, at, source_sum, target_sum FROM decided WHERE source = ? AND target = ? AND type = ? AND ord = ? AND decision <> 'open' ORDER BY field")
	}
	if err != nil {
		return nil, errors.Join(err, d.Close())
	}
	return d, nil
}

// Close closes it.
func (d *Decided) Close() error { return d.db.Close() }

// Find gives what was last decided about a record of a pair of environments, and about
// fields of it, the record first.
func (d *Decided) Find(ctx context.Context, source, target string, f docket.Finding) ([]Said, error) {
	rows, err := d.find.QueryContext(ctx, source, target, f.Type, []byte(f.Order))
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []Said
	for rows.Next() {
		var s Said
		if err := rows.Scan(&s.Field, &s.Docket, &s.Decision, &s.Who, &s.Note, &s.At, &s.source, &s.target); err != nil {
			return nil, err
		}
		out = append(out, s)
	}
	return out, rows.Err()
}

// seenDocket is a docket as it was when it was last read.
type seenDocket struct {
	matchedAt      string
	size, modified int64
}

// update reads the dockets that are new or have changed. A docket's log only grows, so
// what it says now replaces what it said; where one is gone or is another one, all of them
// are read anew.
func (d *Decided) update(ctx context.Context, w *workspace.Workspace, before int) error {
	numbers, err := w.DocketNumbers()
	if err != nil {
		return err
	}
	tx, err := d.db.BeginTx(context.WithoutCancel(ctx), nil)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }()
	seen, err := readSeen(ctx, tx)
	if err != nil {
		return err
	}
	there := map[int]bool{}
	for _, n := range numbers {
		there[n] = true
	}
	for n := range seen {
		if !there[n] {
			return d.anew(ctx, tx, w, numbers, before)
		}
	}
	for _, n := range numbers {
		if n >= before {
			continue
		}
		same, err := d.take(ctx, tx, w.DocketPath(n), n, seen[n])
		if err != nil {
			return err
		}
		if !same {
			return d.anew(ctx, tx, w, numbers, before)
		}
	}
	return tx.Commit()
}

func readSeen(ctx context.Context, tx *sql.Tx) (map[int]seenDocket, error) {
	rows, err := tx.QueryContext(ctx, "SELECT docket, matched_at, size, modified FROM seen")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[int]seenDocket{}
	for rows.Next() {
		var n int
		var s seenDocket
		if err := rows.Scan(&n, &s.matchedAt, &s.size, &s.modified); err != nil {
			return nil, err
		}
		out[n] = s
	}
	return out, rows.Err()
}

func (d *Decided) anew(ctx context.Context, tx *sql.Tx, w *workspace.Workspace, numbers []int, before int) error {
	if _, err := tx.ExecContext(ctx, "DELETE FROM decided; DELETE FROM seen"); err != nil {
		return err
	}
	for _, n := range numbers {
		if n >= before {
			continue
		}
		if _, err := d.take(ctx, tx, w.DocketPath(n), n, seenDocket{}); err != nil {
			return err
		}
	}
	return tx.Commit()
}

// take reads the decisions of a docket that changed since it was seen; same is false where
// it is another docket than the one that was seen. One that cannot be read says nothing.
func (d *Decided) take(ctx context.Context, tx *sql.Tx, path string, number int, was seenDocket) (same bool, err error) {
	info, err := os.Stat(path)
	if err != nil {
		return true, nil
	}
	if was.size == info.Size() && was.modified == info.ModTime().UnixNano() {
		return true, nil
	}
	of, err := docket.OpenNumbered(ctx, path, number)
	if err != nil {
		return true, ctx.Err()
	}
	defer of.Close()
	h := of.Header
	if was.matchedAt != "" && was.matchedAt != h.MatchedAt {
		return false, nil
	}
	if h.TargetParcel == "" && !h.ByHand {
		k, err := newKeeping(ctx, tx)
		if err != nil {
			return true, err
		}
		defer k.close()
		used, err := run.Used(ctx, of)
		if err != nil {
			return true, ctx.Err()
		}
		for f, err := range of.Found.Decided(ctx) {
			if ctx.Err() != nil {
				return true, ctx.Err()
			}
			if err != nil {
				return true, nil // damaged; anagram history says so
			}
			last, wrote := used[f.ID]
			if err := k.keep(ctx, h, number, f, wrote && lastApproval(f) <= last); err != nil {
				return true, err
			}
		}
	}
	_, err = tx.ExecContext(ctx, "INSERT OR REPLACE INTO seen VALUES (?,?,?,?)", number, h.MatchedAt, info.Size(),
		info.ModTime().UnixNano())
	return true, err
}

// lastApproval gives the last word in the log that approves anything of a finding.
func lastApproval(f docket.Finding) int64 {
	last := f.Seq
	for _, w := range f.Said() {
		if w.Decision == decision.Approved {
			last = max(last, w.Seq)
		}
	}
	return last
}

// keeping has the statements by which decisions are taken.
type keeping struct{ put, supersede *sql.Stmt }

func newKeeping(ctx context.Context, tx *sql.Tx) (k keeping, err error) {
	if k.put, err = tx.PrepareContext(ctx,
		`INSERT INTO decided VALUES (?,?,?,?,?,?,?,?,?,?,?,?,?) ON CONFLICT DO UPDATE SET docket = excluded.docket, first = excluded.first,
		decision = excluded.decision, who = excluded.who, note = excluded.note, at = excluded.at, source_sum = excluded.source_sum,
			target_sum = excluded.target_sum WHERE excluded.docket >= docket`); err != nil {
		return k, err
	}
	k.supersede, err = tx.PrepareContext(ctx,
		"UPDATE decided SET decision = 'open', docket = ? WHERE source = ? AND target = ? AND type = ? AND ord = ? AND field <> '' AND docket <= ?")
	return k, err
}

func (k keeping) close() {
	_ = k.put.Close()
	_ = k.supersede.Close()
}

// keep takes what a docket says about a record and its fields, unless a later one says
// something. A record that was declined but for some fields was declined field by field. An approval
// that an import carried out is none any more: what was taken back since is not approved.
func (k keeping) keep(ctx context.Context, h docket.Header, number int, f docket.Finding, carriedOut bool) error {
	put := func(field string, decision decision.Decision, source, target []byte) error {
		who, note, at, first := f.SaidOn(field)
		if first == 0 {
			first = number
		}
		_, err := k.put.ExecContext(ctx, h.Source, h.Target, f.Type, []byte(f.Order), field, number, first, string(decision), who,
			note, at, source, target)
		return err
	}
	partly := f.Decision != decision.Approved && f.AnyApproved()
	on := f.Decision
	if partly || f.ByRule || carriedOut && on == decision.Approved { // a rule decides anew each time
		on = decision.Undecided
	}
	if err := put("", on, sum(f.Source), sum(f.Target)); err != nil {
		return err
	}
	// What an earlier docket said about single fields is superseded.
	if _, err := k.supersede.ExecContext(ctx, number, h.Source, h.Target, f.Type, []byte(f.Order), number); err != nil {
		return err
	}
	for _, field := range f.Fields {
		own := slices.Contains(f.Against, field.Field) && (f.Decision == decision.Approved || f.Decision == decision.Undecided)
		if _, decided := f.ByField[field.Field]; own || decided || partly {
			if err := put(field.Field, f.On(field.Field), sumOf(field.Source), sumOf(field.Target)); err != nil {
				return err
			}
		}
	}
	return nil
}
