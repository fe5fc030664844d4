package docket

import (
	"context"
	"database/sql"
	"encoding/json"
	"slices"
	"strings"
	"time"

	"anagram/internal/core/record"
)

// Verdict is one line of the log of decisions.
type Verdict struct {
	Finding  int64
	Field    string // "" for the whole record
	Decision Decision
	Carried  int  // the earlier docket that it was decided in first, 0 for this one
	Rule     bool // by a standing rule of the workspace
}

// Decide appends verdicts to the log, all or none, and makes them durable. While the docket
// is imported it is refused.
func (d *Docket) Decide(ctx context.Context, who, note string, at time.Time, verdicts []Verdict) error {
	if len(verdicts) == 0 {
		return nil
	}
	unlock, err := d.lockDecision(ctx)
	if err != nil {
		return err
	}
	defer unlock()
	entries := make([]LogEntry, len(verdicts))
	for i, v := range verdicts {
		entries[i] = LogEntry{At: Stamp(at), Who: who, Finding: v.Finding, Field: v.Field, Decision: v.Decision, Note: note, Carried: v.Carried, Rule: v.Rule}
	}
	return d.append(ctx, decided{Verdicts: entries})
}

// append adds to the log and to the chain.
func (d *Docket) append(ctx context.Context, of decided) error {
	of.Origin = d.origin
	return d.transaction(ctx, func(tx *sql.Tx) error {
		if err := d.link(ctx, tx, linkDecide, of); err != nil {
			return err
		}
		stmt, err := tx.PrepareContext(ctx, "INSERT INTO decisions (at, who, finding, field, decision, note, carried, rule) VALUES (?,?,?,?,?,?,?,?)")
		if err != nil {
			return err
		}
		defer stmt.Close()
		for _, v := range of.Verdicts {
			if _, err := stmt.ExecContext(ctx, v.At, v.Who, v.Finding, v.Field, string(v.Decision), v.Note, v.Carried, v.Rule); err != nil {
				return err
			}
		}
		return nil
	})
}

// Stamp writes a time as dockets keep it: UTC, to the second.
func Stamp(t time.Time) string { return t.UTC().Format(time.RFC3339) }

func (d *Docket) transaction(ctx context.Context, do func(*sql.Tx) error) error {
	d.turn.Lock()
	defer d.turn.Unlock()
	tx, err := d.db.BeginTx(ctx, nil)
	if err != nil {
		return d.wrap(err)
	}
	d.announced = nil
	if err := do(tx); err != nil {
		_ = tx.Rollback()
		return d.wrap(err)
	}
	if err := tx.Commit(); err != nil {
		return d.wrap(err)
	}
	if d.announced != nil {
		return d.witness.Written(*d.announced)
	}
	return nil
}

// Run is one import or rehearsal.
type Run struct {
	Seq       int64
	Kind      string // import or rehearsal
	Who       string
	StartedAt string
	Journaled bool   // each write was lasting by itself, and is in the journal
	EndedAt   string // "" while it runs, or where it was interrupted
	Outcome   string // imported, rehearsed, blocked, interrupted, failed
	New       int
	Changed   int
	Removed   int
	LeftOut   int
	Message   string
}

// Kinds of runs.
const (
	ImportRun    = "import"
	RehearsalRun = "rehearsal"
	FilesRun     = "load files"   // written for somebody else to load
	ConfirmRun   = "confirmation" // a match found them loaded
)

// Outcomes of runs.
const (
	Imported    = "imported"
	Rehearsed   = "rehearsed"
	Blocked     = "blocked"
	Interrupted = "interrupted"
	Failed      = "failed"
	// Unknown is an import of whose end the target's answer was lost.
	Unknown = "unknown"
	// WrittenOtherwise is an import into a target without transactions in which something read
	// back other than it was written.
	WrittenOtherwise = "written-otherwise"
	// WrittenOut is that of load files; a later match finds out whether they were loaded.
	WrittenOut = "load-files"
)

// LoadsWait reports whether load files were written and are not confirmed yet.
func LoadsWait(runs []Run) bool {
	waiting := false
	for _, r := range runs {
		switch {
		case r.Kind == FilesRun && r.Outcome == WrittenOut:
			waiting = true
		case r.Done():
			waiting = false
		}
	}
	return waiting
}

// Unsettled reports whether the run is an import of which nobody knows how it ended: it
// was broken off while everything was made lasting, or the answer was lost. One that was
// broken off before wrote nothing.
func (r Run) Unsettled() bool { return r.Kind == ImportRun && r.Outcome == Unknown }

