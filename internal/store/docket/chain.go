package docket

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
)

// What a docket says is believed only as far as it can be checked. The digest is the sum of
// all that the match found. Everything that happens afterwards is a link of a chain that
// begins with the digest, each with the sum of the one before; the tables of decisions,
// runs, outcomes and before-images hold the same in a form that can be searched, and are
// compared with it. Whoever knows digest and head knows all of it.

// Seal is the digest of a docket and the head of its chain.
type Seal struct {
	Digest string // hex
	Head   string // sum of the last link, the digest where there is none
	Before string // of a link that is told of: the head without it
	Links  int
}

// Witness is told of every link before it is written, and keeps it durably; and once it is
// written. What it heard of and was not told of again may be missing after a kill.
type Witness struct{ Announced, Written func(Seal) error }

// Witnessed makes a docket tell of its links.
func (d *Docket) Witnessed(w Witness) { d.witness = w }

// Kinds of links.
const (
	linkDecide  = "decide"
	linkStart   = "run"
	linkImages  = "images"
	linkCommit  = "commit"
	linkEnd     = "end"
	linkComment = "comment"
	linkSign    = "sign"
	linkEarlier = "earlier"
	linkPlan    = "plan"
	linkStep    = "step"
)

// Head gives the seal as the docket itself says it, without looking at more than its last
// link and, where there is none, its digest.
func (d *Docket) Head(ctx context.Context) (Seal, error) {
	seal, err := d.head(ctx, d.db)
	return seal, d.wrap(err)
}

func (d *Docket) head(ctx context.Context, q queryer) (seal Seal, err error) {
	rows, err := q.QueryContext(ctx, "SELECT sum, seq FROM links ORDER BY seq DESC LIMIT 1")
	if err != nil {
		return seal, err
	}
	for rows.Next() {
		err = rows.Scan(&seal.Head, &seal.Links)
	}
	err = errors.Join(err, rows.Err(), rows.Close())
	if seal.Head == "" && err == nil {
		if seal.Head = d.digest; seal.Head == "" {
			seal.Head, err = digest(ctx, q)
		}
	}
	return seal, err
}

// LinkWith gives the number of the link with a sum, -1 where there is none.
func (d *Docket) LinkWith(ctx context.Context, sum string) (int, error) {
	n := -1
	err := d.db.QueryRowContext(ctx, "SELECT ifnull(max(seq), -1) FROM links WHERE sum = ?", sum).Scan(&n)
	return n, d.wrap(err)
}

func linkSum(before, kind, content string) string {
	s := newSumming()
	s.add(before, kind, content)
	return s.text()
}

// link adds a link within a transaction. The witness hears of it first.
func (d *Docket) link(ctx context.Context, tx *sql.Tx, kind string, content any) error {
	text, err := json.Marshal(content)
	if err != nil {
		return err
	}
	last, err := d.head(ctx, tx)
	if err != nil {
		return err
	}
	next := Seal{Before: last.Head, Head: linkSum(last.Head, kind, string(text)), Links: last.Links + 1}
	if d.witness.Announced != nil {
		if err := d.witness.Announced(next); err != nil {
			return err
		}
		d.announced = &next
	}
	_, err = tx.ExecContext(ctx, "INSERT INTO links VALUES (?,?,?,?)", next.Links, kind, string(text), next.Head)
	return err
}

// LogEntry is one decision as the log has it, however it came there.
type LogEntry struct {
	At       string   `json:"at"`
	Who      string   `json:"who"`
	Finding  int64    `json:"finding"`
	Field    string   `json:"field,omitempty"`
	Decision Decision `json:"decision"`
	Note     string   `json:"note,omitempty"`
	Carried  int      `json:"carried,omitempty"`
	Rule     bool     `json:"rule,omitempty"` // by a standing rule of the workspace, by nobody
}

