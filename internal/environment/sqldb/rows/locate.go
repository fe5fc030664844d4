package rows

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/environment/sqldb/engine"
)

// From keys to records. The database is asked for the stored form that a key would
// have if Anagram wrote it. Records whose key is stored in another form (text that
// is not in NFC, another case where case is folded, a date with a time of midnight)
// cannot be found that way: when a key that may be stored differently is not found,
// the type's keys are read once and those odd records are remembered.

// Locate tells for each key how many records have it.
func (s *session) Locate(ctx context.Context, m *environment.Model, typ string, keys []record.Key) ([]int, error) {
	out := make([]int, len(keys))
	at := 0
	for part := range slices.Chunk(keys, batch) {
		found, err := s.locate(ctx, m, typ, part)
		if err != nil {
			return nil, err
		}
		for _, key := range part {
			out[at] = len(found[key.Order()])
			at++
		}
	}
	return out, nil
}

// locate finds the records with these keys, by key order. Keys not in the result
// belong to no record.
func (s *session) locate(ctx context.Context, m *environment.Model, typ string, keys []record.Key) (map[string][]identity, error) {
	f, err := s.form(ctx, m, typ, nil, nil, false)
	if err != nil {
		return nil, err
	}
	known := s.located[typ]
	found := map[string][]identity{}
	wanted := map[string]record.Key{}
	for _, key := range keys {
		if ids, ok := known[key.Order()]; ok {
			found[key.Order()] = ids
		} else {
			wanted[key.Order()] = key
		}
	}
	if len(wanted) == 0 {
		return found, nil
	}
	columns := f.storedKey()
	tuples, err := s.storedKeys(ctx, m, f, columns, wanted)
	if err != nil {
		return nil, err
	}
	var rows [][]any
	if err := s.whereIn(ctx, len(f.names), s.selectForm(f), columns, tuples, "", func(row []any) error { rows = append(rows, row); return nil }); err != nil {
		return nil, err
	}
	rowKeys, in, err := s.keysOf(ctx, m, f, len(f.only), rows)
	if err != nil {
		return nil, err
	}
	for i, key := range rowKeys {
		if _, ok := wanted[key.Order()]; ok && in[i] {
			found[key.Order()] = append(found[key.Order()], slices.Clone(identity(rows[i][:f.lead]))) // the row is not held with it
		}
	}
	for order, key := range wanted {
		if len(found[order]) == 0 && mayBeStoredDifferently(m.Shapes[typ], key) {
			odd, err := s.oddRecords(ctx, m, f)
			if err != nil {
				return nil, err
			}
			if ids := odd[order]; len(ids) > 0 {
				found[order] = ids
			}
		}
		if len(found[order]) > 0 {
			if s.located[typ] == nil { // forgotten in between to save memory
				s.located[typ] = map[string][]identity{}
			}
			s.located[typ][order] = found[order]
			s.cached++
		}
	}
	return found, nil
}

// referred gives the values of some columns of the one record that a reference points
// at, for a reference to be stored.
func (s *session) referred(ctx context.Context, m *environment.Model, v record.Value, by []string) (identity, error) {
	found, err := s.locate(ctx, m, v.Refers(), []record.Key{v.Key()})
	if err != nil {
		return nil, err
	}
	ids := found[v.Key().Order()]
	address := m.Catalog.Address(v.Refers(), v.Key())
	switch len(ids) {
	case 1:
	case 0:
		return nil, fmt.Errorf("it refers to %s, which is not there", address)
	default:
		return nil, fmt.Errorf("it refers to %s, which occurs %d times", address, len(ids))
	}
	t, err := s.table(ctx, m, v.Refers())
	if err != nil || slices.Equal(by, t.identity) {
		return ids[0], err
	}
	as := learnedBy(v.Refers(), by)
	if known := s.located[as][v.Key().Order()]; known != nil {
		return known[0], nil
	}
	var out identity
	err = s.whereIn(ctx, len(by), s.selectFrom(t, by), t.identity, ids, "", func(row []any) error { out = row; return nil })
	if err == nil && out == nil {
		err = fmt.Errorf("it refers to %s, which is no longer there", address)
	}
	if err == nil {
		if s.located[as] == nil {
			s.located[as] = map[string][]identity{}
		}
		s.located[as][v.Key().Order()] = []identity{out}
		s.cached++
	}
	return out, err
}

