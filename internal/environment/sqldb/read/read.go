package read

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/environment/sqldb/engine"
	"anagram/internal/environment/sqldb/query"
	"anagram/internal/environment/sqldb/translate"
)

var errStop = errors.New("the reader of the stream stopped")

// Read streams records. Rows are taken in batches, so that the references of a batch
// are translated with a handful of queries.
func (s *Reader) Read(ctx context.Context, m *environment.Model, r environment.Reading) record.Stream {
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

func (s *Reader) read(ctx context.Context, m *environment.Model, r environment.Reading, give func(record.Record) error) error {
	f, err := s.Form(ctx, m, r.Type, nil, r.Fields, true)
	if err != nil {
		return err
	}
	for _, name := range r.Beside {
		f.Beside = append(f.Beside, f.Column(name))
	}
	own := len(f.Filters)
	for _, c := range r.Where {
		f.Add(c)
	}
	s.bySums(f, r.Sums)
	if r.OnlyOutside {
		return s.readOutside(ctx, m, f, r, give)
	}
	if r.Keys != nil {
		return s.readKeys(ctx, m, f, own, r, give)
	}
	if r.Field != "" {
		return s.readReferring(ctx, m, f, own, r, give)
	}
	if r.With != nil {
		return s.readHolding(ctx, m, f, own, r, give)
	}
	short, ok, err := s.lines(ctx, m, f, r)
	if err != nil {
		return err
	}
	if ok {
		return short.read(ctx, r, give)
	}
	text := s.selectForm(f)
	narrowed := f.Filters
	if r.Outside != nil || r.Left != nil {
		narrowed = f.Filters[own:] // the outside ones are counted, so they have to be read
	}
	where, args := s.narrow(m, f, narrowed)
	if where != "" {
		text += " WHERE " + where
	}
	var rows [][]any
	flush := func() error {
		err := s.build(ctx, m, f, own, rows, r, give)
		rows = rows[:0]
		return err
	}
	bytes := query.Binary(f.Table, f.Names)
	for at := range f.Sums {
		bytes[at] = false
	}
	err = s.Stream(ctx, bytes, func(row []any) error {
		rows = append(rows, row)
		if len(rows) < query.Batch {
			return nil
		}
		return flush()
	}, text, args...)
	if err != nil {
		return err
	}
	return flush()
}

// readKeys reads the records with these keys, a batch at a time.
func (s *Reader) readKeys(ctx context.Context, m *environment.Model, f *translate.Form, own int, r environment.Reading,
	give func(record.Record) error) error {
	for part := range slices.Chunk(r.Keys, query.Batch) {
		found, err := s.Find(ctx, m, f.Name, part)
		if err != nil {
			return err
		}
		var ids []query.Identity
		seen := map[string]bool{}
		for _, key := range part {
			if !seen[key.Order()] {
				seen[key.Order()] = true
				ids = append(ids, found[key.Order()]...)
			}
		}
		var rows [][]any
		suffix := ""
		if s.locking && !f.Described.CannotUpdate { // who may not change a record cannot lock it either
			suffix = s.Dialect.ForUpdate()
		}
		err = s.WhereIn(ctx, len(f.Names), s.selectForm(f), f.Identity, ids, suffix,
			func(row []any) error { rows = append(rows, row); return nil })
		if err != nil {
			return err
		}
		if err := s.build(ctx, m, f, own, rows, r, give); err != nil {
			return err
		}
	}
	return nil
}

// readOutside reads the records with these keys that the type's own condition leaves out,
// in the form in which an import would write them.
func (s *Reader) readOutside(ctx context.Context, m *environment.Model, f *translate.Form, r environment.Reading,
	give func(record.Record) error) error {
	all := *f
	all.Filters = nil // what is left out is what is asked for
	for part := range slices.Chunk(r.Keys, query.Batch) {
		wanted := map[string]record.Key{}
		for _, key := range part {
			wanted[key.Order()] = key
		}
		columns := query.StoredKey(f.Type)
		tuples, err := s.StoredKeys(ctx, m, f, columns, wanted)
		if err != nil {
			return err
		}
		var rows, outside [][]any
		if err := s.WhereIn(ctx, len(f.Names), s.selectForm(f), columns, tuples, "",
			func(row []any) error { rows = append(rows, row); return nil }); err != nil {
			return err
		}
		keys, in, err := s.KeysOf(ctx, m, f, 0, rows)
		if err != nil {
			return err
		}
		for i, key := range keys {
			if _, ok := wanted[key.Order()]; !ok || !in[i] {
				continue
			}
			inside, err := s.IsIn(m, f, len(f.Filters), rows[i])
			if err != nil {
				return err
			}
			if !inside {
				outside = append(outside, rows[i])
			}
		}
		if err := s.build(ctx, m, &all, 0, outside, environment.Reading{}, give); err != nil {
			return err
		}
	}
	return nil
}

// readReferring reads the records whose reference points at one of some records.
func (s *Reader) readReferring(ctx context.Context, m *environment.Model, f *translate.Form, own int, r environment.Reading,
	give func(record.Record) error) error {
	ref := f.Refers[r.Field]
	c := translate.Cell{Field: record.Field{Name: r.Field}, Ref: ref}
	for part := range slices.Chunk(r.Of, query.Batch) {
		found, err := s.Find(ctx, m, ref.One(), part)
		if err != nil {
			return err
		}
		var tuples []query.Identity
		for _, key := range part {
			switch {
			case ref.ByKey:
				stored, err := s.Encode(m, f.Type, key.Parts()[0], f.Columns[r.Field])
				if err == nil {
					tuples = append(tuples, query.Identity{stored})
				}
			case ref.Columns != nil:
				if len(found[key.Order()]) != 1 {
					continue
				}
				id, err := s.Referred(ctx, m, record.ReferenceValue(ref.One(), key), c.By(m, ref.One()))
				if err != nil {
					return err
				}
				tuples = append(tuples, id)
			default:
				for _, id := range found[key.Order()] {
					tuples = append(tuples, query.Identity{id[0]})
				}
			}
		}
		var rows [][]any
		flush := func() error {
			err := s.build(ctx, m, f, own, rows, r, give)
			rows = rows[:0]
			return err
		}
		err = s.WhereIn(ctx, len(f.Names), s.selectForm(f), f.Stored(r.Field), tuples, "", func(row []any) error {
			if rows = append(rows, row); len(rows) < query.Batch {
				return nil
			}
			return flush()
		})
		if err == nil {
			err = flush()
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// readHolding reads the records that hold one of some sets of values. What cannot be
// stored, or refers to a record that is not there, is held by none.
func (s *Reader) readHolding(ctx context.Context, m *environment.Model, f *translate.Form, own int, r environment.Reading,
	give func(record.Record) error) error {
	var columns []string
	for _, field := range r.With.Fields {
		for _, column := range f.Stored(field) {
			if !slices.Contains(columns, column) {
				columns = append(columns, column)
			}
		}
	}
	var tuples []query.Identity
	for _, set := range r.With.Sets {
		tuple := make(query.Identity, len(columns))
		ok := true
		for i, field := range r.With.Fields {
			stored, err := s.Stored(ctx, m, f.Table, set[i], record.Field{Name: field})
			if ctx.Err() != nil {
				return ctx.Err()
			}
			if ok = ok && err == nil; !ok {
				break
			}
			for n, column := range f.Stored(field) {
				tuple[slices.Index(columns, column)] = stored[n]
			}
		}
		if ok {
			tuples = append(tuples, tuple)
		}
	}
	if len(tuples) == 0 {
		return nil
	}
	var rows [][]any
	err := s.WhereIn(ctx, len(f.Names), s.selectForm(f), columns, tuples, "",
		func(row []any) error { rows = append(rows, row); return nil })
	if err != nil {
		return err
	}
	for part := range slices.Chunk(rows, query.Batch) {
		if err := s.build(ctx, m, f, own, part, r, give); err != nil {
			return err
		}
	}
	return nil
}

// build translates the references of some rows and makes records of them. The first own
// conditions say which are outside, the others what was asked for.
func (s *Reader) build(ctx context.Context, m *environment.Model, f *translate.Form, own int, rows [][]any, r environment.Reading,
	give func(record.Record) error) error {
	keys, in, err := s.KeysOf(ctx, m, f, own, rows)
	if translate.CannotRead(err) {
		rows, keys, in, err = s.keysApart(ctx, m, f, own, rows, r)
	}
	if err != nil {
		return err
	}
	kept := 0
	for n := range rows {
		if !in[n] {
			if err := leftOut(r, keys[n]); err != nil {
				return err
			}
			continue
		}
		rows[kept], keys[kept] = rows[n], keys[n]
		kept++
	}
	rows, keys = rows[:kept], keys[:kept]
	cells := f.FieldCells
	for _, c := range f.Filters[own:] {
		cells = slices.Concat(cells, c.Cells)
	}
	unlearned, err := s.learnCells(ctx, m, cells, rows)
	if err != nil {
		return err
	}
	people, err := s.people(ctx, f, rows)
	if err != nil {
		return err
	}
	for n, row := range rows {
		fail := func(field string, cause error) error {
			return &environment.RecordError{Environment: s.Name, Address: m.Catalog.Address(f.Name, keys[n]), Field: field, Cause: cause}
		}
		wanted, err := s.Fulfils(m, f, f.Filters[own:], row)
		switch {
		case translate.CannotRead(err) || err != nil && unlearned[n] != nil:
			wanted = true // rather told than left out
		case err != nil:
			return fail("", err)
		}
		if !wanted {
			continue
		}
		rec := record.Record{Key: keys[n], ID: query.Identity(row[:f.Lead]).Text()}
		if field, err := s.values(ctx, m, f, row, unlearned[n], r.Forms, &rec); err != nil {
			return fail(field, err)
		}
		s.stampsOf(f, row, people, &rec)
		noteBeside(f, row, &rec)
		if s.locking {
			s.remember(f.Name, rec.ID, slices.Clone(query.Identity(row[:f.Lead])))
		}
		if err := give(rec); err != nil {
			return err
		}
	}
	return nil
}

// values gives a record its values; of an error it names the field.
func (s *Reader) values(ctx context.Context, m *environment.Model, f *translate.Form, row []any, unlearned map[string]string,
	forms bool, rec *record.Record) (field string, err error) {
	rec.Values = make([]record.Value, len(f.FieldCells))
	for i, c := range f.FieldCells {
		if why, ok := unlearned[c.Name]; ok {
			rec.Values[i] = record.UnreadableValue(why)
			continue
		}
		rec.Values[i], err = s.valueOf(ctx, m, f, row, c)
		switch {
		case err == nil:
			s.noteForm(m, f, rec, c, row[c.At[0]], rec.Values[i], forms)
		case translate.CannotRead(err):
			rec.Values[i] = record.UnreadableValue(translate.Why(err))
		default:
			return c.Name, err
		}
	}
	return "", nil
}

// stampsOf gives a record its stamps.
func (s *Reader) stampsOf(f *translate.Form, row []any, people map[string]string, rec *record.Record) {
	if f.AtColumn >= 0 {
		rec.ChangedAt = stampText(s.Dialect, row[f.AtColumn], f.Columns[f.StampAt])
	}
	if f.ByColumn >= 0 {
		rec.ChangedBy = engine.StoredText(row[f.ByColumn])
		if name := people[rec.ChangedBy]; name != "" {
			rec.ChangedBy = name
		}
	}
}

// valueOf is value where the database may have delivered a sum.
func (s *Reader) valueOf(ctx context.Context, m *environment.Model, f *translate.Form, row []any, c translate.Cell) (record.Value, error) {
	if stored := row[c.At[0]]; f.Sums[c.At[0]] && stored != nil {
		sha := engine.StoredText(stored)
		return record.ContentValue(sha, &column{ctx: ctx, s: s.Conn, t: f.Table, name: f.Names[c.At[0]],
			id: query.Identity(row[:f.Lead]), sha: sha})
	}
	return s.Value(m, f.Type, row, c)
}

// leftOut tells of a record that is outside.
func leftOut(r environment.Reading, key record.Key) error {
	if r.Outside != nil {
		*r.Outside++
	}
	if r.Left == nil || key.Order() == "" {
		return nil
	}
	return r.Left(key)
}

// sumOf is a sum of a stored value in which no two are likely to be the same.
func sumOf(stored any) string {
	if stored == nil {
		return "null"
	}
	sum := sha256.Sum256(fmt.Appendf(nil, "%T %s", stored, engine.StoredText(stored)))
	return hex.EncodeToString(sum[:12])
}

// stampText gives a stamp in canonical form where it has one, else as it stands.
func stampText(d engine.Dialect, stored any, c catalog.Column) string {
	kind := c.Kind
	if kind != record.Timestamp {
		kind = record.LocalTimestamp
	}
	if v, err := d.Decode(stored, kind, c); err == nil {
		return v.Text()
	}
	return engine.StoredText(stored)
}
