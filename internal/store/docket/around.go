package docket

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"time"
)

// What is run around an import stands in the chain: that it begins, before anything of it is
// run, and how it ended, so that what has to be run afterwards is run even after a kill.

const linkAround = "around"

// States of what is run around an import.
const (
	AroundBegins = "begins"
	AroundEnds   = "ends"
)

type around struct {
	State string `json:"state"`
	At    string `json:"at"`
	Who   string `json:"who"`
	// Ticked are the reminders that the person said were seen to.
	Ticked []string `json:"ticked,omitempty"`
}

// Surround records durably that what is run around an import begins, or that it ended.
func (d *Docket) Surround(ctx context.Context, state, who string, at time.Time, ticked []string) error {
	return d.transaction(ctx, func(tx *sql.Tx) error {
		return d.link(ctx, tx, linkAround, around{state, Stamp(at), who, ticked})
	})
}

// AfterDue reports whether what is run before an import was begun, and what is run after it
// did not end.
func (d *Docket) AfterDue(ctx context.Context) (bool, error) {
	var text string
	err := d.db.QueryRowContext(ctx, "SELECT content FROM links WHERE kind = ? ORDER BY seq DESC LIMIT 1", linkAround).Scan(&text)
	if errors.Is(err, sql.ErrNoRows) {
		return false, nil
	}
	if err != nil {
		return false, d.wrap(err)
	}
	var last around
	err = json.Unmarshal([]byte(text), &last)
	return last.State == AroundBegins, d.wrap(err)
}
