package sqldb

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
	"anagram/internal/environment"
)

var errStop = errors.New("the reader of the stream stopped")

// Read streams records. Rows are taken in batches, so that the references of a batch
// are translated with a handful of queries.
func (s *session) Read(ctx context.Context, m *environment.Model, r environment.Reading) record.Stream {
	return func(yield func(record.Record, error) bool) {
		give := func(rec record.Record) error {
			if !yield(rec, nil) {
				return errStop
			}
			return nil
		}
		err := s.read(ctx, m, r, give)
		if err != nil && !errors.Is(err, errStop) {
			yield(record.Record{}, err)
		}
	}
}

// layout says which stored column stands where in a row.
type layout struct {
	table
	names            []string
	keyAt, fieldAt   int
	stampAt, stampBy int // -1 where there is none
	shape, fields    []record.Field
}

func (s *session) layout(ctx context.Context, m *environment.Model, typ string, fields []record.Field) (layout, error) {
	t, err := s.table(ctx, m, typ)
	if err != nil {
		return layout{}, err
	}
	l := layout{table: t, stampAt: -1, stampBy: -1, shape: m.Shapes[typ], fields: fields}
	l.names = append(l.names, t.identity...)
	l.keyAt = len(l.names)
	l.names = append(l.names, t.Key...)
	l.fieldAt = len(l.names)
	for _, field := range fields {
		l.names = append(l.names, field.Name)
	}
	if t.StampAt != "" {
		l.stampAt = len(l.names)
		l.names = append(l.names, t.StampAt)
	}
	if t.StampBy != "" {
		l.stampBy = len(l.names)
		l.names = append(l.names, t.StampBy)
	}
	return l, nil
}

func (s *session) read(ctx context.Context, m *environment.Model, r environment.Reading, give func(record.Record) error) error {
	l, err := s.layout(ctx, m, r.Type, r.Fields)
	if err != nil {
		return err
	}
	if r.Keys != nil {
		return s.readKeys(ctx, m, l, r.Keys, give)
	}
	query := s.selectFrom(l.table, l.names)
	var rows [][]any
	flush := func() error {
		err := s.build(ctx, m, l, rows, give)
		rows = rows[:0]
		return err
	}
	err = s.query(ctx, len(l.names), func(row []any) error {
		rows = append(rows, row)
		if len(rows) < batch {
			return nil
		}
		return flush()
	}, query)
	if err != nil {
		return err
	}
	return flush()
}

// readKeys reads the records with these keys, a batch at a time.
func (s *session) readKeys(ctx context.Context, m *environment.Model, l layout, keys []record.Key, give func(record.Record) error) error {
	for part := range slices.Chunk(keys, batch) {
		found, err := s.locate(ctx, m, l.Name, part)
		if err != nil {
			return err
		}
		var ids []identity
		seen := map[string]bool{}
		for _, key := range part {
			if !seen[key.Order()] {
				seen[key.Order()] = true
				ids = append(ids, found[key.Order()]...)
			}
		}
		var rows [][]any
		suffix := ""
		if s.locking {
			suffix = s.dialect.ForUpdate()
		}
		err = s.whereIn(ctx, len(l.names), s.selectFrom(l.table, l.names), l.identity, ids, suffix, func(row []any) error { rows = append(rows, row); return nil })
		if err != nil {
			return err
		}
		if err := s.build(ctx, m, l, rows, give); err != nil {
			return err
		}
	}
	return nil
}

// build translates the references of some rows and makes records of them.
func (s *session) build(ctx context.Context, m *environment.Model, l layout, rows [][]any, give func(record.Record) error) error {
	keys, err := s.rowKeys(ctx, m, l.table, l.keyAt, rows)
	if err != nil {
		return err
	}
	for i, field := range l.fields {
		if field.Kind != record.Reference || l.ByKey[field.Name] {
			continue
		}
		if err := s.learn(ctx, m, field.Refers, column(rows, l.fieldAt+i)); err != nil {
			return err
		}
	}
	for n, row := range rows {
		rec := record.Record{Key: keys[n], Values: make([]record.Value, len(l.fields)), ID: identity(row[:l.keyAt]).text()}
		for i, field := range l.fields {
			if rec.Values[i], err = s.value(m, l.Type, row[l.fieldAt+i], field); err != nil {
				return &environment.RecordError{Environment: s.name, Address: m.Catalog.Address(l.Name, rec.Key), Field: field.Name, Cause: err}
			}
		}
		if l.stampAt >= 0 {
			rec.ChangedAt = stampText(s.dialect, row[l.stampAt], l.columns[l.StampAt].Kind)
		}
		if l.stampBy >= 0 {
			rec.ChangedBy = idText(row[l.stampBy])
		}
		if err := give(rec); err != nil {
			return err
		}
	}
	return nil
}

// value brings one stored value to a field's form. References have been learned before.
func (s *session) value(m *environment.Model, of *catalog.Type, stored any, field record.Field) (record.Value, error) {
	if stored == nil {
		return record.NullValue(), nil
	}
	if words, ok := of.Words[field.Name]; ok && field.Kind == record.Boolean {
		switch text := strings.TrimRight(idText(stored), " "); text {
		case words.True:
			return record.BooleanValue(true), nil
		case words.False:
			return record.BooleanValue(false), nil
		default:
			return record.Value{}, fmt.Errorf("it holds %q, which is neither %s nor %s. Correct it, or as: in the catalog", text, words.True, words.False)
		}
	}
	if field.Kind != record.Reference {
		return s.dialect.Decode(stored, field.Kind)
	}
	if of.ByKey[field.Name] {
		v, err := s.dialect.Decode(stored, m.Shapes[field.Refers][0].Kind)
		if err != nil {
			return v, err
		}
		return record.ReferenceValue(m.Shapes.Key(field.Refers, []record.Value{v})), nil
	}
	key, ok := s.keys[field.Refers][idText(stored)]
	if !ok {
		t, _ := m.Catalog.Type(field.Refers)
		return record.Value{}, fmt.Errorf("it refers to %s with internal id %s, which is not in %s. Correct the reference there, or leave the field out with ignore: in the catalog",
			field.Refers, idText(stored), t.Place(m.Environment))
	}
	return record.ReferenceValue(key), nil
}

func column(rows [][]any, at int) []any {
	out := make([]any, len(rows))
	for i, row := range rows {
		out[i] = row[at]
	}
	return out
}

// stampText gives a stamp in canonical form where it has one, else as it stands.
func stampText(d Dialect, stored any, kind record.Kind) string {
	if kind != record.Timestamp {
		kind = record.LocalTimestamp
	}
	if v, err := d.Decode(stored, kind); err == nil {
		return v.Text()
	}
	return idText(stored)
}
