package postgres

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/stdlib"

	"anagram/internal/environment/sqldb/engine"
)

// Bulk reading and writing with COPY and pipelined statements
// (https://www.postgresql.org/docs/current/sql-copy.html, text format).

// raw gives the driver's own connection.
func raw(q engine.Queryer, do func(*pgx.Conn) error) error {
	conn, ok := q.(*sql.Conn)
	if !ok {
		return errors.New("this connection has no bulk reading or writing")
	}
	return conn.Raw(func(driver any) error { return do(driver.(*stdlib.Conn).Conn()) })
}

// fewest rows for which COPY, or an update of many rows, is worth its own statement.
const fewestTogether = 5

// Bulk adds runs of rows with COPY, carries out runs of updates together, and pipelines what
// stands between them.
func (d dialect) Bulk(ctx context.Context, q engine.Queryer, run []engine.Statement) error {
	return raw(q, func(conn *pgx.Conn) error {
		var single []engine.Statement
		for len(run) > 0 {
			n, updates := 1, together(run[0])
			for (updates || run[0].Place != "" && !run[0].NoBulk) && n < len(run) && run[n].Query == run[0].Query {
				n++
			}
			if n < fewestTogether {
				single, run = append(single, run[:n]...), run[n:]
				continue
			}
			if err := d.pipeline(ctx, conn, single); err != nil {
				return err
			}
			single = nil
			add := d.copyIn
			if updates {
				add = d.updateAll
			}
			if err := add(ctx, conn, run[:n]); err != nil {
				return err
			}
			run = run[n:]
		}
		return d.pipeline(ctx, conn, single)
	})
}

func (d dialect) pipeline(ctx context.Context, conn *pgx.Conn, run []engine.Statement) error {
	if len(run) == 0 {
		return nil
	}
	var all pgx.Batch
	for _, st := range run {
		all.Queue(engine.Marked(d, st.Query), st.Args...)
	}
	results := conn.SendBatch(ctx, &all)
	for range run {
		tag, err := results.Exec()
		if err == nil && tag.RowsAffected() != 1 {
			err = engine.ErrRows
		}
		if err != nil {
			return errors.Join(err, results.Close())
		}
	}
	return results.Close()
}

func (d dialect) copyIn(ctx context.Context, conn *pgx.Conn, run []engine.Statement) error {
	var rows bytes.Buffer
	for _, st := range run {
		for i, stored := range st.Args {
			if i > 0 {
				rows.WriteByte('\t')
			}
			switch v := stored.(type) {
			case nil:
				rows.WriteString(`\N`)
			case []byte:
				rows.WriteString(`\\x`)
				rows.WriteString(hex.EncodeToString(v))
			default:
				rows.WriteString(copyEscaper.Replace(engine.StoredText(v)))
			}
		}
		rows.WriteByte('\n')
	}
	tag, err := conn.PgConn().CopyFrom(ctx, &rows, fmt.Sprintf("COPY %s (%s) FROM STDIN", d.Place(run[0].Place),
		strings.Join(run[0].Columns, ", ")))
	if err == nil && tag.RowsAffected() != int64(len(run)) {
		err = engine.ErrRows
	}
	return err
}

var copyEscaper = strings.NewReplacer(`\`, `\\`, "\t", `\t`, "\n", `\n`, "\r", `\r`)

// CopyOut runs a query without values and gives each row to add. Columns of bytes are
// those marked in binary.
func (d dialect) CopyOut(ctx context.Context, q engine.Queryer, query string, binary []bool, add func([]any) error) error {
	return copyOut(ctx, q, query, len(binary), func(cells [][]byte) error {
		row := make([]any, len(cells))
		for i, cell := range cells {
			switch {
			case cell == nil:
			case binary[i]:
				content, err := hex.DecodeString(strings.TrimPrefix(string(cell), `\x`))
				if err != nil {
					return err
				}
				row[i] = content
			default:
				row[i] = string(cell)
			}
		}
		return add(row)
	})
}

// cells gives the texts of each row that a query without values gives.
func (d dialect) cells(ctx context.Context, q engine.Queryer, query string, width int, row func([][]byte)) error {
	return copyOut(ctx, q, query, width, func(cells [][]byte) error {
		row(cells)
		return nil
	})
}

func copyOut(ctx context.Context, q engine.Queryer, query string, width int, row func([][]byte) error) error {
	return raw(q, func(conn *pgx.Conn) error {
		sink := &copySink{cells: make([][]byte, width), row: row}
		_, err := conn.PgConn().CopyTo(ctx, sink, "COPY ("+query+") TO STDOUT")
		if sink.err != nil {
			return sink.err
		}
		return err
	})
}

// copySink takes rows apart as they arrive, into memory that is used again for the next one;
// nil is null.
type copySink struct {
	cells [][]byte
	row   func([][]byte) error
	rest  []byte // of a row that has not ended
	room  []byte // for texts with escapes
	err   error
}

func (c *copySink) Write(p []byte) (int, error) {
	n := len(p)
	for {
		end := bytes.IndexByte(p, '\n')
		if end < 0 {
			c.rest = append(c.rest, p...)
			return n, nil
		}
		line := p[:end]
		if len(c.rest) > 0 {
			c.rest = append(c.rest, line...)
			line = c.rest
		}
		if c.err = c.take(line); c.err != nil {
			return 0, c.err
		}
		c.rest = c.rest[:0]
		p = p[end+1:]
	}
}

func (c *copySink) take(line []byte) error {
	c.room = c.room[:0]
	if bytes.IndexByte(line, '\\') >= 0 && cap(c.room) < len(line) {
		c.room = make([]byte, 0, 2*len(line)) // it must not move while cells point into it
	}
	at := 0
	for more := true; more; at++ {
		var cell []byte
		cell, line, more = bytes.Cut(line, []byte{'\t'})
		if at >= len(c.cells) {
			continue
		}
		switch {
		case string(cell) == `\N`:
			cell = nil
		case bytes.IndexByte(cell, '\\') >= 0:
			begin := len(c.room)
			c.room = appendUnescaped(c.room, cell)
			cell = c.room[begin:]
		}
		c.cells[at] = cell
	}
	if at != len(c.cells) {
		return fmt.Errorf("a row of %d columns arrived where %d are expected", at, len(c.cells))
	}
	return c.row(c.cells)
}

// appendUnescaped writes a text without the escapes of COPY.
func appendUnescaped(out, cell []byte) []byte {
	for i := 0; i < len(cell); i++ {
		if cell[i] != '\\' || i+1 == len(cell) {
			out = append(out, cell[i])
			continue
		}
		i++
		if at := strings.IndexByte("bfnrtv", cell[i]); at >= 0 {
			out = append(out, "\b\f\n\r\t\v"[at])
		} else {
			out = append(out, cell[i])
		}
	}
	return out
}