// LastUnsettled gives the import that a docket is left with, where nobody knows how it ended.
func LastUnsettled(runs []Run) (Run, bool) {
	for _, r := range slices.Backward(runs) {
		if r.Kind == ImportRun || r.Kind == ConfirmRun {
			return r, r.Unsettled()
		}
	}
	return Run{}, false
}

// Unfinished reports whether the run is an import that was broken off with some of it written.
func (r Run) Unfinished() bool {
	return r.Kind == ImportRun && r.Journaled && (r.EndedAt == "" || r.Outcome == Interrupted)
}

// LastUnfinished gives the import that a docket is left with, where it was broken off.
func LastUnfinished(runs []Run) (Run, bool) {
	for _, r := range slices.Backward(runs) {
		if r.Kind == ImportRun || r.Kind == ConfirmRun {
			return r, r.Unfinished()
		}
	}
	return Run{}, false
}

// Done reports whether the run ended with the approved records in the target.
func (r Run) Done() bool {
	return (r.Kind == ImportRun || r.Kind == ConfirmRun) && r.Outcome == Imported
}

// StartRun records that a run begins, durably.
func (d *Docket) StartRun(ctx context.Context, kind, who string, at time.Time) (int64, error) {
	var seq int64
	err := d.transaction(ctx, func(tx *sql.Tx) error {
		if err := tx.QueryRowContext(ctx, "SELECT ifnull(max(seq), 0) + 1 FROM runs").Scan(&seq); err != nil {
			return err
		}
		if err := d.link(ctx, tx, linkStart, started{Run: seq, Kind: kind, Who: who, Started: Stamp(at), Origin: d.origin}); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, "INSERT INTO runs (seq, kind, who, started_at) VALUES (?,?,?,?)", seq, kind, who, Stamp(at))
		return err
	})
	return seq, err
}

// ImagesKept seals the before-images that a run has kept, before it writes anything.
func (d *Docket) ImagesKept(ctx context.Context, run int64) error {
	return d.transaction(ctx, func(tx *sql.Tx) error {
		sum, err := imagesSum(ctx, tx, run)
		if err != nil {
			return err
		}
		return d.link(ctx, tx, linkImages, imagesKept{Run: run, Sum: sum})
	})
}

// AboutToCommit records what a run has written, durably, before it is made lasting: from
// here on, until it ends, nobody knows whether it was.
func (d *Docket) AboutToCommit(ctx context.Context, run Run) error {
	return d.transaction(ctx, func(tx *sql.Tx) error {
		sum, err := aftersSum(ctx, tx, run.Seq)
		if err != nil {
			return err
		}
		if err := d.link(ctx, tx, linkCommit, committing{Run: run.Seq, New: run.New, Changed: run.Changed, Removed: run.Removed, LeftOut: run.LeftOut, Afters: sum}); err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, "UPDATE runs SET outcome = ?, new = ?, changed = ?, removed = ?, left_out = ? WHERE seq = ?", Unknown, run.New, run.Changed, run.Removed, run.LeftOut, run.Seq)
		return err
	})
}

// Outcome is what became of one finding in a run.
type Outcome struct {
	Finding int64  `json:"finding"`
	Outcome string `json:"outcome,omitempty"` // written, already, left-out
	Why     string `json:"why,omitempty"`     // code, of those left out
	Message string `json:"message,omitempty"`
}

// What became of a finding in a run.
const (
	WasWritten = "written"
	WasAlready = "already" // it held the approved values before
	WasLeftOut = "left-out"
)

// EndRun records the outcome of a run and of each finding, all or none.
func (d *Docket) EndRun(ctx context.Context, run Run, at time.Time, outcomes []Outcome) error {
	return d.transaction(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, "UPDATE runs SET ended_at = ?, outcome = ?, new = ?, changed = ?, removed = ?, left_out = ?, message = ? WHERE seq = ?",
			Stamp(at), run.Outcome, run.New, run.Changed, run.Removed, run.LeftOut, run.Message, run.Seq); err != nil {
			return err
		}
		stmt, err := tx.PrepareContext(ctx, "INSERT INTO outcomes VALUES (?,?,?,?,?) ON CONFLICT DO UPDATE SET outcome = excluded.outcome, why = excluded.why, message = excluded.message")
		if err != nil {
			return err
		}
		defer stmt.Close()
		for _, o := range outcomes {
			if _, err := stmt.ExecContext(ctx, run.Seq, o.Finding, o.Outcome, o.Why, o.Message); err != nil {
				return err
			}
		}
		sum, err := outcomesSum(ctx, tx, run.Seq)
		if err != nil {
			return err
		}
		return d.link(ctx, tx, linkEnd, ended{Run: run.Seq, At: Stamp(at), Outcome: run.Outcome, New: run.New, Changed: run.Changed, Removed: run.Removed, LeftOut: run.LeftOut, Message: run.Message, Outcomes: sum})
	})
}