// storedKey lists the columns that make up the key, each once.
func storedKey(t *catalog.Type) []string {
	var out []string
	for _, field := range t.Key {
		for _, column := range t.Stored(field) {
			if !slices.Contains(out, column) {
				out = append(out, column)
			}
		}
	}
	return out
}

func (t table) storedKey() []string { return storedKey(t.Type) }

// unset is a column of a stored key that no field has filled yet.
type unset struct{}

// storedKeys gives the stored form of keys, one value for each of columns. A key that
// refers to a record which is not there has none; one that refers to an ambiguous record
// has several.
func (s *session) storedKeys(ctx context.Context, m *environment.Model, f *form, columns []string, keys map[string]record.Key) ([]identity, error) {
	ask := map[string][]record.Key{} // by type
	for _, key := range keys {
		for i, part := range key.Parts() {
			if part.Kind() == record.Reference && !f.key[i].ref.ByKey {
				ask[part.Refers()] = append(ask[part.Refers()], part.Key())
			}
		}
	}
	referred := map[string]map[string][]identity{}
	for to, list := range ask {
		var err error
		if referred[to], err = s.locate(ctx, m, to, list); err != nil {
			return nil, err
		}
	}
	var out []identity
	for _, key := range keys {
		blank := make(identity, len(columns))
		for i := range blank {
			blank[i] = unset{}
		}
		tuples := []identity{blank}
		for i, part := range key.Parts() {
			choices, err := s.storedPart(ctx, m, f, f.key[i], part, referred)
			if err != nil {
				return nil, err
			}
			var longer []identity
			for _, tuple := range tuples {
				for _, choice := range choices {
					if filled, ok := fill(tuple, columns, f.Stored(f.key[i].Name), choice); ok {
						longer = append(longer, filled)
					}
				}
			}
			tuples = longer
		}
		out = append(out, tuples...)
	}
	return out, nil
}

// fill puts the columns of one field into a tuple; two fields that share a column have to
// agree.
func fill(tuple identity, columns, of []string, choice identity) (identity, bool) {
	out := slices.Clone(tuple)
	for i, column := range of {
		at := slices.Index(columns, column)
		if _, free := out[at].(unset); !free && engine.StoredText(out[at]) != engine.StoredText(choice[i]) {
			return nil, false
		}
		out[at] = choice[i]
	}
	return out, true
}

// storedPart gives the ways in which one part of a key may be stored.
func (s *session) storedPart(ctx context.Context, m *environment.Model, f *form, c cell, part record.Value, referred map[string]map[string][]identity) ([]identity, error) {
	switch {
	case part.IsNull() && c.ref.None != nil:
		out := []identity{{nil}}
		for _, none := range c.ref.None {
			out = append(out, storedNone(none, f.columns[c.Name]))
		}
		return out, nil
	case part.IsNull():
		return []identity{make(identity, len(c.at))}, nil
	case c.ref.ByKey:
		stored, err := s.encode(m, f.Type, part.Parts()[0], f.columns[c.Name])
		if err != nil {
			return nil, nil
		}
		return []identity{{stored}}, nil
	case c.ref.Columns != nil:
		if len(referred[part.Refers()][part.Key().Order()]) != 1 {
			return nil, nil
		}
		id, err := s.referred(ctx, m, part, c.by(m, part.Refers()))
		return []identity{id}, err
	case part.Kind() == record.Reference:
		var out []identity
		for _, id := range referred[part.Refers()][part.Key().Order()] {
			out = append(out, identity{id[0]})
		}
		return out, nil
	}
	// In the form in which keys compare, and as found, which is what an import writes.
	rule := c.Rule
	rule.NFC = true
	var out []identity
	for _, form := range []record.Value{rule.Form(part), part} {
		stored, err := s.encode(m, f.Type, form, f.columns[c.Name])
		if err == nil && (len(out) == 0 || engine.StoredText(out[0][0]) != engine.StoredText(stored)) {
			out = append(out, identity{stored}) // what cannot be stored is not there
		}
	}
	return out, nil
}