// Contents of links.
type (
	decided struct {
		Carried  bool       `json:"carried,omitempty"`
		ReadBy   string     `json:"read_by,omitempty"` // who read in what was decided elsewhere
		ReadAt   string     `json:"read_at,omitempty"`
		Origin   *Origin    `json:"origin,omitempty"`
		Verdicts []LogEntry `json:"verdicts"`
	}
	started struct {
		Run     int64   `json:"run"`
		Kind    string  `json:"kind"`
		Who     string  `json:"who"`
		Started string  `json:"started_at"`
		Origin  *Origin `json:"origin,omitempty"`
	}
	imagesKept struct {
		Run int64  `json:"run"`
		Sum string `json:"sum"`
	}
	committing struct {
		Run     int64  `json:"run"`
		New     int    `json:"new"`
		Changed int    `json:"changed"`
		Removed int    `json:"removed,omitempty"`
		LeftOut int    `json:"left_out"`
		Afters  string `json:"afters"` // sum of what was read back of new records
	}
	ended struct {
		Run      int64  `json:"run"`
		At       string `json:"ended_at"`
		Outcome  string `json:"outcome"`
		New      int    `json:"new"`
		Changed  int    `json:"changed"`
		Removed  int    `json:"removed,omitempty"`
		LeftOut  int    `json:"left_out"`
		Message  string `json:"message,omitempty"`
		Outcomes string `json:"outcomes"` // sum of what became of each finding
	}
)

// replay is the chain as it is gone through.
type replay struct {
	decisions  []LogEntry
	runs       []Run
	comments   []Comment
	signatures []Signature
	earlier    []Earlier
	outcomes   map[int64]string
	images     map[int64]string
	afters     map[int64]string
	made       map[int64]map[int64]After // of journaled runs
}

// Verify goes through all of it and gives the seal. The error says what does not hold.
func (d *Docket) Verify(ctx context.Context) (Seal, error) {
	// All of it is read as at one moment: somebody may be deciding.
	tx, err := d.db.BeginTx(ctx, &sql.TxOptions{ReadOnly: true})
	if err != nil {
		return Seal{}, d.wrap(err)
	}
	defer func() { _ = tx.Rollback() }()
	seal := Seal{}
	if seal.Digest, err = d.digestOf(ctx); err != nil {
		return seal, d.wrap(err)
	}
	d.digest = seal.Digest
	seal.Head = seal.Digest
	r := replay{outcomes: map[int64]string{}, images: map[int64]string{}, afters: map[int64]string{}, made: map[int64]map[int64]After{}}
	rows, err := tx.QueryContext(ctx, "SELECT seq, kind, content, sum FROM links ORDER BY seq")
	if err != nil {
		return seal, d.wrap(err)
	}
	for rows.Next() {
		var seq int
		var kind, content, sum string
		if err = rows.Scan(&seq, &kind, &content, &sum); err != nil {
			break
		}
		next := linkSum(seal.Head, kind, content)
		if seq != seal.Links+1 || sum != next {
			err = d.altered("link %d of its log is not the one that was written, or what the match found was changed", seq)
			break
		}
		seal.Head, seal.Links = next, seq
		if err = r.take(kind, content); err != nil {
			err = d.altered("link %d of its log cannot be read: %v", seq, err)
			break
		}
	}
	if closed := rows.Close(); err == nil {
		err = closed
	}
	if err == nil {
		err = rows.Err()
	}
	if err != nil {
		return seal, d.wrap(err)
	}
	if err := d.compare(ctx, tx, r); err != nil {
		return seal, err
	}
	return seal, d.checkGroups(ctx, tx)
}

func (d *Docket) altered(format string, args ...any) error {
	return &Error{Path: d.path, Message: "the docket was altered: " + fmt.Sprintf(format, args...)}
}

// Log gives all decisions in their order.
func (d *Docket) Log(ctx context.Context) ([]LogEntry, error) { return d.log(ctx, d.db) }

func (d *Docket) log(ctx context.Context, q queryer) ([]LogEntry, error) {
	rows, err := q.QueryContext(ctx, "SELECT seq, at, who, finding, field, decision, note, carried, rule FROM decisions ORDER BY seq")
	if err != nil {
		return nil, d.wrap(err)
	}
	defer rows.Close()
	var out []LogEntry
	for n := 1; rows.Next(); n++ {
		var e LogEntry
		var seq int
		if err := rows.Scan(&seq, &e.At, &e.Who, &e.Finding, &e.Field, &e.Decision, &e.Note, &e.Carried, &e.Rule); err != nil {
			return nil, d.wrap(err)
		}
		if seq != n {
			return nil, d.altered("decision %d is missing", n)
		}
		out = append(out, e)
	}
	return out, d.wrap(rows.Err())
}

