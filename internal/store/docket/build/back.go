package build

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"slices"

	"anagram/internal/core/match"
	"anagram/internal/store/docket"
)

// Back adds what a finding takes back.
func (b *Builder) Back(ctx context.Context, finding int64, back docket.Back) error {
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
	err = b.tx.QueryRowContext(ctx, "SELECT id, status, reasons, fields FROM findings WHERE type = ? AND key_order = ?", typ,
		[]byte(order)).Scan(&finding, &status, &reasons, &fields)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, false, nil
	}
	if err != nil {
		return 0, false, err
	}
	var f docket.Finding
	if err := errors.Join(json.Unmarshal([]byte(reasons), &f.Reasons), json.Unmarshal([]byte(fields), &f.Fields)); err != nil {
		return 0, false, err
	}
	f.Status = status
	differs := status != match.TargetOnly && !f.Hopeless() && slices.ContainsFunc(f.Fields,
		func(have docket.Field) bool { return have.Field == field })
	return finding, f.Removes() || differs, nil
}
