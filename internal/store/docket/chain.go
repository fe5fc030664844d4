package docket

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"

	"anagram/internal/core/decision"
	"anagram/internal/files/sqlitefile"
	"anagram/internal/store/docket/form"
	"anagram/internal/store/docket/run"
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

// Kinds of links, beside those that package run has.
const (
	linkDecide  = "decide"
	linkComment = "comment"
	linkSign    = "sign"
	linkEarlier = "earlier"
	linkRun     = "run" // of package run, for the order of things
)

// Head gives the seal as the docket itself says it, without looking at more than its last
// link and, where there is none, its digest.
func (d *Docket) Head(ctx context.Context) (Seal, error) {
	seal, err := head(ctx, d.db, d.digest)
	return seal, d.Wrap(err)
}

// head gives the last link; digest is that of the docket, "" where it was not worked out yet.
func head(ctx context.Context, q sqlitefile.Queryer, digest string) (Seal, error) {
	last, err := sqlitefile.List(ctx, q, func(row sqlitefile.Row) (seal Seal, err error) {
		return seal, row.Scan(&seal.Head, &seal.Links)
	}, "SELECT sum, seq FROM links ORDER BY seq DESC LIMIT 1")
	if err != nil {
		return Seal{}, err
	}
	if len(last) > 0 {
		return last[0], nil
	}
	if digest == "" {
		digest, err = form.Digest(ctx, q)
	}
	return Seal{Head: digest}, err
}

// LinkWith gives the number of the link with a sum, -1 where there is none.
func (d *Docket) LinkWith(ctx context.Context, sum string) (int, error) {
	n := -1
	err := d.db.QueryRowContext(ctx, "SELECT ifnull(max(seq), -1) FROM links WHERE sum = ?", sum).Scan(&n)
	return n, d.Wrap(err)
}

// link adds a link within a transaction. The witness hears of it first.
func (d *Docket) link(ctx context.Context, tx *sql.Tx, kind string, content any) error {
	text, err := json.Marshal(content)
	if err != nil {
		return err
	}
	last, err := head(ctx, tx, d.digest)
	if err != nil {
		return err
	}
	next := Seal{Before: last.Head, Head: form.Link(last.Head, kind, string(text)), Links: last.Links + 1}
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
	At       string            `json:"at"`
	Who      string            `json:"who"`
	Finding  int64             `json:"finding"`
	Field    string            `json:"field,omitempty"`
	Decision decision.Decision `json:"decision"`
	Note     string            `json:"note,omitempty"`
	Carried  int               `json:"carried,omitempty"`
	Rule     bool              `json:"rule,omitempty"` // by a standing rule of the workspace, by nobody
	// Overrules says of an approval that declines and holds of others before it do not count.
	Overrules bool `json:"overrules,omitempty"`
}

// decided is the content of a link.
type decided struct {
	Carried  bool       `json:"carried,omitempty"`
	ReadBy   string     `json:"read_by,omitempty"` // who read in what was decided elsewhere
	ReadAt   string     `json:"read_at,omitempty"`
	Origin   *Origin    `json:"origin,omitempty"`
	Verdicts []LogEntry `json:"verdicts"`
}

// linked is a link as it stands in the file.
type linked struct {
	seq                int
	kind, content, sum string
}

func scanLink(row sqlitefile.Row) (l linked, err error) {
	return l, row.Scan(&l.seq, &l.kind, &l.content, &l.sum)
}

// Verify goes through all of it and gives the seal. The error says what does not hold.
func (d *Docket) Verify(ctx context.Context) (Seal, error) {
	// All of it is read as at one moment: somebody may be deciding.
	tx, err := d.db.BeginTx(ctx, &sql.TxOptions{ReadOnly: true})
	if err != nil {
		return Seal{}, d.Wrap(err)
	}
	defer func() { _ = tx.Rollback() }()
	seal := Seal{}
	if seal.Digest, err = form.DigestOf(ctx, d.db); err != nil {
		return seal, d.Wrap(err)
	}
	d.digest = seal.Digest
	seal.Head = seal.Digest
	r := replay{runs: run.NewReplay()}
	for l, err := range sqlitefile.Rows(ctx, tx, scanLink, "SELECT seq, kind, content, sum FROM links ORDER BY seq") {
		if err != nil {
			return seal, d.Wrap(err)
		}
		next := form.Link(seal.Head, l.kind, l.content)
		if l.seq != seal.Links+1 || l.sum != next {
			return seal, altered(d.path, "link %d of its log is not the one that was written, or what the match found was changed", l.seq)
		}
		seal.Head, seal.Links = next, l.seq
		if err := r.take(l.kind, l.content); err != nil {
			return seal, altered(d.path, "link %d of its log cannot be read: %v", l.seq, err)
		}
	}
	wrong, err := r.differs(ctx, tx, d.version)
	if err == nil && wrong == "" {
		wrong, err = strangeGroups(ctx, tx)
	}
	if err == nil && wrong != "" {
		err = altered(d.path, "%s", wrong)
	}
	return seal, d.Wrap(err)
}

