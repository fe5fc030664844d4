package form

import (
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"strconv"

	"anagram/internal/files/sqlitefile"
)

// The sums that say that what the match found, and what a run kept, is as it was.

// sealed are the tables that the digest is about, with the order of their rows.
var sealed = []struct{ table, order string }{
	{"header", "name"}, {"types", "rank"}, {"findings", "id"}, {"needs", "rowid"}, {"checks", "rowid"}, {"claims", "rowid"},
	{"groups", "id"}, {"members", "finding"}, {"hangs", "finding, on_finding"}, {"back", "finding"},
}

// summing adds values to a sum so that no two lists give the same.
type summing struct {
	hash hash.Hash
	out  *bufio.Writer // hashing many small pieces one by one takes its time
}

func newSumming() summing {
	h := sha256.New()
	return summing{h, bufio.NewWriterSize(h, 32<<10)}
}

// piecewise is the same, but what would be summed goes elsewhere.
func piecewise(out io.Writer) summing { return summing{nil, bufio.NewWriterSize(out, chunkSize)} }

const (
	chunkSize  = 64 << 10 // bytes
	mostChunks = 256      // that wait for their turn, of each table
	atOnce     = 3        // tables that are read at the same time
)

func (s summing) add(values ...any) {
	for _, v := range values {
		switch v := v.(type) {
		case nil:
			s.piece('n', "")
		case int64:
			var digits [20]byte
			s.bytes('i', strconv.AppendInt(digits[:0], v, 10))
		case float64:
			s.bytes('f', strconv.AppendFloat(nil, v, 'g', -1, 64))
		case []byte:
			s.bytes('b', v)
		case string:
			s.piece('t', v)
		default:
			s.bytes('x', fmt.Append(nil, v))
		}
	}
}

func (s summing) head(kind byte, length int) {
	var head [9]byte
	head[0] = kind
	binary.BigEndian.PutUint64(head[1:], uint64(length))
	_, _ = s.out.Write(head[:])
}

func (s summing) piece(kind byte, text string) {
	s.head(kind, len(text))
	_, _ = s.out.WriteString(text)
}

func (s summing) bytes(kind byte, text []byte) {
	s.head(kind, len(text))
	_, _ = s.out.Write(text)
}

func (s summing) text() string {
	_ = s.out.Flush()
	return hex.EncodeToString(s.hash.Sum(nil))
}

// rowsInto adds all rows of a query.
func (s summing) rowsInto(ctx context.Context, q sqlitefile.Queryer, query string, args ...any) error {
	rows, err := q.QueryContext(ctx, query, args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	columns, err := rows.Columns()
	if err != nil {
		return err
	}
	values, into := make([]any, len(columns)), make([]any, len(columns))
	for i := range values {
		into[i] = &values[i]
	}
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return err
		}
		s.add(int64(len(values)))
		s.add(values...)
	}
	return rows.Err()
}

// Digest sums up what the match found.
func Digest(ctx context.Context, q sqlitefile.Queryer) (string, error) {
	s := newSumming()
	for _, of := range sealed {
		s.add(of.table)
		if err := s.rowsInto(ctx, q, "SELECT * FROM "+of.table+" ORDER BY "+of.order); err != nil {
			return "", err
		}
	}
	return s.text(), nil
}

// chunks takes what is written to it apart and sends it on.
type chunks struct {
	ctx context.Context
	to  chan<- []byte
}

func (c chunks) Write(p []byte) (int, error) {
	select {
	case c.to <- bytes.Clone(p):
		return len(p), nil
	case <-c.ctx.Done():
		return 0, c.ctx.Err()
	}
}

// DigestOf is the sum that Digest gives, of tables that are read side by side: a docket's found
// tables never change, so that they need not be read as at one moment.
func DigestOf(ctx context.Context, db *sql.DB) (string, error) {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	parts := make([]chan []byte, len(sealed))
	errs := make([]error, len(sealed))
	free := make(chan struct{}, atOnce)
	for i := range parts {
		parts[i] = make(chan []byte, mostChunks)
	}
	go func() {
		for i, of := range sealed { // in order, so that what is waited for is always at work
			free <- struct{}{}
			conn, err := db.Conn(ctx) // here, so that a later table never has the last one
			if err != nil {
				errs[i] = err
				close(parts[i])
				<-free
				continue
			}
			go func() {
				defer func() { _ = conn.Close(); close(parts[i]); <-free }()
				s := piecewise(chunks{ctx, parts[i]})
				s.add(of.table)
				errs[i] = errors.Join(s.rowsInto(ctx, conn, "SELECT * FROM "+of.table+" ORDER BY "+of.order), s.out.Flush())
			}()
		}
	}()
	sum := sha256.New()
	for i := range parts {
		for part := range parts[i] {
			_, _ = sum.Write(part)
		}
		if errs[i] != nil {
			stop()
			return "", errs[i]
		}
	}
	return hex.EncodeToString(sum.Sum(nil)), nil
}

// ImagesSum is of the before-images that a run kept.
func ImagesSum(ctx context.Context, q sqlitefile.Queryer, run int64) (string, error) {
	return sumOf(ctx, q, "backup", run)
}

// AftersSum is of what a run read back of new records.
func AftersSum(ctx context.Context, q sqlitefile.Queryer, run int64) (string, error) {
	return sumOf(ctx, q, "afters", run)
}

// OutcomesSum is of what became of each finding in a run.
func OutcomesSum(ctx context.Context, q sqlitefile.Queryer, run int64) (string, error) {
	return sumOf(ctx, q, "outcomes", run)
}

func sumOf(ctx context.Context, q sqlitefile.Queryer, table string, run int64) (string, error) {
	s := newSumming()
	err := s.rowsInto(ctx, q, "SELECT * FROM "+table+" WHERE run = ? ORDER BY finding", run)
	return s.text(), err
}

// Link is the sum of a link of the chain, or of anything else of which the parts are summed up.
func Link(before, kind, content string) string {
	s := newSumming()
	s.add(before, kind, content)
	return s.text()
}
