// Package sheet writes records as rows of a table and reads them back, for work by hand
// in CSV files and spreadsheets.
//
// The contract: the first row has the names of the fields, those of the key first. A
// cell holds a value in canonical text; nothing is taken for a formula, a number or a
// date. An empty cell is null. A text that is empty, or begins with a quote or a sign
// that a spreadsheet would calculate with, or that holds control characters, is written
// as a JSON text: "" and "=1". A
// reference is the address of what it points at, without the type where that is always
// the same. JSON, and texts with references inside, are JSON; attachments are
// sha256:HEX. Errors name the row and the column.
package sheet

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"anagram/internal/core/catalog"
	"anagram/internal/core/pattern"
	"anagram/internal/core/record"
	"anagram/internal/core/show"
	"anagram/internal/core/yamldoc"
)

// Table is the layout of one record type's rows.
type Table struct {
	Catalog *catalog.Catalog
	Shapes  record.Shapes
	Type    string
	Fields  []record.Field
}

// Header gives the first row.
func (t Table) Header() []string {
	var out []string
	for _, field := range slices.Concat(t.Shapes[t.Type], t.Fields) {
		name := field.Name
		if calculates(name) {
			name = quoted(name)
		}
		out = append(out, name)
	}
	return out
}

// Row gives a record's cells, in the order of Header. A field that the record does not
// carry is an error: a table cannot say so.
func (t Table) Row(rec record.Record) ([]string, error) {
	var out []string
	for i, v := range slices.Concat(rec.Key.Parts(), rec.Values) {
		if why, unreadable := v.Unreadable(); unreadable {
			return nil, fmt.Errorf("%s: field %s cannot be read (%s), which a table cannot say", t.Catalog.Address(t.Type, rec.Key),
				t.Header()[i], why)
		}
		if v.IsAbsent() {
			return nil, fmt.Errorf("%s does not carry field %s, which a table cannot say", t.Catalog.Address(t.Type, rec.Key),
				t.Header()[i])
		}
		out = append(out, t.cell(v))
	}
	return out, nil
}

// cell writes a value. An underscore that a workbook would take for the begin of a character
// by its number is written as a JSON text, or an address, can say it otherwise.
func (t Table) cell(v record.Value) string {
	text := t.plainCell(v)
	if !escape.MatchString(text) {
		return text
	}
	switch v.Kind() {
	case record.Text:
		if !strings.HasPrefix(text, `"`) {
			text = quoted(text)
		}
		return strings.ReplaceAll(text, "_", `\u005f`)
	case record.JSON, record.Woven: // only their texts hold underscores
		return strings.ReplaceAll(text, "_", `\u005f`)
	case record.Reference:
		return strings.ReplaceAll(text, "_", "%5F")
	default:
		return text
	}
}

func (t Table) plainCell(v record.Value) string {
	switch v.Kind() {
	case record.Null:
		return ""
	case record.Text:
		text := v.Text()
		if calculates(text) {
			return quoted(text)
		}
		return Cell(&text)
	case record.Reference:
		if v.IsAmong() {
			return encoded(t.Catalog.Address(v.Refers(), v.Key()))
		}
		return encoded(t.Catalog.Path(v))
	case record.Woven:
		return string(record.AppendValue(nil, v))
	case record.Bytes:
		return "sha256:" + v.Text()
	default:
		return v.Text()
	}
}

// calculates reports whether a spreadsheet would take a cell for a formula, or a part of it
// where it cuts cells at other signs than those it was written with.
func calculates(text string) bool {
	return strings.HasPrefix(text, "\t") || strings.HasPrefix(text, "\r") || len(formulas(text)) > 0
}

// formulas gives the places of signs that would begin a formula: the first of a text, or one
// behind a separator, whatever cannot be seen before it.
func formulas(text string) []int {
	var out []int
	begins := true
	for i, r := range text {
		switch {
		case strings.ContainsRune(",;\t\n\r|", r):
			begins = true
		case unicode.IsSpace(r) || show.Unseen(r):
		default:
			if begins && strings.ContainsRune("=+-@＝＋－＠", r) {
				out = append(out, i)
			}
			begins = false
		}
	}
	return out
}

// encoded writes the signs of an address that would begin a formula in percent-encoding.
func encoded(address string) string {
	var out strings.Builder
	last := 0
	for _, at := range formulas(address) {
		_, n := utf8.DecodeRuneInString(address[at:])
		out.WriteString(address[last:at])
		for _, c := range []byte(address[at : at+n]) {
			fmt.Fprintf(&out, "%%%02X", c)
		}
		last = at + n
	}
	return out.String() + address[last:]
}

// Address writes an address so that no part of it begins a formula.
func Address(address string) string { return encoded(address) }

// Shown writes a text that is only looked at: one that would begin a formula stands in quotes,
// one that is very long ends with an ellipsis.
func Shown(text string) string {
	const most = 4000
	if runes := []rune(text); len(runes) > most {
		text = string(runes[:most]) + "…"
	}
	if calculates(text) && !number.MatchString(text) {
		return quoted(text)
	}
	return text
}

