package spill

import (
	"bufio"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
)

// Rows keeps rows of stored values (nil, text, bytes, int64, float64) in their order: a few
// in memory, more in a temporary file. The zero Rows is empty.
type Rows struct {
	rows  [][]any
	bytes int
	file  *os.File
	out   *bufio.Writer
	line  []byte
}

// spoolMemory is how many bytes of rows stay in memory.
const spoolMemory = 4 << 20

// Kinds of stored values on disk. Each is a byte, then for all but null a length or a
// number, then the bytes.
const (
	spooledNull = iota
	spooledText
	spooledBytes
	spooledInteger
	spooledFloat
)

// Add takes a row, which must not be changed afterwards.
func (s *Rows) Add(row []any) error {
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

func (s *Rows) spill() error {
	file, err := os.CreateTemp("", "anagram-rows-")
	if err != nil {
		return fmt.Errorf("room for rows: %w", err)
	}
	s.file, s.out = file, bufio.NewWriterSize(file, 256<<10)
	for _, row := range s.rows {
		if err := s.write(row); err != nil {
			return err
		}
	}
	s.rows = nil
	return nil
}

func (s *Rows) write(row []any) error {
	out := binary.AppendUvarint(s.line[:0], uint64(len(row)))
	for _, v := range row {
		switch v := v.(type) {
		case nil:
			out = append(out, spooledNull)
		case string:
			out = append(binary.AppendUvarint(append(out, spooledText), uint64(len(v))), v...)
		case []byte:
			out = append(binary.AppendUvarint(append(out, spooledBytes), uint64(len(v))), v...)
		case int64:
			out = binary.AppendVarint(append(out, spooledInteger), v)
		case float64:
			out = binary.AppendUvarint(append(out, spooledFloat), math.Float64bits(v))
		default:
			return fmt.Errorf("a stored value of %T cannot be kept", v)
		}
	}
	s.line = out
	if _, err := s.out.Write(out); err != nil {
		return fmt.Errorf("room for rows: %w", err)
	}
	return nil
}

// Each gives the rows back in their order.
func (s *Rows) Each(ctx context.Context, row func([]any) error) error {
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
	in := bufio.NewReaderSize(s.file, 256<<10)
	for ctx.Err() == nil {
		width, err := binary.ReadUvarint(in)
		if errors.Is(err, io.EOF) {
			return nil
		}
		r := make([]any, width)
		for i := range r {
			if err == nil {
				r[i], err = spooledValue(in)
			}
		}
		if err != nil {
			return fmt.Errorf("room for rows: %w", err)
		}
		if err := row(r); err != nil {
			return err
		}
	}
	return ctx.Err()
}

func spooledValue(in *bufio.Reader) (any, error) {
	kind, err := in.ReadByte()
	if err != nil || kind == spooledNull {
		return nil, err
	}
	if kind == spooledInteger {
		n, err := binary.ReadVarint(in)
		return n, err
	}
	n, err := binary.ReadUvarint(in)
	if err != nil || kind == spooledFloat {
		return math.Float64frombits(n), err
	}
	content := make([]byte, n)
	if _, err := io.ReadFull(in, content); err != nil || kind == spooledBytes {
		return content, err
	}
	return string(content), nil
}

// Close removes what is on disk.
func (s *Rows) Close() {
	if s.file != nil {
		_ = s.file.Close()
		_ = os.Remove(s.file.Name())
	}
}
