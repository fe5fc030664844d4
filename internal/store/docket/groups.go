package docket

import (
	"context"
	"database/sql"
	"errors"

	"anagram/internal/core/group"
	"anagram/internal/core/record"
)

// Tie adds a record that a finding hangs on: its owner, or of one that only the target has
// what it refers to. It is kept until the findings are grouped.
func (b *Builder) Tie(ctx context.Context, finding int64, kind group.Kind, typ string, key record.Key, address string) error {
	if !b.ties {
		if err := b.exec(ctx, "CREATE TEMP TABLE ties (finding INTEGER NOT NULL, kind INTEGER NOT NULL, type TEXT NOT NULL, key_order BLOB NOT NULL, address TEXT NOT NULL)"); err != nil {
			return err
		}
		b.ties = true
	}
	return b.exec(ctx, "INSERT INTO ties VALUES (?,?,?,?,?)", finding, int(kind), typ, []byte(key.Order()), address)
}

// LooksLike adds that a new finding looks like one that only the target has.
func (b *Builder) LooksLike(source, target int64) {
	b.renamed = append(b.renamed, [2]int64{source, target})
}

// Group puts every finding into a group, once all that they hang on is known. Needs says
// whether what they need was looked up.
func (b *Builder) Group(ctx context.Context, needs bool) error {
	b.grouped = true
	// What each finding hangs on, in the order of findings.
	query := `SELECT f.id, f.status IN ('new', 'target-only') OR ` + adds + `, 0 AS kind, 0 AS hangs, '' AS on_address, 0 AS one_side, 0 AS alike FROM findings f`
	const other = "ifnull(o.id, 0), t.address, ifnull(o.status IN ('new', 'target-only') OR o.target IS NULL, 0), ifnull(o.rank = (SELECT rank FROM findings WHERE id = t.finding), 0)"
	if b.ties {
		query += " UNION ALL SELECT finding, 0, kind, " + other + " FROM ties t LEFT JOIN findings o ON o.type = t.type AND o.key_order = t.key_order WHERE t.kind = 1 OR o.status = 'target-only'"
	}
	if needs {
		query += " UNION ALL SELECT finding, 0, 2 - owner, needed, n.address, 1, n.type = f.type FROM needs n JOIN findings f ON f.id = n.finding WHERE needed <> 0 AND NOT frees"
		query += " UNION ALL SELECT finding, 0, 3, 0, address, 0, 0 FROM needs WHERE needed = 0 AND in_target = 0 AND NOT frees"
	}
	if len(b.renamed) > 0 {
		if err := b.exec(ctx, "CREATE TEMP TABLE renamed (source INTEGER NOT NULL, target INTEGER NOT NULL)"); err != nil {
			return err
		}
		for _, pair := range b.renamed {
			if err := b.exec(ctx, "INSERT INTO renamed VALUES (?,?)", pair[0], pair[1]); err != nil {
				return err
			}
		}
		query += " UNION ALL SELECT target, 0, 4, source, '', 1, 1 FROM renamed"
	}
	if b.ties {
		if err := b.exec(ctx, `INSERT OR IGNORE INTO hangs SELECT t.finding, o.id FROM ties t JOIN findings o ON o.type = t.type AND o.key_order = t.key_order
			JOIN findings f ON f.id = t.finding WHERE o.status = 'target-only' AND f.status = 'target-only' AND o.id <> f.id`); err != nil {
			return err
		}
	}
	rows, err := b.tx.QueryContext(ctx, query+" ORDER BY 1, 3")
	if err != nil {
		return err
	}
	grouping, err := readGrouping(rows)
	if err != nil {
		return err
	}
	for i, g := range grouping.Groups() {
		if err := b.exec(ctx, "INSERT INTO groups VALUES (?,?,?,?)", i+1, g.Head, string(g.Cause), g.Address); err != nil {
			return err
		}
	}
	for id := int64(1); id <= b.next; id++ {
		if err := b.exec(ctx, "INSERT INTO members VALUES (?,?,?)", id, grouping.Of(id)+1, grouping.Owner(id)); err != nil {
			return err
		}
	}
	return nil
}

