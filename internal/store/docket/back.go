package docket

// What a docket needs that takes an import back.

import (
	"context"
	"encoding/json"
	"strings"

	"anagram/internal/core/record"
	"anagram/internal/files/sqlitefile"
	"anagram/internal/store/docket/form"
)

// Back says what a finding takes back.
type Back struct {
	Finding int64 `json:"finding"` // in the docket whose import is taken back
	// Sum and ID are of a record that the import made, as it was read back then; see After.
	Sum string `json:"sum,omitempty"`
	ID  string `json:"id,omitempty"`
	// Stored are the forms in which values were stored before the import, by field.
	Stored map[string]record.Stored `json:"stored,omitempty"`
}

// Backs gives what some findings take back, by finding.
func (of Found) Backs(ctx context.Context, ids []int64) (map[int64]Back, error) {
	out := make(map[int64]Back, len(ids))
	if len(ids) == 0 {
		return out, nil
	}
	q, done := of.reading()
	defer done()
	marks, args := sqlitefile.Marks(ids)
	type kept struct {
		id int64
		Back
	}
	for k, err := range sqlitefile.Rows(ctx, q, func(row sqlitefile.Row) (k kept, err error) {
		var text string
		if err := row.Scan(&k.id, &text); err != nil {
			return k, err
		}
		return k, json.Unmarshal([]byte(text), &k.Back)
	}, "SELECT finding, content FROM back WHERE finding IN "+marks, args...) {
		if err != nil {
			return nil, of.wrap(err)
		}
		out[k.id] = k.Back
	}
	return out, nil
}

// SumOf is the sum of a record as After has it: of its key and fields, and of what it has
// beside them. Stamps are left out.
func SumOf(fields []record.Field, rec record.Record) string {
	rec.Key, rec.ChangedAt, rec.ChangedBy = rec.Stands(), "", ""
	return form.Link(strings.Join(rec.Beside().Sums, " "), "record", string(record.AppendLine(nil, fields, rec)))
}
