package rows

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"

	"anagram/internal/core/record"
	"anagram/internal/environment/sqldb/engine"
)

// Attachments are read and written in pieces, where the engine can take and give pieces of a
// column: none of them is held whole on this side.

// piece is how many bytes of an attachment are moved at a time. One that has more than mostPieces
// of them is moved in larger ones, as a database writes all of a value anew with each.
const (
	piece      = 4 << 20
	mostPieces = 16
)

// column is the content of a column of one row, read when it is asked for.
type column struct {
	ctx   context.Context
	s     *session
	t     table
	name  string
	id    identity
	sha   string
	bytes int64 // once it is known
}

// Size asks how large it is.
func (c *column) Size() int64 {
	if c.bytes == 0 {
		where, args := c.s.whereIdentity("", c.t, c.id)
		query := fmt.Sprintf("SELECT length(%s) FROM %s WHERE %s", c.s.dialect.Quote(c.name), c.s.dialect.Place(c.t.place), where)
		_ = c.s.scan(c.ctx, 1, func(row []any) error {
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
		if r.done = len(data) < piece; r.done && hex.EncodeToString(r.sum.Sum(nil)) != r.of.sha {
			return 0, errors.New("it was changed while it was read; try again")
		}
	}
	return r.part.Read(p)
}

func (r *columnReader) next() ([]byte, error) {
	c := r.of
	where, args := c.s.whereIdentity("", c.t, c.id)
	query := fmt.Sprintf("SELECT substr(%s, %d, %d) FROM %s WHERE %s", c.s.dialect.Quote(c.name), r.offset+1, piece, c.s.dialect.Place(c.t.place), where)
	var out []byte
	err := c.s.scan(c.ctx, 1, func(row []any) error {
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

// appending is what a column gets after its first piece was written.
type appending struct {
	column string
	in     io.ReadCloser
	size   int64 // of a piece
	left   int64 // bytes after the first one
}

// begins gives the first piece of an attachment that is written in several, and what follows;
// ok is false where it is written whole.
func (w *writer) begins(v record.Value, name string) (first []byte, more appending, ok bool, err error) {
	if w.can.Append == nil || w.whole || v.Kind() != record.Bytes || v.Content() == nil || v.Content().Size() <= piece {
		return nil, more, false, nil
	}
	more = appending{column: name, size: max(piece, v.Content().Size()/mostPieces+1)}
	if more.in, err = v.Content().Open(); err != nil {
		return nil, more, false, err
	}
	more.left = v.Content().Size() - more.size
	first = make([]byte, more.size)
	n, err := io.ReadFull(more.in, first)
	if err != nil && !errors.Is(err, io.ErrUnexpectedEOF) {
		return nil, more, false, errors.Join(err, more.in.Close())
	}
	return first[:n], more, true, nil
}

// append writes what follows the first pieces of a row's attachments.
func (w *writer) append(ctx context.Context, t table, id identity, st statement) error {
	where, args := w.whereIdentity("", t, id)
	for _, more := range st.more {
		query := fmt.Sprintf("%s %s SET %s = %s WHERE %s", verb(w.can.Update, "UPDATE"), w.dialect.Place(t.place), w.dialect.Quote(more.column), w.can.Append(w.dialect.Quote(more.column), engine.Mark), where)
		for end := false; !end; {
			part := make([]byte, more.size)
			n, err := io.ReadFull(more.in, part)
			if end = errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF); err != nil && !end {
				return err
			}
			if n == 0 {
				break
			}
			next := statement{fail: st.fail}
			next.Query, next.Args = query, append([]any{part[:n]}, args...)
			if err := w.exec(ctx, next); err != nil {
				return err
			}
		}
	}
	return nil
}

func (st statement) closeMore() {
	for _, more := range st.more {
		_ = more.in.Close()
	}
}
