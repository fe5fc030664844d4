package folder

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"
)

// Files as they stand, byte for byte, so that what is not changed stays as it was.

// maxRecord bounds one record of a file.
const maxRecord = 256 << 20

// rawRecord is one record of a CSV file.
type rawRecord struct {
	line  int // on which it begins, from 1
	cells []rawCell
	end   string // how its line ends, "" at the end of the file
}

// rawCell is one cell as it stands, and its text.
type rawCell struct{ raw, text string }

// csvReader takes a CSV file apart (RFC 4180). Lines end in LF, in CR LF, or, where the
// first one does, in CR alone; within quotes they are part of the text.
type csvReader struct {
	in    *bufio.Reader
	comma byte
	cr    bool // lines end in CR alone
	line  int
	width int // cells of the first record, 0 before
}

// cellAtWork is the cell that is being read.
type cellAtWork struct {
	raw, text      []byte
	quoted, closed bool
}

func (c *cellAtWork) done() rawCell {
	out := rawCell{string(c.raw), string(c.text)}
	*c = cellAtWork{raw: c.raw[:0], text: c.text[:0]}
	return out
}

// next gives the next record; io.EOF after the last one.
func (r *csvReader) next() (rawRecord, error) {
	out := rawRecord{line: r.line + 1}
	var cell cellAtWork
	for read := 0; ; read++ {
		c, err := r.in.ReadByte()
		switch {
		case errors.Is(err, io.EOF) && cell.quoted:
			return out, r.fail("a quote is opened and never closed")
		case errors.Is(err, io.EOF) && read == 0:
			return out, io.EOF
		case errors.Is(err, io.EOF):
			out.cells = append(out.cells, cell.done())
			return out, r.whole(out)
		case err != nil:
			return out, err
		case read > maxRecord:
			return out, r.fail("the record is too long")
		case cell.quoted:
			r.withinQuotes(c, &cell)
			continue
		}
		ended, err := r.plain(c, &cell, &out)
		if err != nil {
			return out, err
		}
		if ended {
			r.line++
			return out, r.whole(out)
		}
	}
}

func (r *csvReader) fail(what string) error { return fmt.Errorf("line %d: %s", r.line+1, what) }

// withinQuotes takes a byte between quotes.
func (r *csvReader) withinQuotes(c byte, cell *cellAtWork) {
	cell.raw = append(cell.raw, c)
	switch {
	case c != '"':
		if c == '\n' || c == '\r' && r.cr {
			r.line++
		}
		cell.text = append(cell.text, c)
	case r.peek('"'):
		_, _ = r.in.ReadByte()
		cell.raw, cell.text = append(cell.raw, '"'), append(cell.text, '"')
	default:
		cell.quoted, cell.closed = false, true
	}
}

// plain takes a byte outside quotes; ended is true where it ends the record.
func (r *csvReader) plain(c byte, cell *cellAtWork, out *rawRecord) (ended bool, err error) {
	switch {
	case c == r.comma:
		out.cells = append(out.cells, cell.done())
	case c == '\n' || c == '\r' && (r.cr || r.peek('\n')):
		out.end = string(c)
		if c == '\r' && !r.cr {
			_, _ = r.in.ReadByte()
			out.end = "\r\n"
		}
		out.cells = append(out.cells, cell.done())
		return true, nil
	case c == '"' && len(cell.raw) == 0:
		cell.quoted, cell.raw = true, append(cell.raw, c)
	case c == '"' || cell.closed:
		return false, r.fail("a quote stands within a cell; cells with quotes are put in quotes, and quotes in them doubled")
	default:
		cell.raw, cell.text = append(cell.raw, c), append(cell.text, c)
	}
	return false, nil
}

func (r *csvReader) peek(c byte) bool {
	next, err := r.in.Peek(1)
	return err == nil && next[0] == c
}

// whole refuses a record with another number of cells than the first; an empty line is none.
func (r *csvReader) whole(of rawRecord) error {
	if of.empty() {
		return nil
	}
	if r.width == 0 {
		r.width = len(of.cells)
	}
	if len(of.cells) != r.width {
		return fmt.Errorf("line %d: it has %d cells, and the first line %d", of.line, len(of.cells), r.width)
	}
	return nil
}

// empty reports whether a line has nothing on it at all.
func (of rawRecord) empty() bool { return len(of.cells) == 1 && of.cells[0].raw == "" }

// bytes gives the record as it stands.
func (of rawRecord) bytes(comma byte) string {
	raw := make([]string, len(of.cells))
	for i, cell := range of.cells {
		raw[i] = cell.raw
	}
	return strings.Join(raw, string(comma)) + of.end
}

// quotedCell writes a text as a cell.
func quotedCell(text string, comma byte) string {
	if text == "" || !strings.ContainsAny(text, "\"\r\n"+string(comma)) && text[0] != ' ' && text[0] != '\t' {
		return text
	}
	return `"` + strings.ReplaceAll(text, `"`, `""`) + `"`
}

// member is one member of a JSON object, as it stands.
type member struct {
	name       string
	start, end int // of its value in the line
}

// members finds the members of the object on a line; of a name that stands twice the last
// one counts.
func members(line []byte) ([]member, error) {
	d := json.NewDecoder(bytes.NewReader(line))
	if token, err := d.Token(); err != nil || token != json.Delim('{') {
		return nil, errors.New("it is no JSON object")
	}
	var out []member
	for d.More() {
		token, err := d.Token()
		if err != nil {
			return nil, err
		}
		name, ok := token.(string)
		if !ok {
			return nil, errors.New("it is no JSON object")
		}
		var raw json.RawMessage
		if err := d.Decode(&raw); err != nil {
			return nil, err
		}
		end := int(d.InputOffset())
		out = append(out, member{name, end - len(raw), end})
	}
	if _, err := d.Token(); err != nil {
		return nil, err
	}
	if len(bytes.TrimSpace(line[d.InputOffset():])) > 0 {
		return nil, errors.New("something follows the object")
	}
	if !utf8.Valid(line) {
		return nil, errors.New("it is not UTF-8")
	}
	return out, nil
}

// named gives the member that counts for a name.
func named(of []member, name string) (member, bool) {
	for i := len(of) - 1; i >= 0; i-- {
		if of[i].name == name {
			return of[i], true
		}
	}
	return member{}, false
}

// readLine reads a line with its end, however long; io.EOF after the last one.
func readLine(in *bufio.Reader) ([]byte, error) {
	var out []byte
	for {
		part, err := in.ReadSlice('\n')
		out = append(out, part...)
		switch {
		case errors.Is(err, bufio.ErrBufferFull):
			if len(out) > maxRecord {
				return nil, errors.New("a line is too long")
			}
			continue
		case errors.Is(err, io.EOF) && len(out) > 0:
			return out, nil
		default:
			return out, err
		}
	}
}
