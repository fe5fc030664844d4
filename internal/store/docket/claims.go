package docket

import (
	"context"
	"encoding/json"

	"anagram/internal/core/check"
	"anagram/internal/files/sqlitefile"
)

// Claim is what writing some fields of a finding would do to a set of values that is
// unique in the target.
type Claim struct {
	check.Claim
	Type     string
	Writes   []string // of the set's fields, those that would be written
	Proposed bool     // these are all that the finding proposes to write
	Order    string   // key of the record that holds the values now
}

// ClaimColumns are what ScanClaim takes of a query for claims.
const ClaimColumns = `c.finding, f.address, f.type, c.fields, c.writes, c.proposed, c.wants, c.held_by, c.held_as, c.held_at, c.held_who,
	c.must, c.holder FROM claims c JOIN findings f ON f.id = c.finding`

// ScanClaim reads a row of such a query.
func ScanClaim(row sqlitefile.Row) (Claim, error) {
	var c Claim
	var fields, writes string
	var wants []byte
	if err := row.Scan(&c.Finding, &c.Address, &c.Type, &fields, &writes, &c.Proposed, &wants, &c.HeldBy, &c.HeldAs, &c.Since.At,
		&c.Since.By, &c.Must, &c.Holder); err != nil {
		return c, err
	}
	c.Values, c.Set = string(wants), c.Type+" "+fields
	if err := json.Unmarshal([]byte(fields), &c.Fields); err != nil {
		return c, err
	}
	return c, json.Unmarshal([]byte(writes), &c.Writes)
}

// Claims lists the claims of all findings, by finding.
func (of Found) Claims(ctx context.Context) (map[int64][]Claim, error) {
	out := map[int64][]Claim{}
	for c, err := range sqlitefile.Rows(ctx, of.db, ScanClaim, "SELECT "+ClaimColumns+" ORDER BY c.rowid") {
		if err != nil {
			return nil, of.wrap(err)
		}
		out[c.Finding] = append(out[c.Finding], c)
	}
	return out, nil
}
