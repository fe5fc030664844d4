package run

import (
	"context"
	"database/sql"
	"encoding/json"
	"time"

	"anagram/internal/core/record"
	"anagram/internal/files/sqlitefile"
	"anagram/internal/store/docket/form"
)

// Kinds of links that are about a run.
const (
	linkStart  = "run"
	linkImages = "images"
	linkCommit = "commit"
	linkEnd    = "end"
	linkPlan   = "plan"
	linkStep   = "step"
	linkAround = "around"
)

// Contents of links.
type (
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

// Start records that a run begins, durably, and gives its number.
func Start(ctx context.Context, b Book, kind, who string, at time.Time) (int64, error) {
	var seq int64
	err := b.Change(ctx, func(tx *sql.Tx, link func(string, any) error) error {
		if err := tx.QueryRowContext(ctx, "SELECT ifnull(max(seq), 0) + 1 FROM runs").Scan(&seq); err != nil {
			return err
		}
		if err := link(linkStart, started{Run: seq, Kind: kind, Who: who, Started: Stamp(at), Origin: b.Where()}); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, "INSERT INTO runs (seq, kind, who, started_at) VALUES (?,?,?,?)", seq, kind, who, Stamp(at))
		return err
	})
	return seq, err
}

// ImagesKept seals the before-images that a run has kept, before it writes anything.
func ImagesKept(ctx context.Context, b Book, run int64) error {
	return b.Change(ctx, func(tx *sql.Tx, link func(string, any) error) error {
		sum, err := form.ImagesSum(ctx, tx, run)
		if err != nil {
			return err
		}
		return link(linkImages, imagesKept{Run: run, Sum: sum})
	})
}

