package docket

import (
	"context"
	"database/sql"
	"slices"
	"time"

	"anagram/internal/files/sqlitefile"
	"anagram/internal/store/docket/run"
)

// Signature is a text of answers (package answers) with the signature that somebody put under
// it. Whether it proves anything is for whoever counts approvals.
type Signature struct {
	At        string `json:"at"` // when it came into the docket
	Who       string `json:"who"`
	Text      string `json:"text"`
	Signature string `json:"signature"`
}

// signedOff is the content of a link.
type signedOff struct {
	ReadBy     string      `json:"read_by,omitempty"` // who read in what was signed elsewhere
	Origin     *Origin     `json:"origin,omitempty"`
	Signatures []Signature `json:"signatures"`
}

// Sign adds signatures, all or none, and makes them durable. ReadBy is who reads in what was
// signed elsewhere, "" where it is signed here.
func (d *Docket) Sign(ctx context.Context, readBy string, at time.Time, signatures []Signature) error {
	if len(signatures) == 0 {
		return nil
	}
	unlock, err := lockDecision(ctx, d)
	if err != nil {
		return err
	}
	defer unlock()
	signatures = slices.Clone(signatures)
	for i := range signatures {
		signatures[i].At = run.Stamp(at)
	}
	return d.transaction(ctx, func(tx *sql.Tx) error {
		if err := d.link(ctx, tx, linkSign, signedOff{ReadBy: readBy, Origin: d.origin, Signatures: signatures}); err != nil {
			return err
		}
		for _, s := range signatures {
			if _, err := tx.ExecContext(ctx, "INSERT INTO signatures (at, who, text, signature) VALUES (?,?,?,?)", s.At, s.Who,
				s.Text, s.Signature); err != nil {
				return err
			}
		}
		return nil
	})
}

// Signatures gives all signatures in their order.
func (d *Docket) Signatures(ctx context.Context) ([]Signature, error) {
	out, err := signatures(ctx, d.db)
	return out, d.Wrap(err)
}

func signatures(ctx context.Context, q sqlitefile.Queryer) ([]Signature, error) {
	return sqlitefile.List(ctx, q, func(row sqlitefile.Row) (s Signature, err error) {
		return s, row.Scan(&s.At, &s.Who, &s.Text, &s.Signature)
	}, "SELECT at, who, text, signature FROM signatures ORDER BY seq")
}
