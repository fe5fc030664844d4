package write

import (
	"context"
	"errors"
	"fmt"
	"io"

	"anagram/internal/core/record"
	"anagram/internal/environment/sqldb/engine"
	"anagram/internal/environment/sqldb/query"
	"anagram/internal/environment/sqldb/read"
)

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
	if w.Can.Append == nil || w.whole || v.Kind() != record.Bytes || v.Content() == nil || v.Content().Size() <= read.Piece {
		return nil, more, false, nil
	}
	more = appending{column: name, size: max(read.Piece, v.Content().Size()/read.MostPieces+1)}
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
func (w *writer) append(ctx context.Context, t query.Table, id query.Identity, st statement) error {
	where, args := w.WhereIdentity("", t, id)
	for _, more := range st.more {
		query := fmt.Sprintf("%s %s SET %s = %s WHERE %s", verb(w.Can.Update, "UPDATE"), w.Dialect.Place(t.At),
			w.Dialect.Quote(more.column), w.Can.Append(w.Dialect.Quote(more.column), engine.Mark), where)
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