func readGrouping(rows *sql.Rows) (*group.Builder, error) {
	defer rows.Close()
	b := group.New()
	var f group.Finding
	for rows.Next() {
		var id int64
		var oneSide bool
		var tie group.Tie
		if err := rows.Scan(&id, &oneSide, &tie.Kind, &tie.To, &tie.Address, &tie.OneSide, &tie.Alike); err != nil {
			return nil, err
		}
		if tie.Kind != 0 {
			f.Ties = append(f.Ties, tie)
			continue
		}
		if f.ID != 0 {
			b.Add(f)
		}
		f = group.Finding{ID: id, OneSide: oneSide}
	}
	if f.ID != 0 {
		b.Add(f)
	}
	return b, rows.Err()
}

// Group is findings that are decided together, as core/group has it.
type Group struct {
	Number int
	Cause  group.Cause
	// Address and title of the record that all hang on, which is a finding with this id, or
	// none with 0.
	Address, Title string
	Head           int64
	Size           int // findings
}

// Groups lists the groups of findings in the order of their first ones.
func (d *Docket) Groups(ctx context.Context) ([]Group, error) {
	rows, err := d.db.QueryContext(ctx, `SELECT g.id, g.cause, ifnull(f.address, g.address), ifnull(substr(f.title, 1, 300), ''), g.head, n.size
		FROM groups g LEFT JOIN findings f ON f.id = g.head JOIN (SELECT grp, count(*) AS size FROM members GROUP BY grp) n ON n.grp = g.id ORDER BY g.id`)
	if err != nil {
		return nil, d.wrap(err)
	}
	defer rows.Close()
	var out []Group
	for rows.Next() {
		var g Group
		if err := rows.Scan(&g.Number, &g.Cause, &g.Address, &g.Title, &g.Head, &g.Size); err != nil {
			return nil, d.wrap(err)
		}
		out = append(out, g)
	}
	return out, d.wrap(rows.Err())
}

// checkGroups refuses a docket in which a finding is in no group: nobody would see it.
func (d *Docket) checkGroups(ctx context.Context, q queryer) error {
	rows, err := q.QueryContext(ctx, `SELECT 1 FROM findings f LEFT JOIN members m ON m.finding = f.id LEFT JOIN groups g ON g.id = m.grp WHERE g.id IS NULL
		UNION ALL SELECT 1 FROM members m LEFT JOIN findings f ON f.id = m.finding WHERE f.id IS NULL
		UNION ALL SELECT 1 FROM groups g LEFT JOIN members m ON m.finding = g.head AND m.grp = g.id WHERE g.head <> 0 AND m.finding IS NULL
		UNION ALL SELECT 1 WHERE (SELECT count(*) FROM groups) <> (SELECT ifnull(max(id), 0) FROM groups) OR (SELECT min(id) FROM groups) < 1
		LIMIT 1`)
	if err != nil {
		return d.wrap(err)
	}
	strange := rows.Next()
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return d.wrap(err)
	}
	if strange {
		return d.altered("its findings are not in the groups that it lists")
	}
	return nil
}

// Hangs gives for findings that only the target has which others of those refer to them.
func (d *Docket) Hangs(ctx context.Context) (map[int64][]int64, error) {
	rows, err := d.db.QueryContext(ctx, "SELECT on_finding, finding FROM hangs ORDER BY on_finding, finding")
	if err != nil {
		return nil, d.wrap(err)
	}
	defer rows.Close()
	out := map[int64][]int64{}
	for rows.Next() {
		var on, from int64
		if err := rows.Scan(&on, &from); err != nil {
			return nil, d.wrap(err)
		}
		out[on] = append(out[on], from)
	}
	return out, d.wrap(rows.Err())
}
