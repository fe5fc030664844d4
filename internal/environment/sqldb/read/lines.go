package read

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/environment/sqldb/query"
	"anagram/internal/environment/sqldb/translate"
)

// The short way of reading a whole type: the database looks up what references point at, and
// what it delivers goes into lines without values in between. It is taken where nothing about a
// type is out of the ordinary; what one row has that is, is left to the long way, which gives
// the same lines and says what is wrong with a record.

// part is a column, or a reference, of which the text goes into a line.
type part struct {
	name  []byte // as it stands in a line, with a colon; empty in keys
	field record.Field
	at    int            // in a row
	cell  translate.Cell // for the long way
	long  bool           // it always takes that
	of    *query.Table   // where the column is
	// Of a reference: the parts of the key that it points at, and where it is told that there
	// is such a record, -1 where the reference holds the key itself.
	refers bool
	parts  []part
	found  int
}

// lines is a query and what to make of its rows.
type lines struct {
	s                *Reader
	m                *environment.Model
	f                *translate.Form
	key, values      []part
	lead             []int
	stampAt, stampBy int

	columns, joins []string // of the query
	tables         int

	row   []any // of one cell, for the long way
	room  []byte
	out   []byte // lines, of which the last is being written
	order []byte
}

// deepest is through how many types the database looks up a key.
const deepest = 4

// lines lays out the short way; ok is false where it cannot be taken.
func (s *Reader) lines(ctx context.Context, m *environment.Model, f *translate.Form, r environment.Reading) (*lines, bool, error) {
	if !r.Lines || s.Can.Cells == nil || !plain(r) || len(f.Filters)+len(f.Deciding) > 0 || s.MayBeOutside(m, f.Name) ||
		f.StampPerson.At != "" {
		return nil, false, nil
	}
	l := &lines{s: s, m: m, f: f, stampAt: -1, stampBy: -1, row: make([]any, 1), room: make([]byte, 0, 64)}
	from := l.table()
	// What tells a record comes first, and is never what a field is made of.
	for _, name := range f.Names[:f.Lead] {
		l.lead = append(l.lead, l.column(from, &f.Table, name))
	}
	key, ok, err := l.parts(ctx, from, &f.Table, m.Shapes[f.Name], []string{f.Name})
	if err != nil || !ok {
		return nil, false, err
	}
	l.key = key
	if l.values, ok, err = l.parts(ctx, from, &f.Table, fieldsOf(f.FieldCells), []string{f.Name}); err != nil || !ok {
		return nil, false, err
	}
	for i := range l.values {
		l.values[i].name = record.AppendName(nil, l.values[i].field.Name)
	}
	if f.AtColumn >= 0 {
		l.stampAt = l.column(from, &f.Table, f.StampAt)
	}
	if f.ByColumn >= 0 {
		l.stampBy = l.column(from, &f.Table, f.StampBy)
	}
	return l, true, nil
}

// plain reports whether all records of a type are asked for, and nothing beside them.
func plain(r environment.Reading) bool {
	narrowed := r.Keys != nil || r.Field != "" || r.With != nil || r.OnlyOutside || len(r.Where) > 0
	return !narrowed && !r.Forms && len(r.Beside) == 0
}

func fieldsOf(cells []translate.Cell) []record.Field {
	out := make([]record.Field, len(cells))
	for i, c := range cells {
		out[i] = c.Field
	}
	return out
}

// table gives a table of the query its name.
func (l *lines) table() string {
	l.tables++
	return fmt.Sprintf("t%d", l.tables)
}

// column adds a column of a table to the query.
func (l *lines) column(from string, of *query.Table, name string) int {
	column, known := of.Columns[name]
	if !known {
		column.Name = name
	}
	text := l.s.Dialect.Select(column)
	// The expression has the column's name in it once; before it goes the table's.
	quoted := l.s.Dialect.Quote(name)
	l.columns = append(l.columns, strings.Replace(text, quoted, from+"."+quoted, 1))
	return len(l.columns) - 1
}

// parts lays out fields of a table; through are the types by which it was reached.
func (l *lines) parts(ctx context.Context, from string, of *query.Table, fields []record.Field, through []string) ([]part, bool, error) {
	out := make([]part, len(fields))
	for i, field := range fields {
		p, ok, err := l.part(ctx, from, of, field, through)
		if err != nil || !ok {
			return nil, false, err
		}
		out[i] = p
	}
	return out, true, nil
}

