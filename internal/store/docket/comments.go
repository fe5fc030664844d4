package docket

import (
	"context"
	"database/sql"
	"time"

	"anagram/internal/files/sqlitefile"
	"anagram/internal/store/docket/form"
	"anagram/internal/store/docket/run"
)

// Comment is what somebody asked or answered on a finding, without deciding it.
type Comment struct {
	At      string `json:"at"`
	Who     string `json:"who"`
	Finding int64  `json:"finding"`
	Text    string `json:"text"`
	To      string `json:"to,omitempty"` // who is asked, "" for nobody
	// Withdraws says that what its author asked on the finding before waits for nobody any more.
	Withdraws bool `json:"withdraws,omitempty"`
}

// commented is the content of a link.
type commented struct {
	ReadBy   string    `json:"read_by,omitempty"` // who read in what was said elsewhere
	ReadAt   string    `json:"read_at,omitempty"`
	Origin   *Origin   `json:"origin,omitempty"`
	Comments []Comment `json:"comments"`
}

// Comment adds comments, all or none, and makes them durable. ReadBy is who reads in what was
// said elsewhere, "" where it is said here.
func (d *Docket) Comment(ctx context.Context, readBy string, at time.Time, comments []Comment) error {
	if len(comments) == 0 {
		return nil
	}
	unlock, err := lockDecision(ctx, d)
	if err != nil {
		return err
	}
	defer unlock()
	of := commented{Comments: comments, Origin: d.origin}
	if readBy != "" {
		of.ReadBy, of.ReadAt = readBy, run.Stamp(at)
	}
	return d.transaction(ctx, func(tx *sql.Tx) error {
		if err := d.link(ctx, tx, linkComment, of); err != nil {
			return err
		}
		for _, c := range comments {
			if _, err := tx.ExecContext(ctx, "INSERT INTO comments (at, who, finding, text, more) VALUES (?,?,?,?,?)", c.At, c.Who,
				c.Finding, c.Text, form.MoreOfComment(c.To, c.Withdraws)); err != nil {
				return err
			}
		}
		return nil
	})
}

// Comments gives all comments in their order.
func (d *Docket) Comments(ctx context.Context) ([]Comment, error) {
	out, err := comments(ctx, d.db, d.version)
	return out, d.Wrap(err)
}

func comments(ctx context.Context, q sqlitefile.Queryer, version int) ([]Comment, error) {
	return sqlitefile.List(ctx, q, func(row sqlitefile.Row) (c Comment, err error) {
		more := ""
		if err := row.Scan(&c.At, &c.Who, &c.Finding, &c.Text, &more); err != nil {
			return c, err
		}
		c.To, c.Withdraws, err = form.ReadMoreOfComment(more)
		return c, err
	}, "SELECT at, who, finding, text, "+form.More(version)+" FROM comments ORDER BY seq")
}
