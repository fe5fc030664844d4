package build

import (
	"context"
	"encoding/json"
	"slices"

	"anagram/internal/core/check"
	"anagram/internal/core/match"
	"anagram/internal/files/sqlitefile"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/form"
)

// Claim adds a claim of a finding; its Holder is found by LinkClaims.
func (b *Builder) Claim(ctx context.Context, c docket.Claim) error {
	fields, err := json.Marshal(c.Fields)
	if err != nil {
		return err
	}
	writes, err := json.Marshal(c.Writes)
	if err != nil {
		return err
	}
	if b.claims == 0 {
		if err := b.exec(ctx, "CREATE TEMP TABLE all_claims "+form.ClaimTable); err != nil {
			return err
		}
	}
	b.claims++
	return b.exec(ctx,
		"INSERT INTO all_claims (finding, fields, writes, proposed, wants, held_order, held_by, held_as, held_at, held_who, must) VALUES (?,?,?,?,?,?,?,?,?,?,?)",
		c.Finding, string(fields), string(writes), c.Proposed, []byte(c.Values), []byte(c.Order), c.HeldBy, c.HeldAs, c.Since.At,
		c.Since.By, c.Must)
}

// LinkClaims points claims at the findings of the records that hold what they want, and
// gives those that a finding proposes and cannot have: nobody offers to give the values
// up, or two findings want the same.
func (b *Builder) LinkClaims(ctx context.Context) ([]check.Clash, error) {
	if b.claims == 0 {
		return nil, nil
	}
	// What nobody holds and no other finding wants or waits for is of no interest.
	for _, statement := range []string{
		"CREATE INDEX temp.all_claims_finding ON all_claims (finding, fields)",
		"CREATE INDEX temp.all_claims_wants ON all_claims (fields, wants)",
		`UPDATE all_claims SET holder = ifnull((SELECT h.id FROM findings h, findings f
			WHERE f.id = all_claims.finding AND h.type = f.type AND h.key_order = all_claims.held_order), 0) WHERE held_by <> ''`,
		`CREATE TEMP TABLE contended AS SELECT finding, fields FROM all_claims WHERE held_by <> '' UNION SELECT holder, fields FROM all_claims WHERE holder <> 0
			UNION SELECT c.finding, c.fields FROM all_claims c JOIN (SELECT fields,
				wants FROM all_claims WHERE wants <> x'' GROUP BY fields, wants HAVING count(DISTINCT finding) > 1) d
			ON d.fields = c.fields AND d.wants = c.wants`,
		"INSERT INTO claims SELECT c.* FROM all_claims c JOIN contended d ON d.finding = c.finding AND d.fields = c.fields ORDER BY c.rowid",
		"DROP TABLE all_claims", "DROP TABLE contended",
	} {
		if _, err := b.tx.ExecContext(ctx, statement); err != nil {
			return nil, err
		}
	}
	all, err := sqlitefile.List(ctx, b.tx, func(row sqlitefile.Row) (check.Claim, error) {
		c, err := docket.ScanClaim(row)
		return c.Claim, err
	}, "SELECT "+docket.ClaimColumns+" WHERE c.proposed ORDER BY c.finding")
	if err != nil {
		return nil, err
	}
	return check.Clashes(all, func(int64, string) bool { return false }), nil
}

// Because makes a finding a conflict for a reason that shows only when it stands: values
// that it proposes are held by another record of the target, or it is held outside.
func (b *Builder) Because(ctx context.Context, finding int64, reason match.Reason) (was match.Status, err error) {
	var reasons string
	if err := b.tx.QueryRowContext(ctx, "SELECT status, reasons FROM findings WHERE id = ?", finding).Scan(&was, &reasons); err != nil {
		return was, err
	}
	var list []string
	if err := json.Unmarshal([]byte(reasons), &list); err != nil {
		return was, err
	}
	if slices.Contains(list, string(reason)) {
		return match.Conflict, nil
	}
	text, err := json.Marshal(append(list, string(reason)))
	if err != nil {
		return was, err
	}
	return was, b.exec(ctx, "UPDATE findings SET status = ?, reasons = ? WHERE id = ?", string(match.Conflict), string(text), finding)
}

// TypeOf gives the record type of a finding.
func (b *Builder) TypeOf(ctx context.Context, finding int64) (string, error) {
	var name string
	err := b.tx.QueryRowContext(ctx, "SELECT type FROM findings WHERE id = ?", finding).Scan(&name)
	return name, err
}

// Counts replaces the counts of a record type.
func (b *Builder) Counts(ctx context.Context, t docket.Type) error {
	args := []any{}
	for _, status := range match.Statuses() {
		args = append(args, t.Counts[status])
	}
	return b.exec(ctx,
		"UPDATE types SET conflict = ?, changed = ?, new = ?, target_edit = ?, target_only = ?, same = ? WHERE name = ?",
		append(args, t.Name)...)
}
