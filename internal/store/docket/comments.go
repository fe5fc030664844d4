package docket

import (
	"context"
	"database/sql"
	"slices"
	"time"
)

// Comment is what somebody asked or answered on a finding, without deciding it.
type Comment struct {
	At      string `json:"at"`
	Who     string `json:"who"`
	Finding int64  `json:"finding"`
	Text    string `json:"text"`
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
	unlock, err := d.lockDecision(ctx)
	if err != nil {
		return err
	}
	defer unlock()
	of := commented{Comments: comments, Origin: d.origin}
	if readBy != "" {
		of.ReadBy, of.ReadAt = readBy, Stamp(at)
	}
	return d.transaction(ctx, func(tx *sql.Tx) error {
		if err := d.link(ctx, tx, linkComment, of); err != nil {
			return err
		}
		for _, c := range comments {
			if _, err := tx.ExecContext(ctx, "INSERT INTO comments (at, who, finding, text) VALUES (?,?,?,?)", c.At, c.Who, c.Finding, c.Text); err != nil {
				return err
			}
		}
		return nil
	})
}

// Comments gives all comments in their order.
func (d *Docket) Comments(ctx context.Context) ([]Comment, error) { return d.comments(ctx, d.db) }

func (d *Docket) comments(ctx context.Context, q queryer) ([]Comment, error) {
	rows, err := q.QueryContext(ctx, "SELECT at, who, finding, text FROM comments ORDER BY seq")
	if err != nil {
		return nil, d.wrap(err)
	}
	defer rows.Close()
	var out []Comment
	for rows.Next() {
		var c Comment
		if err := rows.Scan(&c.At, &c.Who, &c.Finding, &c.Text); err != nil {
			return nil, d.wrap(err)
		}
		out = append(out, c)
	}
	return out, d.wrap(rows.Err())
}

// compareComments holds the table against the chain.
func (d *Docket) compareComments(ctx context.Context, q queryer, said []Comment) error {
	have, err := d.comments(ctx, q)
	if err == nil && !slices.Equal(have, said) {
		err = d.altered("its comments are not as its log says")
	}
	return err
}