// AboutToCommit records what a run has written, durably, before it is made lasting: from
// here on, until it ends, nobody knows whether it was.
func AboutToCommit(ctx context.Context, b Book, run Run) error {
	return b.Change(ctx, func(tx *sql.Tx, link func(string, any) error) error {
		sum, err := form.AftersSum(ctx, tx, run.Seq)
		if err != nil {
			return err
		}
		c := committing{Run: run.Seq, New: run.New, Changed: run.Changed, Removed: run.Removed, LeftOut: run.LeftOut, Afters: sum}
		if err := link(linkCommit, c); err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, "UPDATE runs SET outcome = ?, new = ?, changed = ?, removed = ?, left_out = ? WHERE seq = ?",
			Unknown, run.New, run.Changed, run.Removed, run.LeftOut, run.Seq)
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

// End records the outcome of a run and of each finding, all or none.
func End(ctx context.Context, b Book, run Run, at time.Time, outcomes []Outcome) error {
	return b.Change(ctx, func(tx *sql.Tx, link func(string, any) error) error {
		if _, err := tx.ExecContext(ctx,
			"UPDATE runs SET ended_at = ?, outcome = ?, new = ?, changed = ?, removed = ?, left_out = ?, message = ? WHERE seq = ?",
			Stamp(at), run.Outcome, run.New, run.Changed, run.Removed, run.LeftOut, run.Message, run.Seq); err != nil {
			return err
		}
		stmt, err := tx.PrepareContext(ctx,
			"INSERT INTO outcomes VALUES (?,?,?,?,?) ON CONFLICT DO UPDATE SET outcome = excluded.outcome, why = excluded.why, message = excluded.message")
		if err != nil {
			return err
		}
		defer stmt.Close()
		for _, o := range outcomes {
			if _, err := stmt.ExecContext(ctx, run.Seq, o.Finding, o.Outcome, o.Why, o.Message); err != nil {
				return err
			}
		}
		sum, err := form.OutcomesSum(ctx, tx, run.Seq)
		if err != nil {
			return err
		}
		return link(linkEnd, ended{Run: run.Seq, At: Stamp(at), Outcome: run.Outcome, New: run.New, Changed: run.Changed,
			Removed: run.Removed,
			LeftOut: run.LeftOut, Message: run.Message, Outcomes: sum})
	})
}

// Outcomes lists what became of the findings in a run, by finding.
func Outcomes(ctx context.Context, b Book, run int64, outcome string) ([]Outcome, error) {
	return read(ctx, b, func(row sqlitefile.Row) (o Outcome, err error) {
		return o, row.Scan(&o.Finding, &o.Outcome, &o.Why, &o.Message)
	}, "SELECT finding, outcome, why, message FROM outcomes WHERE run = ? AND outcome = ? ORDER BY finding", run, outcome)
}

// Image is the before-image of a finding's record: a record line, "" where there was none.
type Image struct {
	Finding int64
	Line    string
	ID      string // internal id, "" where there was none
	record.Kept
	// Writes are the fields that the run writes, of a new record all that it is given.
	Writes []string
}

// besideImage is how a docket keeps what an image has beside its line.
type besideImage struct {
	Sums   []string                 `json:"sums"`
	Writes []string                 `json:"writes,omitempty"`
	Stored map[string]record.Stored `json:"stored,omitempty"`
}

// SaveImages keeps before-images. They are on disk when it returns.
func SaveImages(ctx context.Context, b Book, run int64, images []Image) error {
	return b.Change(ctx, func(tx *sql.Tx, _ func(string, any) error) error {
		stmt, err := tx.PrepareContext(ctx, "INSERT INTO backup VALUES (?,?,?,?,?)")
		if err != nil {
			return err
		}
		defer stmt.Close()
		for _, image := range images {
			beside, err := json.Marshal(besideImage{append([]string{}, image.Sums...), image.Writes, image.Stored})
			if err != nil {
				return err
			}
			var line any
			if image.Line != "" {
				line = image.Line
			}
			if _, err := stmt.ExecContext(ctx, run, image.Finding, line, image.ID, string(beside)); err != nil {
				return err
			}
		}
		return nil
	})
}

// Images gives the before-images that a run kept of some findings, by finding.
func Images(ctx context.Context, b Book, run int64, ids []int64) (map[int64]Image, error) {
	if len(ids) == 0 {
		return map[int64]Image{}, nil
	}
	q, done := b.Reading()
	defer done()
	marks, args := sqlitefile.Marks(ids)
	out, err := sqlitefile.By(ctx, q, func(image Image) int64 { return image.Finding }, func(row sqlitefile.Row) (image Image, err error) {
		var beside string
		if err := row.Scan(&image.Finding, &image.Line, &image.ID, &beside); err != nil {
			return image, err
		}
		var more besideImage
		err = json.Unmarshal([]byte(beside), &more)
		image.Kept, image.Writes = record.Kept{Sums: more.Sums, Stored: more.Stored}, more.Writes
		return image, err
	}, "SELECT finding, ifnull(image, ''), internal_id, beside FROM backup WHERE run = ? AND finding IN "+marks,
		append([]any{run}, args...)...)
	return out, b.Wrap(err)
}

// ImageIDs lists the findings of which a run kept images.
func ImageIDs(ctx context.Context, b Book, run int64) ([]int64, error) {
	return read(ctx, b, sqlitefile.One[int64], "SELECT DISTINCT finding FROM backup WHERE run = ? ORDER BY finding", run)
}

// After is a record that a run made, as it was read back: a sum of all that it holds, and its
// internal id.
type After struct {
	Finding int64
	Sum, ID string
}

// SaveAfters keeps what was read back of new records. It is sealed by AboutToCommit.
func SaveAfters(ctx context.Context, b Book, run int64, afters []After) error {
	return b.Change(ctx, func(tx *sql.Tx, _ func(string, any) error) error {
		for _, a := range afters {
			if _, err := tx.ExecContext(ctx, "INSERT OR REPLACE INTO afters VALUES (?,?,?,?)", run, a.Finding, a.Sum, a.ID); err != nil {
				return err
			}
		}
		return nil
	})
}

// Afters gives what a run read back of new records, by finding.
func Afters(ctx context.Context, b Book, run int64) (map[int64]After, error) {
	q, done := b.Reading()
	defer done()
	out, err := afters(ctx, q, run)
	return out, b.Wrap(err)
}

func afters(ctx context.Context, q sqlitefile.Queryer, run int64) (map[int64]After, error) {
	return sqlitefile.By(ctx, q, func(a After) int64 { return a.Finding }, func(row sqlitefile.Row) (a After, err error) {
		return a, row.Scan(&a.Finding, &a.Sum, &a.ID)
	}, "SELECT finding, sum, internal_id FROM afters WHERE run = ?", run)
}
