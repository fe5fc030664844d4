package docket

import (
	"context"
	"database/sql"
	"slices"
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
	unlock, err := d.lockDecision(ctx)
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

func (d *Docket) earlier(ctx context.Context, q queryer) ([]Earlier, error) {
	rows, err := q.QueryContext(ctx, "SELECT finding, docket, who, note FROM earlier ORDER BY finding")
	if err != nil {
		return nil, d.wrap(err)
	}
	defer rows.Close()
	var out []Earlier
	for rows.Next() {
		var e Earlier
		if err := rows.Scan(&e.Finding, &e.Docket, &e.Who, &e.Note); err != nil {
			return nil, d.wrap(err)
		}
		out = append(out, e)
	}
	return out, d.wrap(rows.Err())
}

// compareEarlier holds the table against the chain.
func (d *Docket) compareEarlier(ctx context.Context, q queryer, told []Earlier) error {
	have, err := d.earlier(ctx, q)
	told = slices.Clone(told)
	slices.SortFunc(told, func(a, b Earlier) int { return int(a.Finding - b.Finding) })
	if err == nil && !slices.Equal(have, told) {
		err = d.altered("the earlier approvals that it tells of are not as its log says")
	}
	return err
}