// Join adds decisions that were made in a copy of the docket, as they were made there, and
// says who read them in.
func (d *Docket) Join(ctx context.Context, readBy, readAt string, entries []LogEntry) error {
	if len(entries) == 0 {
		return nil
	}
	unlock, err := d.lockDecision(ctx)
	if err != nil {
		return err
	}
	defer unlock()
	return d.append(ctx, decided{ReadBy: readBy, ReadAt: readAt, Verdicts: entries})
}

// CutBack takes away all decisions and comments after a link. It is for a docket that was replaced by a
// copy of itself which went on elsewhere; anything but decisions is refused.
func (d *Docket) CutBack(ctx context.Context, links int) error {
	rows, err := d.db.QueryContext(ctx, "SELECT seq, kind, content FROM links WHERE kind IN (?, ?, ?) OR seq > ? ORDER BY seq", linkDecide, linkComment, linkSign, links)
	if err != nil {
		return d.wrap(err)
	}
	kept, said, signed := 0, 0, 0
	for rows.Next() {
		var seq int
		var kind, content string
		var c decided
		if err = rows.Scan(&seq, &kind, &content); err != nil {
			break
		}
		if seq > links {
			if kind != linkDecide && kind != linkComment && kind != linkSign {
				err = &Error{Path: d.path, Message: "it was imported or rehearsed elsewhere, which cannot be taken over. Bring the file back as it was, or match again"}
				break
			}
			continue
		}
		var s commented
		var o signedOff
		if err = errors.Join(json.Unmarshal([]byte(content), &c), json.Unmarshal([]byte(content), &s), json.Unmarshal([]byte(content), &o)); err != nil {
			break
		}
		kept, said, signed = kept+len(c.Verdicts), said+len(s.Comments), signed+len(o.Signatures)
	}
	err = errors.Join(err, rows.Err(), rows.Close())
	if err != nil {
		return d.wrap(err)
	}
	return d.transaction(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, "DELETE FROM links WHERE seq > ?", links); err != nil {
			return err
		}
		for _, cut := range []struct {
			table string
			kept  int
		}{{"comments", said}, {"signatures", signed}} {
			if _, err := tx.ExecContext(ctx, "DELETE FROM "+cut.table+" WHERE seq > ?", cut.kept); err != nil {
				return err
			}
		}
		_, err := tx.ExecContext(ctx, "DELETE FROM decisions WHERE seq > ?", kept)
		return err
	})
}

// Happened is one link of the chain as far as its order matters: what it is about, and how many
// entries of the log, of the comments or of the signatures it added.
type Happened struct {
	Kind  string // decided, commented, signed or run
	Count int
}

// Order gives what happened to the docket, in its order.
func (d *Docket) Order(ctx context.Context) ([]Happened, error) {
	rows, err := d.db.QueryContext(ctx, "SELECT kind, content FROM links WHERE kind IN (?, ?, ?, ?) ORDER BY seq", linkDecide, linkComment, linkSign, linkStart)
	if err != nil {
		return nil, d.wrap(err)
	}
	defer rows.Close()
	var out []Happened
	for rows.Next() {
		var kind, content string
		var c struct {
			Verdicts   []json.RawMessage `json:"verdicts"`
			Comments   []json.RawMessage `json:"comments"`
			Signatures []json.RawMessage `json:"signatures"`
		}
		if err := rows.Scan(&kind, &content); err != nil {
			return nil, d.wrap(err)
		}
		if err := json.Unmarshal([]byte(content), &c); err != nil {
			return nil, d.wrap(err)
		}
		switch kind {
		case linkDecide:
			out = append(out, Happened{"decided", len(c.Verdicts)})
		case linkComment:
			out = append(out, Happened{"commented", len(c.Comments)})
		case linkSign:
			out = append(out, Happened{"signed", len(c.Signatures)})
		default:
			out = append(out, Happened{"run", 1})
		}
	}
	return out, d.wrap(rows.Err())
}
