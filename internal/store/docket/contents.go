package docket

import (
	"bytes"
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"errors"
	"hash"
	"io"

	"anagram/internal/core/record"
	"anagram/internal/store/docket/form"
)

// SaveContents keeps the attachments among some values, those that are not there yet.
func (d *Docket) SaveContents(ctx context.Context, values []record.Value) error {
	for _, v := range values {
		if v.Kind() != record.Bytes || v.Content() == nil {
			continue
		}
		var there int
		if err := d.db.QueryRowContext(ctx, "SELECT count(*) FROM contents WHERE sha256 = ?", v.Text()).Scan(&there); err != nil ||
			there > 0 {
			if err != nil {
				return d.Wrap(err)
			}
			continue
		}
		err := d.transaction(ctx, func(tx *sql.Tx) error {
			return form.Content(v, func(part int, data []byte) error {
				_, err := tx.ExecContext(ctx, "INSERT INTO contents VALUES (?,?,?) ON CONFLICT DO NOTHING", v.Text(), part, data)
				return err
			})
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// WithContent gives a bytes value its content from the docket.
func (of Found) WithContent(v record.Value) (record.Value, error) {
	if v.Kind() != record.Bytes {
		return v, nil
	}
	return record.ContentValue(v.Text(), stored{db: of.db, sha: v.Text()})
}

type stored struct {
	db  *sql.DB
	sha string
}

func (s stored) Open() (io.ReadCloser, error) {
	if s.Size() < 0 {
		return nil, errors.New("the docket does not hold the attachment with SHA-256 " + s.sha)
	}
	return &partReader{of: s, sum: sha256.New()}, nil
}

// Size is that of the content, -1 where the docket does not hold it.
func (s stored) Size() int64 {
	n := int64(-1)
	_ = s.db.QueryRow("SELECT ifnull(sum(length(data)), -1) FROM contents WHERE sha256 = ?", s.sha).Scan(&n)
	return n
}

// partReader reads one part after the other, and proves at the end that all of it is what its
// SHA-256 says.
type partReader struct {
	of   stored
	next int
	part bytes.Reader
	sum  hash.Hash
	done bool
}

func (r *partReader) Read(p []byte) (int, error) {
	for r.part.Len() == 0 {
		if r.done {
			return 0, io.EOF
		}
		var data []byte
		err := r.of.db.QueryRow("SELECT data FROM contents WHERE sha256 = ? AND part = ?", r.of.sha, r.next).Scan(&data)
		if errors.Is(err, sql.ErrNoRows) {
			r.done = true
			if hex.EncodeToString(r.sum.Sum(nil)) != r.of.sha {
				return 0, errors.New("the docket was altered: it holds something else as the attachment with SHA-256 " + r.of.sha)
			}
			return 0, io.EOF
		}
		if err != nil {
			return 0, err
		}
		r.next++
		_, _ = r.sum.Write(data)
		r.part.Reset(data)
	}
	return r.part.Read(p)
}

func (r *partReader) Close() error { return nil }
