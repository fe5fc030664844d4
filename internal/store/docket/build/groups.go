package build

import (
	"context"
	"iter"

	"anagram/internal/core/group"
	"anagram/internal/core/record"
	"anagram/internal/files/sqlitefile"
)

// Tie adds a record that a finding hangs on: its owner, or of one that only the target has
// what it refers to. It is kept until the findings are grouped.
func (b *Builder) Tie(ctx context.Context, finding int64, kind group.Kind, typ string, key record.Key, address string) error {
	if !b.ties {
		if err := b.exec(ctx,
			"CREATE TEMP TABLE ties (finding INTEGER NOT NULL, kind INTEGER NOT NULL, type TEXT NOT NULL, key_order BLOB NOT NULL, address TEXT NOT NULL)"); err != nil {
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
	query := `SELECT f.id, f.status IN ('new', 'target-only') OR ` + adds +
		`, 0 AS kind, 0 AS hangs, '' AS on_address, 0 AS one_side, 0 AS alike FROM findings f`
	const other = "ifnull(o.id, 0), t.address, ifnull(o.status IN ('new', 'target-only') OR o.target IS NULL, 0), ifnull(o.rank = (SELECT rank FROM findings WHERE id = t.finding), 0)"
	if b.ties {
		query += " UNION ALL SELECT finding, 0, kind, " + other +
			" FROM ties t LEFT JOIN findings o ON o.type = t.type AND o.key_order = t.key_order WHERE t.kind = 1 OR o.status = 'target-only'"
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
		if err := b.exec(ctx,
			`INSERT OR IGNORE INTO hangs SELECT t.finding, o.id FROM ties t JOIN findings o ON o.type = t.type AND o.key_order = t.key_order
			JOIN findings f ON f.id = t.finding WHERE o.status = 'target-only' AND f.status = 'target-only' AND o.id <> f.id`); err != nil {
			return err
		}
	}
	grouping, err := readGrouping(sqlitefile.Rows(ctx, b.tx, scanTie, query+" ORDER BY 1, 3"))
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

// tied is a finding, or with a kind of tie what it hangs on.
type tied struct {
	id      int64
	oneSide bool
	group.Tie
}

func scanTie(row sqlitefile.Row) (t tied, err error) {
	return t, row.Scan(&t.id, &t.oneSide, &t.Kind, &t.To, &t.Address, &t.OneSide, &t.Alike)
}

func readGrouping(rows iter.Seq2[tied, error]) (*group.Builder, error) {
	b := group.New()
	var f group.Finding
	for t, err := range rows {
		if err != nil {
			return nil, err
		}
		if t.Kind != 0 {
			f.Ties = append(f.Ties, t.Tie)
			continue
		}
		if f.ID != 0 {
			b.Add(f)
		}
		f = group.Finding{ID: t.id, OneSide: t.oneSide}
	}
	if f.ID != 0 {
		b.Add(f)
	}
	return b, nil
}
