package sqldb

import (
	"bufio"
	"context"
	"encoding/gob"
	"errors"
	"fmt"
	"io"
	"os"
)

// spool keeps rows: a few in memory, more in a temporary file.
type spool struct {
	rows  [][]any
	bytes int
	file  *os.File
	out   *bufio.Writer
	codec *gob.Encoder
}

// spoolMemory is how many bytes of rows stay in memory.
const spoolMemory = 4 << 20

// cell is one stored value on disk; gob does not carry nil interfaces.
type cell struct {
	Kind  byte // 0 null, 1 text, 2 bytes, 3 integer, 4 float
	Text  string
	Bytes []byte
	Int   int64
	Float float64
}

func (s *spool) add(row []any) error {
	if s.file == nil {
		s.rows = append(s.rows, row)
		for _, v := range row {
			s.bytes += 24
			switch v := v.(type) {
			case string:
				s.bytes += len(v)
			case []byte:
				s.bytes += len(v)
			}
		}
		if s.bytes < spoolMemory {
			return nil
		}
		return s.spill()
	}
	return s.write(row)
}

func (s *spool) spill() error {
	file, err := os.CreateTemp("", "anagram-rows-")
	if err != nil {
		return fmt.Errorf("room for rows: %w", err)
	}
	s.file, s.out = file, bufio.NewWriterSize(file, 256<<10)
	s.codec = gob.NewEncoder(s.out)
	for _, row := range s.rows {
		if err := s.write(row); err != nil {
			return err
		}
	}
	s.rows = nil
	return nil
}

func (s *spool) write(row []any) error {
	cells := make([]cell, len(row))
	for i, v := range row {
		switch v := v.(type) {
		case nil:
		case string:
			cells[i] = cell{Kind: 1, Text: v}
		case []byte:
			cells[i] = cell{Kind: 2, Bytes: v}
		case int64:
			cells[i] = cell{Kind: 3, Int: v}
		case float64:
			cells[i] = cell{Kind: 4, Float: v}
		default:
			return fmt.Errorf("a stored value of %T cannot be kept", v)
		}
	}
	if err := s.codec.Encode(cells); err != nil {
		return fmt.Errorf("room for rows: %w", err)
	}
	return nil
}

// each gives the rows back in their order.
func (s *spool) each(ctx context.Context, row func([]any) error) error {
	if s.file == nil {
		for _, r := range s.rows {
			if err := row(r); err != nil {
				return err
			}
		}
		return ctx.Err()
	}
	if err := s.out.Flush(); err != nil {
		return fmt.Errorf("room for rows: %w", err)
	}
	if _, err := s.file.Seek(0, io.SeekStart); err != nil {
		return err
	}
	decoder := gob.NewDecoder(bufio.NewReaderSize(s.file, 256<<10))
	for ctx.Err() == nil {
		var cells []cell
		if err := decoder.Decode(&cells); errors.Is(err, io.EOF) {
			return nil
		} else if err != nil {
			return err
		}
		r := make([]any, len(cells))
		for i, c := range cells {
			switch c.Kind {
			case 1:
				r[i] = c.Text
			case 2:
				r[i] = append([]byte{}, c.Bytes...)
			case 3:
				r[i] = c.Int
			case 4:
				r[i] = c.Float
			}
		}
		if err := row(r); err != nil {
			return err
		}
	}
	return ctx.Err()
}

func (s *spool) close() {
	if s.file != nil {
		_ = s.file.Close()
		_ = os.Remove(s.file.Name())
	}
}
