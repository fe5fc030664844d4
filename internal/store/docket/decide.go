package docket

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"anagram/internal/core/decision"
	"anagram/internal/store/docket/form"
	"anagram/internal/store/docket/run"
)

// Verdict is one line of the log of decisions.
type Verdict struct {
	Finding  int64
	Field    string // "" for the whole record
	Decision decision.Decision
	Carried  int  // the earlier docket that it was decided in first, 0 for this one
	Rule     bool // by a standing rule of the workspace
	// Overrules says of an approval that declines and holds of others before it do not count.
	Overrules bool
}

// Decide appends verdicts to the log, all or none, and makes them durable. While the docket
// is imported it is refused.
func (d *Docket) Decide(ctx context.Context, who, note string, at time.Time, verdicts []Verdict) error {
	if len(verdicts) == 0 {
		return nil
	}
	unlock, err := lockDecision(ctx, d)
	if err != nil {
		return err
	}
	defer unlock()
	entries := make([]LogEntry, len(verdicts))
	for i, v := range verdicts {
		entries[i] = LogEntry{At: run.Stamp(at), Who: who, Finding: v.Finding, Field: v.Field, Decision: v.Decision, Note: note,
			Carried: v.Carried, Rule: v.Rule, Overrules: v.Overrules}
	}
	return appendDecided(ctx, d, decided{Verdicts: entries})
}

// appendDecided adds to the log and to the chain.
func appendDecided(ctx context.Context, d *Docket, of decided) error {
	of.Origin = d.origin
	return d.transaction(ctx, func(tx *sql.Tx) error {
		if err := d.link(ctx, tx, linkDecide, of); err != nil {
			return err
		}
		stmt, err := tx.PrepareContext(ctx,
			"INSERT INTO decisions (at, who, finding, field, decision, note, carried, rule, more) VALUES (?,?,?,?,?,?,?,?,?)")
		if err != nil {
			return err
		}
		defer stmt.Close()
		for _, v := range of.Verdicts {
			if _, err := stmt.ExecContext(ctx, v.At, v.Who, v.Finding, v.Field, string(v.Decision), v.Note, v.Carried, v.Rule,
				form.MoreOf(v.Overrules)); err != nil {
				return err
			}
		}
		return nil
	})
}

func (d *Docket) transaction(ctx context.Context, do func(*sql.Tx) error) error {
	d.turn.Lock()
	defer d.turn.Unlock()
	// It is taken back here, and not by whoever cancels: that would go on after this has returned,
	// and a program that ends meanwhile would leave the file's journal.
	tx, err := d.db.BeginTx(context.WithoutCancel(ctx), nil)
	if err != nil {
		return d.Wrap(err)
	}
	d.announced = nil
	if err := errors.Join(do(tx), ctx.Err()); err != nil {
		_ = tx.Rollback()
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return d.Wrap(err)
	}
	if err := tx.Commit(); err != nil {
		return d.Wrap(err)
	}
	if d.announced != nil {
		return d.witness.Written(*d.announced)
	}
	return nil
}