func altered(path, format string, args ...any) error {
	return &Error{Path: path, Message: "the docket was altered: " + fmt.Sprintf(format, args...)}
}

// Log gives all decisions in their order.
func (d *Docket) Log(ctx context.Context) ([]LogEntry, error) {
	out, missing, err := decisions(ctx, d.db, d.version)
	if err == nil && missing != 0 {
		err = altered(d.path, "decision %d is missing", missing)
	}
	return out, d.Wrap(err)
}

// decisions reads the table of decisions, and tells which one is missing, 0 where none is.
func decisions(ctx context.Context, q sqlitefile.Queryer, version int) (out []LogEntry, missing int, err error) {
	type row struct {
		seq int
		LogEntry
	}
	rows := sqlitefile.Rows(ctx, q, func(r sqlitefile.Row) (e row, err error) {
		return e, r.Scan(&e.seq, &e.At, &e.Who, &e.Finding, &e.Field, &e.Decision, &e.Note, &e.Carried, &e.Rule, &e.Overrules)
	}, "SELECT seq, at, who, finding, field, decision, note, carried, rule, "+form.Overrules(version)+" FROM decisions ORDER BY seq")
	for e, err := range rows {
		if err != nil {
			return nil, 0, err
		}
		if e.seq != len(out)+1 {
			return out, len(out) + 1, nil
		}
		out = append(out, e.LogEntry)
	}
	return out, 0, nil
}

// Join adds decisions that were made in a copy of the docket, as they were made there, and
// says who read them in.
func (d *Docket) Join(ctx context.Context, readBy, readAt string, entries []LogEntry) error {
	if len(entries) == 0 {
		return nil
	}
	unlock, err := lockDecision(ctx, d)
	if err != nil {
		return err
	}
	defer unlock()
	return appendDecided(ctx, d, decided{ReadBy: readBy, ReadAt: readAt, Verdicts: entries})
}

// CutBack takes away all decisions and comments after a link. It is for a docket that was replaced by a
// copy of itself which went on elsewhere; anything but decisions is refused.
func (d *Docket) CutBack(ctx context.Context, links int) error {
	kept, said, signed := 0, 0, 0
	for l, err := range sqlitefile.Rows(ctx, d.db, scanLink, "SELECT seq, kind, content, sum FROM links ORDER BY seq") {
		if err != nil {
			return d.Wrap(err)
		}
		ofPeople := l.kind == linkDecide || l.kind == linkComment || l.kind == linkSign
		if l.seq > links && !ofPeople {
			return &Error{Path: d.path,
				Message: "it was imported or rehearsed elsewhere, which cannot be taken over. Bring the file back as it was, or match again"}
		}
		if l.seq > links || !ofPeople {
			continue
		}
		h, err := happened(l)
		if err != nil {
			return d.Wrap(err)
		}
		switch h.Kind {
		case "decided":
			kept += h.Count
		case "commented":
			said += h.Count
		default:
			signed += h.Count
		}
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
	var out []Happened
	for l, err := range sqlitefile.Rows(ctx, d.db, scanLink,
		"SELECT seq, kind, content, sum FROM links WHERE kind IN (?, ?, ?, ?) ORDER BY seq",
		linkDecide, linkComment, linkSign, linkRun) {
		if err != nil {
			return nil, d.Wrap(err)
		}
		h, err := happened(l)
		if err != nil {
			return nil, d.Wrap(err)
		}
		out = append(out, h)
	}
	return out, nil
}

func happened(l linked) (Happened, error) {
	var c struct {
		Verdicts   []json.RawMessage `json:"verdicts"`
		Comments   []json.RawMessage `json:"comments"`
		Signatures []json.RawMessage `json:"signatures"`
	}
	err := json.Unmarshal([]byte(l.content), &c)
	switch l.kind {
	case linkDecide:
		return Happened{"decided", len(c.Verdicts)}, err
	case linkComment:
		return Happened{"commented", len(c.Comments)}, err
	case linkSign:
		return Happened{"signed", len(c.Signatures)}, err
	default:
		return Happened{"run", 1}, err
	}
}