// Runs lists the runs, oldest first.
func (d *Docket) Runs(ctx context.Context) ([]Run, error) { return d.runs(ctx, d.db) }

func (d *Docket) runs(ctx context.Context, q queryer) ([]Run, error) {
	rows, err := q.QueryContext(ctx, "SELECT seq, kind, who, started_at, journaled, ended_at, outcome, new, changed, removed, left_out, message FROM runs ORDER BY seq")
	if err != nil {
		return nil, d.wrap(err)
	}
	defer rows.Close()
	var out []Run
	for rows.Next() {
		var r Run
		if err := rows.Scan(&r.Seq, &r.Kind, &r.Who, &r.StartedAt, &r.Journaled, &r.EndedAt, &r.Outcome, &r.New, &r.Changed, &r.Removed, &r.LeftOut, &r.Message); err != nil {
			return nil, d.wrap(err)
		}
		out = append(out, r)
	}
	return out, d.wrap(rows.Err())
}

// Outcomes lists what became of the findings in a run, by finding.
func (d *Docket) Outcomes(ctx context.Context, run int64, outcome string) ([]Outcome, error) {
	rows, err := d.db.QueryContext(ctx, "SELECT finding, outcome, why, message FROM outcomes WHERE run = ? AND outcome = ? ORDER BY finding", run, outcome)
	if err != nil {
		return nil, d.wrap(err)
	}
	defer rows.Close()
	var out []Outcome
	for rows.Next() {
		var o Outcome
		if err := rows.Scan(&o.Finding, &o.Outcome, &o.Why, &o.Message); err != nil {
			return nil, d.wrap(err)
		}
		out = append(out, o)
	}
	return out, d.wrap(rows.Err())
}

// Image is the before-image of a finding's record: a record line, "" where there was none.
type Image struct {
	Finding int64
	Line    string
	ID      string   // internal id, "" where there was none
	Beside  []string // sums of what the record has beside the fields that were compared
	// Writes are the fields that the run writes, of a new record all that it is given.
	Writes []string
	// Stored is what was stored where it would be written otherwise: see record.Record.
	Stored map[string]record.Stored
}

// besideImage is how a docket keeps what an image has beside its line.
type besideImage struct {
	Sums   []string                 `json:"sums"`
	Writes []string                 `json:"writes,omitempty"`
	Stored map[string]record.Stored `json:"stored,omitempty"`
}

// SaveBackup keeps before-images. They are on disk when it returns.
func (d *Docket) SaveBackup(ctx context.Context, run int64, images []Image) error {
	return d.transaction(ctx, func(tx *sql.Tx) error {
		stmt, err := tx.PrepareContext(ctx, "INSERT INTO backup VALUES (?,?,?,?,?)")
		if err != nil {
			return err
		}
		defer stmt.Close()
		for _, image := range images {
			beside, err := json.Marshal(besideImage{append([]string{}, image.Beside...), image.Writes, image.Stored})
			if err != nil {
				return err
			}
			if _, err := stmt.ExecContext(ctx, run, image.Finding, orNull(image.Line), image.ID, string(beside)); err != nil {
				return err
			}
		}
		return nil
	})
}

// Images gives the before-images that a run kept of some findings, by finding.
func (d *Docket) Images(ctx context.Context, run int64, ids []int64) (map[int64]Image, error) {
	out := make(map[int64]Image, len(ids))
	if len(ids) == 0 {
		return out, nil
	}
	d.turn.RLock()
	defer d.turn.RUnlock()
	args := []any{run}
	for _, id := range ids {
		args = append(args, id)
	}
	rows, err := d.db.QueryContext(ctx, "SELECT finding, ifnull(image, ''), internal_id, beside FROM backup WHERE run = ? AND finding IN (?"+strings.Repeat(", ?", len(ids)-1)+")", args...)
	if err != nil {
		return nil, d.wrap(err)
	}
	defer rows.Close()
	for rows.Next() {
		var image Image
		var beside string
		if err := rows.Scan(&image.Finding, &image.Line, &image.ID, &beside); err != nil {
			return nil, d.wrap(err)
		}
		var more besideImage
		if err := json.Unmarshal([]byte(beside), &more); err != nil {
			return nil, d.wrap(err)
		}
		image.Beside, image.Writes, image.Stored = more.Sums, more.Writes, more.Stored
		out[image.Finding] = image
	}
	return out, d.wrap(rows.Err())
}
