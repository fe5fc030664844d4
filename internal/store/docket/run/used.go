package run

import (
	"context"
	"encoding/json"

	"anagram/internal/files/sqlitefile"
)

// Used gives for each finding that an import of a docket wrote how many decisions the log had when
// the last such import ended: what was approved by then was carried out, and is used up.
func Used(ctx context.Context, b Book) (map[int64]int64, error) {
	q, done := b.Reading()
	defer done()
	var decided int64
	ends := map[int64]int64{} // by run
	for e, err := range sqlitefile.Rows(ctx, q, scanEntry,
		"SELECT kind, content FROM links WHERE kind IN ('decide', ?) ORDER BY seq", linkEnd) {
		if err != nil {
			return nil, b.Wrap(err)
		}
		var c struct {
			Run      int64             `json:"run"`
			Verdicts []json.RawMessage `json:"verdicts"`
		}
		if err := json.Unmarshal([]byte(e.content), &c); err != nil {
			return nil, b.Wrap(err)
		}
		if e.kind == linkEnd {
			ends[c.Run] = decided
		}
		decided += int64(len(c.Verdicts))
	}
	type wrote struct{ run, finding int64 }
	out := map[int64]int64{}
	for w, err := range sqlitefile.Rows(ctx, q, func(row sqlitefile.Row) (w wrote, err error) { return w, row.Scan(&w.run, &w.finding) },
		"SELECT o.run, o.finding FROM outcomes o JOIN runs r ON r.seq = o.run WHERE r.kind = ? AND o.outcome = ?", ImportRun, WasWritten) {
		if err != nil {
			return nil, b.Wrap(err)
		}
		out[w.finding] = max(out[w.finding], ends[w.run])
	}
	return out, nil
}
