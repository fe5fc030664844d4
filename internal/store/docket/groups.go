package docket

import (
	"context"

	"anagram/internal/core/group"
	"anagram/internal/files/sqlitefile"
)

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
func (of Found) Groups(ctx context.Context) ([]Group, error) {
	out, err := sqlitefile.List(ctx, of.db, func(row sqlitefile.Row) (g Group, err error) {
		return g, row.Scan(&g.Number, &g.Cause, &g.Address, &g.Title, &g.Head, &g.Size)
	}, `SELECT g.id, g.cause, ifnull(f.address, g.address), ifnull(substr(f.title, 1, 300), ''), g.head, n.size
		FROM groups g LEFT JOIN findings f ON f.id = g.head JOIN (SELECT grp,
			count(*) AS size FROM members GROUP BY grp) n ON n.grp = g.id ORDER BY g.id`)
	return out, of.wrap(err)
}

// strangeGroups says what is wrong with the groups: a finding that is in none would be seen by
// nobody. It gives "" where all is well.
func strangeGroups(ctx context.Context, q sqlitefile.Queryer) (string, error) {
	strange, err := sqlitefile.List(ctx, q, sqlitefile.One[int], `SELECT 1 FROM findings f
		LEFT JOIN members m ON m.finding = f.id LEFT JOIN groups g ON g.id = m.grp WHERE g.id IS NULL
		UNION ALL SELECT 1 FROM members m LEFT JOIN findings f ON f.id = m.finding WHERE f.id IS NULL
		UNION ALL SELECT 1 FROM groups g LEFT JOIN members m ON m.finding = g.head AND m.grp = g.id WHERE g.head <> 0 AND m.finding IS NULL
		UNION ALL SELECT 1 WHERE (SELECT count(*) FROM groups) <> (SELECT ifnull(max(id),
			0) FROM groups) OR (SELECT min(id) FROM groups) < 1
		LIMIT 1`)
	if err != nil || len(strange) == 0 {
		return "", err
	}
	return "its findings are not in the groups that it lists", nil
}

// Hangs gives for findings that only the target has which others of those refer to them.
func (of Found) Hangs(ctx context.Context) (map[int64][]int64, error) {
	out := map[int64][]int64{}
	for pair, err := range sqlitefile.Rows(ctx, of.db, func(row sqlitefile.Row) (p [2]int64, err error) {
		return p, row.Scan(&p[0], &p[1])
	}, "SELECT on_finding, finding FROM hangs ORDER BY on_finding, finding") {
		if err != nil {
			return nil, of.wrap(err)
		}
		out[pair[0]] = append(out[pair[0]], pair[1])
	}
	return out, nil
}
