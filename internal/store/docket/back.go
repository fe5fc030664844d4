package docket

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"maps"
	"slices"
	"strings"

	"anagram/internal/core/match"
	"anagram/internal/core/record"
)

// What a docket needs that takes an import back, and what an import keeps for it.

// Back says what a finding takes back.
type Back struct {
	Finding int64 `json:"finding"` // in the docket whose import is taken back
	// Sum and ID are of a record that the import made, as it was read back then; see After.
	Sum string `json:"sum,omitempty"`
	ID  string `json:"id,omitempty"`
	// Stored are the forms in which values were stored before the import, by field.
	Stored map[string]record.Stored `json:"stored,omitempty"`
}

// Back adds what a finding takes back.
func (b *Builder) Back(ctx context.Context, finding int64, back Back) error {
	text, err := json.Marshal(back)
	if err != nil {
		return err
	}
	return b.exec(ctx, "INSERT INTO back VALUES (?,?)", finding, string(text))
}

// GivesUp tells which finding a record is, and whether what the finding proposes takes the
// value of a field away: the record is removed, or gets another value there.
func (b *Builder) GivesUp(ctx context.Context, typ, order, field string) (finding int64, gives bool, err error) {
	var reasons, fields string
	var status match.Status
	err = b.tx.QueryRowContext(ctx, "SELECT id, status, reasons, fields FROM findings WHERE type = ? AND key_order = ?", typ, []byte(order)).Scan(&finding, &status, &reasons, &fields)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, false, nil
	}
	if err != nil {
		return 0, false, err
	}
	var f Finding
	if err := errors.Join(json.Unmarshal([]byte(reasons), &f.Reasons), json.Unmarshal([]byte(fields), &f.Fields)); err != nil {
		return 0, false, err
	}
	f.Status = status
	differs := status != match.TargetOnly && !f.Hopeless() && slices.ContainsFunc(f.Fields, func(have Field) bool { return have.Field == field })
	return finding, f.Removes() || differs, nil
}

// Backs gives what some findings take back, by finding.
func (d *Docket) Backs(ctx context.Context, ids []int64) (map[int64]Back, error) {
	out := make(map[int64]Back, len(ids))
	if len(ids) == 0 || d.Header.Restores == 0 {
		return out, nil
	}
	d.turn.RLock()
	defer d.turn.RUnlock()
	list, args := idList(ids)
	rows, err := d.db.QueryContext(ctx, "SELECT finding, content FROM back WHERE finding IN "+list, args...)
	if err != nil {
		return nil, d.wrap(err)
	}
	defer rows.Close()
	for rows.Next() {
		var id int64
		var text string
		var back Back
		if err := rows.Scan(&id, &text); err != nil {
			return nil, d.wrap(err)
		}
		if err := json.Unmarshal([]byte(text), &back); err != nil {
			return nil, d.wrap(err)
		}
		out[id] = back
	}
	return out, d.wrap(rows.Err())
}

// ImageIDs lists the findings of which a run kept images.
func (d *Docket) ImageIDs(ctx context.Context, run int64) ([]int64, error) {
	found, err := d.ids(ctx, "SELECT finding FROM backup WHERE run = ?", run)
	return slices.Sorted(maps.Keys(found)), err
}

// After is a record that a run made, as it was read back: a sum of all that it holds, and its
// internal id.
type After struct {
	Finding int64
	Sum, ID string
}

// SaveAfters keeps what was read back of new records. It is sealed by AboutToCommit.
func (d *Docket) SaveAfters(ctx context.Context, run int64, afters []After) error {
	return d.transaction(ctx, func(tx *sql.Tx) error {
		for _, a := range afters {
			if _, err := tx.ExecContext(ctx, "INSERT OR REPLACE INTO afters VALUES (?,?,?,?)", run, a.Finding, a.Sum, a.ID); err != nil {
				return err
			}
		}
		return nil
	})
}

// Afters gives what a run read back of new records, by finding.
func (d *Docket) Afters(ctx context.Context, run int64) (map[int64]After, error) {
	out, err := afters(ctx, d.db, run)
	return out, d.wrap(err)
}

func afters(ctx context.Context, q queryer, run int64) (map[int64]After, error) {
	rows, err := q.QueryContext(ctx, "SELECT finding, sum, internal_id FROM afters WHERE run = ?", run)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[int64]After{}
	for rows.Next() {
		var a After
		if err := rows.Scan(&a.Finding, &a.Sum, &a.ID); err != nil {
			return nil, err
		}
		out[a.Finding] = a
	}
	return out, rows.Err()
}

// SumOf is the sum of a record as After has it: of its key and fields, and of what it has
// beside them. Stamps are left out.
func SumOf(fields []record.Field, rec record.Record) string {
	rec.Key, rec.ChangedAt, rec.ChangedBy = rec.Stands(), "", ""
	return linkSum(strings.Join(rec.Beside, " "), "record", string(record.AppendLine(nil, fields, rec)))
}