// number is a negative number, which is no formula.
var number = pattern.Of(`^-[0-9]+(\.[0-9]+)?$`)

// Cell writes a text, nil for null, as a cell from which Text reads it again.
func Cell(text *string) string {
	switch {
	case text == nil:
		return ""
	case *text == "" || strings.HasPrefix(*text, `"`) || strings.ContainsFunc(*text, hidden):
		return quoted(*text)
	default:
		return *text
	}
}

func quoted(text string) string {
	out, _ := json.Marshal(text)
	return string(out)
}

// Text reads a cell: an empty one is null, one that begins with a quote is a JSON text.
func Text(cell string) (*string, error) {
	switch {
	case cell == "":
		return nil, nil
	case strings.HasPrefix(cell, `"`):
		var plain string
		if err := json.Unmarshal([]byte(cell), &plain); err != nil {
			return nil,
				fmt.Errorf(`%q begins with a quote but is no JSON text; a text that begins with a quote is written like "\"so\""`, cell)
		}
		return &plain, nil
	default:
		return &cell, nil
	}
}

// hidden reports characters that a table would change or lose: all control characters
// but line feed and tab.
func hidden(r rune) bool {
	return unicode.IsControl(r) && r != '\n' && r != '\t' || r == '\ufffe' || r == '\uffff'
}

// Reader reads rows by the names in their first row.
type Reader struct {
	Table
	columns []record.Field // of each column
	keyAt   []int          // of each key field, its column
	fieldAt []int          // of each field, its column; -1 where there is none
}

// NewReader makes a reader for a first row.
func NewReader(t Table, header []string) (*Reader, error) {
	r := &Reader{Table: t}
	known := slices.Concat(t.Shapes[t.Type], t.Fields)
	var names []string
	for _, field := range known {
		names = append(names, field.Name)
	}
	header = slices.Clone(header)
	for i, name := range header {
		if plain, err := Text(strings.TrimSpace(name)); err == nil && plain != nil {
			header[i] = *plain
		}
	}
	for i, name := range header {
		at := slices.Index(names, strings.TrimSpace(name))
		if at < 0 {
			return nil, fmt.Errorf("column %d is named %q, but %s has no such field%s", i+1, name, t.Type, yamldoc.Nearest(name, names))
		}
		if slices.Index(header, name) != i {
			return nil, fmt.Errorf("column %d: %q stands twice", i+1, name)
		}
		r.columns = append(r.columns, known[at])
	}
	find := func(name string) int {
		return slices.IndexFunc(r.columns, func(f record.Field) bool { return f.Name == name })
	}
	for _, field := range t.Shapes[t.Type] {
		at := find(field.Name)
		if at < 0 {
			return nil, fmt.Errorf("the column %q is missing, which is part of the key of %s", field.Name, t.Type)
		}
		r.keyAt = append(r.keyAt, at)
	}
	for _, field := range t.Fields {
		r.fieldAt = append(r.fieldAt, find(field.Name))
	}
	return r, nil
}

// Record reads a row. Cells that are missing at its end are null.
func (r *Reader) Record(cells []string) (record.Record, error) {
	values := make([]record.Value, len(r.columns))
	for i, field := range r.columns {
		text := ""
		if i < len(cells) {
			text = cells[i]
		}
		var err error
		if values[i], err = r.value(field, text); err != nil {
			return record.Record{}, fmt.Errorf("column %s: %w", field.Name, err)
		}
	}
	if len(cells) > len(r.columns) && strings.Join(cells[len(r.columns):], "") != "" {
		return record.Record{}, fmt.Errorf("the row has %d cells where there are %d columns", len(cells), len(r.columns))
	}
	var parts []record.Value
	for _, at := range r.keyAt {
		parts = append(parts, values[at])
	}
	rec := record.Record{Key: r.Shapes.Key(r.Type, parts), Values: make([]record.Value, len(r.Fields))}
	for i, at := range r.fieldAt {
		if rec.Values[i] = record.AbsentValue(); at >= 0 {
			rec.Values[i] = values[at]
		}
	}
	return rec, nil
}

func (t Table) value(field record.Field, text string) (record.Value, error) {
	if text == "" {
		return record.NullValue(), nil
	}
	switch field.Kind {
	case record.Text:
		plain, err := Text(text)
		if err != nil {
			return record.Value{}, err
		}
		return record.TextValue(*plain)
	case record.Reference:
		if field.Refers == "" {
			typ, key, err := t.Catalog.ParseAddress(t.Shapes, text)
			if err == nil && !slices.Contains(field.Among, typ) {
				err = fmt.Errorf("it refers to %s, which is none of %s", typ, strings.Join(field.Among, ", "))
			}
			return record.AmongValue(typ, key), err
		}
		key, err := t.Catalog.ParsePath(t.Shapes, field.Refers, text)
		return record.ReferenceValue(field.Refers, key), err
	case record.Woven:
		return t.Shapes.ParseValue([]byte(text), field)
	case record.Bytes:
		return record.ContentValue(strings.TrimPrefix(text, "sha256:"), nil)
	default:
		return record.Parse(field.Kind, strings.TrimSpace(text))
	}
}
