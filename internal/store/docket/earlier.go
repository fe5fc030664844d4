package docket

import (
	"context"
	"database/sql"

	"anagram/internal/files/sqlitefile"
)

// Earlier is an approval of an earlier docket on the values that both sides still have: it
// never counts by itself, and can be given again.
type Earlier struct {
	Finding int64  `json:"finding"`
	Docket  int    `json:"docket"`
	Who     string `json:"who"`
	Note    string `json:"note,omitempty"`
}

// earlierApproved is the content of a link.
type earlierApproved struct {
	Earlier []Earlier `json:"earlier"`
}

// ApprovedBefore keeps approvals of earlier dockets, all or none.
func (d *Docket) ApprovedBefore(ctx context.Context, list []Earlier) error {
	if len(list) == 0 {
		return nil
	}
	unlock, err := lockDecision(ctx, d)
	if err != nil {
		return err
	}
	defer unlock()
	return d.transaction(ctx, func(tx *sql.Tx) error {
		if err := d.link(ctx, tx, linkEarlier, earlierApproved{list}); err != nil {
			return err
		}
		for _, e := range list {
			if _, err := tx.ExecContext(ctx, "INSERT INTO earlier VALUES (?,?,?,?)", e.Finding, e.Docket, e.Who, e.Note); err != nil {
				return err
			}
		}
		return nil
	})
}

func earlier(ctx context.Context, q sqlitefile.Queryer) ([]Earlier, error) {
	return sqlitefile.List(ctx, q, func(row sqlitefile.Row) (e Earlier, err error) {
		return e, row.Scan(&e.Finding, &e.Docket, &e.Who, &e.Note)
	}, "SELECT finding, docket, who, note FROM earlier ORDER BY finding")
}