func (l *lines) part(ctx context.Context, from string, of *query.Table, field record.Field, through []string) (part, bool, error) {
	ref, column := of.Refers[field.Name], of.Columns[field.Name]
	p := part{field: field, of: of, found: -1}
	switch {
	case column.Name == "" || column.Kind == record.Bytes || field.Kind == record.Bytes:
		return p, false, nil
	case ref.To == nil:
		_, worded := of.Words[field.Name]
		p.long = worded || l.s.Natural(of.Type, column) != field.Kind || column.Element != record.Null
		p.at = l.column(from, of, field.Name)
		p.cell = translate.Cell{Field: field, Stored: column, At: []int{0}, Chooser: -1}
		return p, true, nil
	case !ref.Plain() || len(through) > deepest || slices.Contains(through, ref.One()) || l.s.MayBeOutside(l.m, ref.One()):
		return p, false, nil
	}
	p.refers, p.at = true, l.column(from, of, field.Name)
	p.cell = translate.Cell{Field: field, Ref: ref, Stored: column, At: []int{0}, Chooser: -1}
	return l.reference(ctx, from, p, through)
}

// reference lays out what a part refers to.
func (l *lines) reference(ctx context.Context, from string, p part, through []string) (part, bool, error) {
	ref, of, column := p.cell.Ref, p.of, p.cell.Stored
	to, err := l.s.Table(ctx, l.m, ref.One())
	if err != nil {
		return p, false, err
	}
	shape := l.m.Shapes[to.Name]
	if ref.ByKey {
		if len(shape) != 1 || shape[0].Refers != "" || len(shape[0].Among) > 0 {
			return p, false, nil
		}
		inner := part{field: shape[0], of: of, found: -1, at: p.at, long: l.s.Natural(of.Type, column) != shape[0].Kind}
		inner.cell = translate.Cell{Field: shape[0], Stored: column, At: []int{0}, Chooser: -1}
		p.parts = []part{inner}
		return p, true, nil
	}
	there, ok := to.Columns[to.ID]
	if !ok || to.ID == "" || !alone(to.Described, to.ID) || there.Kind != record.Integer || column.Kind != record.Integer {
		return p, false, nil
	}
	name := l.table()
	l.joins = append(l.joins, fmt.Sprintf("LEFT JOIN %s %s ON %s.%s = %s.%s", l.s.Dialect.Place(to.At), name, name,
		l.s.Dialect.Quote(to.ID), from, l.s.Dialect.Quote(p.field.Name)))
	p.found = l.column(name, &to, to.ID)
	p.parts, ok, err = l.parts(ctx, name, &to, shape, append(slices.Clone(through), to.Name))
	return p, ok, err
}

// alone reports whether no two rows of a place can have the same value in a column.
func alone(p catalog.Place, column string) bool {
	is := func(columns []string) bool { return len(columns) == 1 && columns[0] == column }
	return !p.Inherited && (is(p.Primary) || slices.ContainsFunc(p.Unique, is))
}

func (l *lines) query() string {
	return strings.Join(append([]string{"SELECT", strings.Join(l.columns, ", "), "FROM", l.s.Dialect.Place(l.f.At), "t1"},
		l.joins...), " ")
}

// errLong is a row that takes the long way.
var errLong = errors.New("a row that is not read the short way")

// read gives the records of the type, each with its line. A row that cannot be told is read
// again the long way once the others have come, which says what is wrong with it.
func (l *lines) read(ctx context.Context, r environment.Reading, give func(record.Record) error) error {
	load := func(rec *record.Record) error {
		full, err := record.ParseLine(rec.Line, l.f.Name, r.Fields, l.m.Shapes)
		rec.Key, rec.Values, rec.Load = full.Key, full.Values, nil
		return err
	}
	var odd []query.Identity
	var failed error
	err := l.s.Can.Cells(ctx, l.s.Q, l.query(), len(l.columns), func(cells [][]byte) {
		if failed != nil || len(odd) == mostOdd {
			return
		}
		rec, err := l.record(cells)
		if err != nil {
			id := make(query.Identity, len(l.lead))
			for i, at := range l.lead {
				if cells[at] != nil {
					id[i] = string(cells[at])
				}
			}
			odd = append(odd, id)
			return
		}
		rec.Load = load
		failed = give(rec)
	})
	switch {
	case failed != nil:
		return failed
	case ctx.Err() != nil:
		return ctx.Err()
	case err != nil:
		return l.s.Explain(err)
	case len(odd) == 0:
		return nil
	}
	for part := range slices.Chunk(odd, query.Batch) {
		var rows [][]any
		if err := l.s.WhereIn(ctx, len(l.f.Names), l.s.selectForm(l.f), l.f.Names[:l.f.Lead], part, "",
			func(row []any) error { rows = append(rows, row); return nil }); err != nil {
			return err
		}
		if err := l.s.build(ctx, l.m, l.f, 0, rows, r, give); err != nil {
			return err
		}
	}
	if len(odd) < mostOdd {
		return nil
	}
	return fmt.Errorf("%s: %s has many records that are read in two ways; run it again with less of it, by --where", l.s.Name, l.f.Name)
}

