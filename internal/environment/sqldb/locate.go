package sqldb

import (
	"context"
	"slices"
	"strings"

	"anagram/internal/core/record"
	"anagram/internal/environment"
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
	t, err := s.table(ctx, m, typ)
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
	tuples, err := s.storedKeys(ctx, m, t, wanted)
	if err != nil {
		return nil, err
	}
	columns := append(slices.Clone(t.identity), t.Key...)
	var rows [][]any
	if err := s.whereIn(ctx, len(columns), s.selectFrom(t, columns), t.Key, tuples, "", func(row []any) error { rows = append(rows, row); return nil }); err != nil {
		return nil, err
	}
	rowKeys, err := s.rowKeys(ctx, m, t, len(t.identity), rows)
	if err != nil {
		return nil, err
	}
	for i, key := range rowKeys {
		if _, ok := wanted[key.Order()]; ok {
			found[key.Order()] = append(found[key.Order()], identity(rows[i][:len(t.identity)]))
		}
	}
	for order, key := range wanted {
		if len(found[order]) == 0 && mayBeStoredDifferently(m.Shapes[typ], key) {
			odd, err := s.oddRecords(ctx, m, t)
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

// storedKeys gives the stored form of keys. A key that refers to a record which is
// not there has none; one that refers to an ambiguous record has several.
func (s *session) storedKeys(ctx context.Context, m *environment.Model, t table, keys map[string]record.Key) ([]identity, error) {
	shape := m.Shapes[t.Name]
	referred := make([]map[string][]identity, len(shape))
	for i, field := range shape {
		if field.Kind != record.Reference || t.ByKey[field.Name] {
			continue
		}
		var ask []record.Key
		for _, key := range keys {
			if !key.Parts()[i].IsNull() {
				ask = append(ask, key.Parts()[i].Key())
			}
		}
		if len(ask) == 0 {
			continue
		}
		var err error
		if referred[i], err = s.locate(ctx, m, field.Refers, ask); err != nil {
			return nil, err
		}
	}
	var out []identity
	for _, key := range keys {
		tuples := []identity{{}}
		for i, part := range key.Parts() {
			var choices []any
			switch {
			case part.IsNull():
				choices = []any{nil}
			case t.ByKey[t.Key[i]]:
				stored, err := s.dialect.Encode(part.Parts()[0], t.columns[t.Key[i]])
				if err == nil {
					choices = []any{stored}
				}
			case shape[i].Kind == record.Reference:
				for _, id := range referred[i][part.Text()] {
					choices = append(choices, id[0])
				}
			default:
				// In the form in which keys compare, and as found, which is what an
				// import writes.
				rule := shape[i].Rule
				rule.NFC = true
				for _, form := range []record.Value{rule.Form(part), part} {
					stored, err := s.dialect.Encode(form, t.columns[t.Key[i]])
					if err == nil && (len(choices) == 0 || idText(choices[0]) != idText(stored)) {
						choices = append(choices, stored) // what cannot be stored is not there
					}
				}
			}
			var longer []identity
			for _, tuple := range tuples {
				for _, choice := range choices {
					longer = append(longer, append(slices.Clone(tuple), choice))
				}
			}
			tuples = longer
		}
		out = append(out, tuples...)
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
func (s *session) oddRecords(ctx context.Context, m *environment.Model, t table) (map[string][]identity, error) {
	if odd, ok := s.odd[t.Name]; ok {
		return odd, nil
	}
	odd := map[string][]identity{}
	shape := m.Shapes[t.Name]
	at := len(t.identity)
	columns := append(slices.Clone(t.identity), t.Key...)
	var rows [][]any
	flush := func() error {
		keys, err := s.rowKeys(ctx, m, t, at, rows)
		if err != nil {
			return err
		}
		for i, key := range keys {
			odd[key.Order()] = append(odd[key.Order()], identity(rows[i][:at]))
		}
		rows = rows[:0]
		return nil
	}
	err := s.query(ctx, len(columns), func(row []any) error {
		if s.isPlain(t, row[at:], shape) {
			return nil
		}
		if rows = append(rows, row); len(rows) < batch {
			return nil
		}
		return flush()
	}, s.selectFrom(t, columns))
	if err == nil {
		err = flush()
	}
	if err != nil {
		return nil, err
	}
	if s.odd == nil {
		s.odd = map[string]map[string][]identity{}
	}
	s.odd[t.Name] = odd
	return odd, nil
}

// isPlain reports whether a stored key is what Anagram would write for it.
func (s *session) isPlain(t table, stored []any, shape []record.Field) bool {
	for i, field := range shape {
		if field.Kind == record.Reference || stored[i] == nil {
			continue
		}
		v, err := s.dialect.Decode(stored[i], field.Kind)
		if err != nil {
			return false
		}
		rule := field.Rule
		rule.NFC = true
		back, err := s.dialect.Encode(rule.Form(v), t.columns[field.Name])
		if err != nil || idText(back) != idText(stored[i]) {
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
			if len(listed) > 0 {
				conditions = append(conditions, s.dialect.In(listed, len(part)))
			}
			var args []any
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
