package docket

import (
	"context"
	"encoding/json"
	"errors"
	"maps"
	"slices"
	"strings"

	"anagram/internal/core/check"
	"anagram/internal/core/decision"
	"anagram/internal/core/match"
	"anagram/internal/files/sqlitefile"
)

// Line is a finding as a list of many shows it: without its fields and sides.
type Line struct {
	ID      int64
	Type    string
	Address string
	Title   string
	Status  match.Status
	Reasons []match.Reason
	Group   int
	Owner   int64 // as in Finding
	Stand   decision.Decision
	Blocked bool // a check of the match blocks it
}

// Asks reports whether the finding asks for a decision.
func (l Line) Asks() bool { return match.Asks(l.Status) || match.Removes(l.Status, l.Reasons) }

// Lines gives all findings as lines, by group, the head of each first. It is quick where many
// are open.
func (of Found) Lines(ctx context.Context) ([]Line, error) {
	stands := map[int64]decision.Decision{}
	for f, err := range of.Stands(ctx) {
		if err != nil {
			return nil, err
		}
		stands[f.ID] = f.Stand()
	}
	blocked, err := of.ids(ctx, "SELECT DISTINCT finding FROM checks WHERE finding IS NOT NULL AND level = 'blocker' AND NOT partial")
	if err != nil {
		return nil, err
	}
	out, err := sqlitefile.List(ctx, of.db, func(row sqlitefile.Row) (l Line, err error) {
		var texts string
		if err := row.Scan(&l.ID, &l.Group, &l.Owner, &texts); err != nil {
			return l, err
		}
		l.Stand, l.Blocked = decision.Undecided, blocked[l.ID]
		if stand, ok := stands[l.ID]; ok {
			l.Stand = stand
		}
		return l, l.read(texts)
	}, `SELECT f.id, m.grp, m.owner, f.type || char(31) || f.status || char(31) || f.reasons || char(31) || f.address || char(31) || substr(f.title, 1, 300)
		FROM findings f JOIN members m ON m.finding = f.id ORDER BY f.id`)
	if err != nil {
		return nil, of.wrap(err)
	}
	heads, err := of.ids(ctx, "SELECT head FROM groups WHERE head <> 0")
	if err != nil {
		return nil, err
	}
	// Here, as the database would sort them on disk.
	slices.SortFunc(out, func(a, b Line) int {
		switch {
		case a.Group != b.Group:
			return a.Group - b.Group
		case heads[a.ID] != heads[b.ID]:
			if heads[a.ID] {
				return -1
			}
			return 1
		}
		return int(a.ID - b.ID)
	})
	return out, nil
}

// read takes the texts of a line apart. They come in one, as each column of each row costs its
// time; only the title, which comes last, can hold the sign between them.
func (l *Line) read(texts string) error {
	parts := strings.SplitN(texts, "\x1f", 5)
	if len(parts) < 5 {
		return errors.New("a finding cannot be read")
	}
	l.Type, l.Status, l.Address, l.Title = parts[0], match.Status(parts[1]), parts[3], parts[4]
	if parts[2] == "[]" {
		return nil
	}
	return json.Unmarshal([]byte(parts[2]), &l.Reasons)
}

// ids gives the findings that a query selects.
func (of Found) ids(ctx context.Context, query string, args ...any) (map[int64]bool, error) {
	out := map[int64]bool{}
	for id, err := range sqlitefile.Rows(ctx, of.db, sqlitefile.One[int64], query, args...) {
		if err != nil {
			return nil, of.wrap(err)
		}
		out[id] = true
	}
	return out, nil
}

// Linked is another record that a finding refers to, or that waits for it.
type Linked struct {
	Field   string
	Address string
	Finding int64 // 0 where it is none of this docket
}

// Links gives what a finding's proposed values refer to, and which findings refer to it.
func (of Found) Links(ctx context.Context, id int64) (to, from []Linked, err error) {
	scan := func(row sqlitefile.Row) (l Linked, err error) { return l, row.Scan(&l.Field, &l.Address, &l.Finding) }
	if to, err = sqlitefile.List(ctx, of.db, scan, "SELECT field, address, needed FROM needs WHERE finding = ? ORDER BY rowid",
		id); err != nil {
		return nil, nil, of.wrap(err)
	}
	from, err = sqlitefile.List(ctx, of.db, scan,
		"SELECT n.field, f.address, f.id FROM needs n JOIN findings f ON f.id = n.finding WHERE n.needed = ? ORDER BY f.id, n.rowid LIMIT 200", id)
	return to, from, of.wrap(err)
}

// ChecksOf gives the checks of one finding.
func (of Found) ChecksOf(ctx context.Context, id int64) ([]check.On, error) {
	all, err := of.checks(ctx, "WHERE finding = ?", id)
	return all[id], err
}

// Attachment tells of an attachment that the docket holds, by the head of its SHA-256: its
// size and how it begins. Ok is false where the docket does not hold it, or several like it.
func (of Found) Attachment(ctx context.Context, head string) (size int64, begin []byte, ok bool) {
	n := 0
	err := of.db.QueryRowContext(ctx, `SELECT count(DISTINCT sha256), ifnull(sum(length(data)), 0),
		(SELECT substr(c.data, 1, 512) FROM contents c WHERE c.sha256 >= ?1 AND c.sha256 < ?2 AND c.part = 0 LIMIT 1)
		FROM contents WHERE sha256 >= ?1 AND sha256 < ?2`, head, head+"g").Scan(&n, &size, &begin)
	return size, begin, err == nil && n == 1
}

// Named gives the findings that have an address, or whose record has it in the target.
func (of Found) Named(ctx context.Context, address string) ([]int64, error) {
	found, err := of.ids(ctx, "SELECT id FROM findings WHERE address = ?", address)
	if err == nil && len(found) == 0 {
		found, err = of.ids(ctx, "SELECT id FROM findings WHERE was = ?", address)
	}
	return slices.Sorted(maps.Keys(found)), err
}