// mostOdd is how many rows are kept to be read the long way.
const mostOdd = 100_000

// slab is how many bytes of lines are kept in one piece.
const slab = 64 << 10

func (l *lines) record(cells [][]byte) (rec record.Record, err error) {
	if len(l.out) > slab*3/4 || l.out == nil {
		l.out = make([]byte, 0, slab)
	}
	begin := len(l.out)
	out, order := l.out, l.order[:0]
	out = append(out, `{"key":[`...)
	for i := range l.key {
		if i > 0 {
			out = append(out, ',')
		}
		if out, order, err = l.append(out, order, &l.key[i], cells, true); err != nil {
			return rec, err
		}
	}
	out = append(out, `],"values":{`...)
	for i := range l.values {
		if i > 0 {
			out = append(out, ',')
		}
		out = append(out, l.values[i].name...)
		if out, _, err = l.append(out, nil, &l.values[i], cells, false); err != nil {
			return rec, err
		}
	}
	out = append(out, "}}"...)
	l.out, l.order = out, order
	rec.Key, rec.Line = record.KeyByOrder(string(order)), out[begin:len(out):len(out)]
	if len(l.lead) == 1 {
		rec.ID = string(cells[l.lead[0]])
	} else {
		id := make([]string, len(l.lead))
		for i, at := range l.lead {
			id[i] = string(cells[at])
		}
		rec.ID = strings.Join(id, ", ")
	}
	if l.stampAt >= 0 && cells[l.stampAt] != nil {
		column := l.f.Columns[l.f.StampAt]
		canonical, ok := record.Plain(column.Kind, cells[l.stampAt], l.room)
		if ok && (column.Kind == record.Timestamp || column.Kind == record.LocalTimestamp) {
			rec.ChangedAt = string(canonical)
		} else {
			rec.ChangedAt = stampText(l.s.Dialect, string(cells[l.stampAt]), column)
		}
	}
	if l.stampBy >= 0 {
		rec.ChangedBy = string(cells[l.stampBy])
	}
	return rec, nil
}

// append writes a part into a line, and into the order form of a key where it is one of it.
func (l *lines) append(out, order []byte, p *part, cells [][]byte, key bool) ([]byte, []byte, error) {
	text := cells[p.at]
	null := text == nil || p.cell.Ref.None != nil && translate.IsNone(p.cell.Ref.None, string(text))
	switch {
	case null:
		if key {
			order = record.AppendOrder(order, record.Rule{}, record.NullValue())
		}
		return append(out, "null"...), order, nil
	case p.refers && p.found >= 0 && cells[p.found] == nil:
		return out, order, errLong
	case p.refers:
		out, order = append(out, '['), record.OpenReference(order)
		var err error
		for i := range p.parts {
			if i > 0 {
				out = append(out, ',')
			}
			if out, order, err = l.append(out, order, &p.parts[i], cells, key); err != nil {
				return out, order, err
			}
		}
		return append(out, ']'), record.CloseReference(order), nil
	}
	if !p.long {
		if canonical, ok := record.Plain(p.field.Kind, text, l.room); ok {
			out = record.AppendPlain(out, p.field.Kind, canonical)
			if !key {
				return out, order, nil
			}
			if in, ok := record.AppendPlainOrder(order, p.field.Kind, p.field.Rule, canonical); ok {
				return out, in, nil
			}
			v, err := record.Parse(p.field.Kind, string(canonical))
			return out, record.AppendOrder(order, p.field.Rule, v), err
		}
	}
	l.row[0] = string(text)
	v, err := l.s.Value(l.m, p.of.Type, l.row, p.cell)
	if err != nil {
		return out, order, errLong
	}
	if key {
		order = record.AppendOrder(order, p.field.Rule, v)
	}
	return record.AppendValue(out, v), order, nil
}
