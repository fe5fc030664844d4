package docket

import (
	"context"
	"database/sql"
	"slices"
	"time"
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
	unlock, err := d.lockDecision(ctx)
	if err != nil {
		return err
	}
	defer unlock()
	signatures = slices.Clone(signatures)
	for i := range signatures {
		signatures[i].At = Stamp(at)
	}
	return d.transaction(ctx, func(tx *sql.Tx) error {
		if err := d.link(ctx, tx, linkSign, signedOff{ReadBy: readBy, Origin: d.origin, Signatures: signatures}); err != nil {
			return err
		}
		for _, s := range signatures {
			if _, err := tx.ExecContext(ctx, "INSERT INTO signatures (at, who, text, signature) VALUES (?,?,?,?)", s.At, s.Who, s.Text, s.Signature); err != nil {
				return err
			}
		}
		return nil
	})
}

// Signatures gives all signatures in their order.
func (d *Docket) Signatures(ctx context.Context) ([]Signature, error) { return d.signatures(ctx, d.db) }

func (d *Docket) signatures(ctx context.Context, q queryer) ([]Signature, error) {
	rows, err := q.QueryContext(ctx, "SELECT at, who, text, signature FROM signatures ORDER BY seq")
	if err != nil {
		return nil, d.wrap(err)
	}
	defer rows.Close()
	var out []Signature
	for rows.Next() {
		var s Signature
		if err := rows.Scan(&s.At, &s.Who, &s.Text, &s.Signature); err != nil {
			return nil, d.wrap(err)
		}
		out = append(out, s)
	}
	return out, d.wrap(rows.Err())
}

// compareSignatures holds the table against the chain.
func (d *Docket) compareSignatures(ctx context.Context, q queryer, given []Signature) error {
	have, err := d.signatures(ctx, q)
	if err == nil && !slices.Equal(have, given) {
		err = d.altered("its signatures are not as its log says")
	}
	return err
}
