package read

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"

	"anagram/internal/environment/sqldb/engine"
	"anagram/internal/environment/sqldb/query"
)

// Attachments are read and written in pieces, where the engine can take and give pieces of a
// column: none of them is held whole on this side.

// Piece is how many bytes of an attachment are moved at a time. One that has more than mostPieces
// of them is moved in larger ones, as a database writes all of a value anew with each.
const (
	Piece      = 4 << 20
	MostPieces = 16
)

// column is the content of a column of one row, read when it is asked for.
type column struct {
	ctx   context.Context
	s     *query.Conn
	t     query.Table
	name  string
	id    query.Identity
	sha   string
	bytes int64 // once it is known
}

// Size asks how large it is.
func (c *column) Size() int64 {
	if c.bytes == 0 {
		where, args := c.s.WhereIdentity("", c.t, c.id)
		query := fmt.Sprintf("SELECT length(%s) FROM %s WHERE %s", c.s.Dialect.Quote(c.name), c.s.Dialect.Place(c.t.At), where)
		_ = c.s.Scan(c.ctx, 1, func(row []any) error {
			_, err := fmt.Sscan(engine.StoredText(row[0]), &c.bytes)
			return err
		}, query, args...)
	}
	return c.bytes
}

// Open begins to read it.
func (c *column) Open() (io.ReadCloser, error) {
	return &columnReader{of: c, sum: sha256.New()}, nil
}

type columnReader struct {
	of     *column
	offset int64
	part   bytes.Reader
	sum    hash.Hash
	done   bool
}

func (r *columnReader) Read(p []byte) (int, error) {
	for r.part.Len() == 0 {
		if r.done {
			return 0, io.EOF
		}
		data, err := r.next()
		if err != nil {
			return 0, err
		}
		r.offset += int64(len(data))
		_, _ = r.sum.Write(data)
		r.part.Reset(data)
		if r.done = len(data) < Piece; r.done && hex.EncodeToString(r.sum.Sum(nil)) != r.of.sha {
			return 0, errors.New("it was changed while it was read; try again")
		}
	}
	return r.part.Read(p)
}

func (r *columnReader) next() ([]byte, error) {
	c := r.of
	where, args := c.s.WhereIdentity("", c.t, c.id)
	query := fmt.Sprintf("SELECT substr(%s, %d, %d) FROM %s WHERE %s", c.s.Dialect.Quote(c.name), r.offset+1, Piece,
		c.s.Dialect.Place(c.t.At), where)
	var out []byte
	err := c.s.Scan(c.ctx, 1, func(row []any) error {
		switch v := row[0].(type) {
		case []byte:
			out = append([]byte{}, v...)
		case string:
			out = []byte(v)
		}
		return nil
	}, query, args...)
	return out, err
}

func (r *columnReader) Close() error { return nil }