// mayBeStoredDifferently reports whether a record can have this key in a stored form
// other than the one Anagram writes. Whole numbers and plain ASCII text have one form.
func mayBeStoredDifferently(shape []record.Field, key record.Key) bool {
	for i, part := range key.Parts() {
		rule := shape[i].Rule
		switch part.Kind() {
		case record.Null:
			if rule.BlankIsNull {
				return true
			}
		case record.Integer, record.Reference:
		case record.Text:
			if rule.FoldCase || rule.Trim || rule.BlankIsNull || strings.ContainsFunc(part.Text(), func(r rune) bool { return r > 126 }) {
				return true
			}
		default:
			return true
		}
	}
	return false
}

// oddRecords reads the keys of a type once and keeps the records whose stored key is
// not what Anagram would write.
func (s *session) oddRecords(ctx context.Context, m *environment.Model, f *form) (map[string][]identity, error) {
	if odd, ok := s.odd[f.Name]; ok {
		return odd, nil
	}
	odd := map[string][]identity{}
	var rows [][]any
	flush := func() error {
		keys, in, err := s.keysOf(ctx, m, f, len(f.only), rows)
		if err != nil {
			return err
		}
		for i, key := range keys {
			if in[i] {
				odd[key.Order()] = append(odd[key.Order()], identity(rows[i][:f.lead]))
			}
		}
		rows = rows[:0]
		return nil
	}
	err := s.stream(ctx, f, func(row []any) error {
		if s.isPlain(m, f, row) {
			return nil
		}
		if rows = append(rows, row); len(rows) < batch {
			return nil
		}
		return flush()
	}, s.selectForm(f))
	if err == nil {
		err = flush()
	}
	if err != nil {
		return nil, err
	}
	if s.odd == nil {
		s.odd = map[string]map[string][]identity{}
	}
	s.odd[f.Name] = odd
	return odd, nil
}

// isPlain reports whether a stored key is what Anagram would write for it.
func (s *session) isPlain(m *environment.Model, f *form, row []any) bool {
	for _, c := range f.key {
		stored := row[c.at[0]]
		if c.Kind == record.Reference || stored == nil {
			continue
		}
		v, err := s.decode(m, f.Type, stored, c.Kind, c.stored)
		if err != nil {
			return false
		}
		rule := c.Rule
		rule.NFC = true
		back, err := s.encode(m, f.Type, rule.Form(v), f.columns[c.Name])
		if err != nil || engine.StoredText(back) != engine.StoredText(stored) {
			return false
		}
	}
	return true
}

// whereIn runs a query for the rows whose columns have one of the given tuples of
// stored values; nulls are equal to nulls here. The suffix follows the condition.
func (s *session) whereIn(ctx context.Context, width int, query string, columns []string, tuples []identity, suffix string, row func([]any) error) error {
	byNulls := map[string][]identity{}
	for _, tuple := range tuples {
		nulls := make([]byte, len(tuple))
		for i, stored := range tuple {
			nulls[i] = '.'
			if stored == nil {
				nulls[i] = '0'
			}
		}
		byNulls[string(nulls)] = append(byNulls[string(nulls)], tuple)
	}
	for nulls, group := range byNulls {
		var where, listed []string
		for i, column := range columns {
			if nulls[i] == '0' {
				where = append(where, s.dialect.Quote(column)+" IS NULL")
			} else {
				listed = append(listed, s.dialect.Quote(column))
			}
		}
		if len(listed) == 0 {
			group = group[:1] // all of them ask for the same
		}
		for part := range slices.Chunk(group, batch) {
			conditions := slices.Clone(where)
			var args []any
			if len(listed) > 1 && s.can.SlowTuples {
				first := strings.IndexByte(nulls, '.')
				seen := map[string]bool{}
				for _, tuple := range part {
					if v := tuple[first]; !seen[engine.StoredText(v)] {
						seen[engine.StoredText(v)] = true
						args = append(args, v)
					}
				}
				conditions = append(conditions, s.dialect.In(listed[:1], len(args)))
			}
			if len(listed) > 0 {
				conditions = append(conditions, s.dialect.In(listed, len(part)))
			}
			for _, tuple := range part {
				for _, stored := range tuple {
					if stored != nil {
						args = append(args, stored)
					}
				}
			}
			if err := s.query(ctx, width, row, query+" WHERE "+strings.Join(conditions, " AND ")+suffix, args...); err != nil {
				return err
			}
		}
	}
	return nil
}
