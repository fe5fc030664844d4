package translate

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/environment/sqldb/engine"
	"anagram/internal/environment/sqldb/query"
)

// From keys to records. The database is asked for the stored form that a key would
// have if Anagram wrote it. Records whose key is stored in another form (text that
// is not in NFC, another case where case is folded, a date with a time of midnight)
// cannot be found that way: when a key that may be stored differently is not found,
// the type's keys are read once and those odd records are remembered.

// Locate tells for each key how many records have it.
func (s *Translator) Locate(ctx context.Context, m *environment.Model, typ string, keys []record.Key) ([]int, error) {
	out := make([]int, len(keys))
	at := 0
	for part := range slices.Chunk(keys, query.Batch) {
		found, err := s.Find(ctx, m, typ, part)
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

// Find finds the records with these keys, by key order. Keys not in the result
// belong to no record.
func (s *Translator) Find(ctx context.Context, m *environment.Model, typ string, keys []record.Key) (map[string][]query.Identity, error) {
	f, err := s.Form(ctx, m, typ, nil, nil, false)
	if err != nil {
		return nil, err
	}
	known := s.located[typ]
	found := map[string][]query.Identity{}
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
	columns := query.StoredKey(f.Type)
	tuples, err := s.StoredKeys(ctx, m, f, columns, wanted)
	if err != nil {
		return nil, err
	}
	var rows [][]any
	if err := s.rows.Where(ctx, f.Table, f.Names, columns, tuples,
		func(row []any) error { rows = append(rows, row); return nil }); err != nil {
		return nil, err
	}
	rowKeys, in, err := s.KeysOf(ctx, m, f, len(f.Filters), rows)
	if err != nil {
		return nil, err
	}
	for i, key := range rowKeys {
		if _, ok := wanted[key.Order()]; ok && in[i] {
			found[key.Order()] = append(found[key.Order()], slices.Clone(query.Identity(rows[i][:f.Lead]))) // the row is not held with it
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
				s.located[typ] = map[string][]query.Identity{}
			}
			s.located[typ][order] = found[order]
			s.cached++
		}
	}
	return found, nil
}

// Referred gives the values of some columns of the one record that a reference points
// at, for a reference to be stored.
func (s *Translator) Referred(ctx context.Context, m *environment.Model, v record.Value, by []string) (query.Identity, error) {
	found, err := s.Find(ctx, m, v.Refers(), []record.Key{v.Key()})
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
	t, err := s.rows.Table(ctx, m, v.Refers())
	if err != nil || slices.Equal(by, t.Identity) {
		return ids[0], err
	}
	as := learnedBy(v.Refers(), by)
	if known := s.located[as][v.Key().Order()]; known != nil {
		return known[0], nil
	}
	var out query.Identity
	err = s.rows.Where(ctx, t, by, t.Identity, ids, func(row []any) error { out = row; return nil })
	if err == nil && out == nil {
		err = fmt.Errorf("it refers to %s, which is no longer there", address)
	}
	if err == nil {
		if s.located[as] == nil {
			s.located[as] = map[string][]query.Identity{}
		}
		s.located[as][v.Key().Order()] = []query.Identity{out}
		s.cached++
	}
	return out, err
}

// unset is a column of a stored key that no field has filled yet.
type unset struct{}

// StoredKeys gives the stored form of keys, one value for each of columns. A key that
// refers to a record which is not there has none; one that refers to an ambiguous record
// has several.
func (s *Translator) StoredKeys(ctx context.Context, m *environment.Model, f *Form, columns []string,
	keys map[string]record.Key) ([]query.Identity, error) {
	ask := map[string][]record.Key{} // by type
	for _, key := range keys {
		for i, part := range key.Parts() {
			if part.Kind() == record.Reference && !f.KeyCells[i].Ref.ByKey {
				ask[part.Refers()] = append(ask[part.Refers()], part.Key())
			}
		}
	}
	referred := map[string]map[string][]query.Identity{}
	for to, list := range ask {
		var err error
		if referred[to], err = s.Find(ctx, m, to, list); err != nil {
			return nil, err
		}
	}
	var out []query.Identity
	for _, key := range keys {
		blank := make(query.Identity, len(columns))
		for i := range blank {
			blank[i] = unset{}
		}
		tuples := []query.Identity{blank}
		for i, part := range key.Parts() {
			choices, err := s.storedPart(ctx, m, f, f.KeyCells[i], part, referred)
			if err != nil {
				return nil, err
			}
			var longer []query.Identity
			for _, tuple := range tuples {
				for _, choice := range choices {
					if filled, ok := fill(tuple, columns, f.Stored(f.KeyCells[i].Name), choice); ok {
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
func fill(tuple query.Identity, columns, of []string, choice query.Identity) (query.Identity, bool) {
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
func (s *Translator) storedPart(ctx context.Context, m *environment.Model, f *Form, c Cell, part record.Value,
	referred map[string]map[string][]query.Identity) ([]query.Identity, error) {
	switch {
	case part.IsNull() && c.Ref.None != nil:
		out := []query.Identity{{nil}}
		for _, none := range c.Ref.None {
			out = append(out, StoredNone(none, f.Columns[c.Name]))
		}
		return out, nil
	case part.IsNull():
		return []query.Identity{make(query.Identity, len(c.At))}, nil
	case c.Ref.ByKey:
		stored, err := s.Encode(m, f.Type, part.Parts()[0], f.Columns[c.Name])
		if err != nil {
			return nil, nil
		}
		return []query.Identity{{stored}}, nil
	case c.Ref.Columns != nil:
		if len(referred[part.Refers()][part.Key().Order()]) != 1 {
			return nil, nil
		}
		id, err := s.Referred(ctx, m, part, c.By(m, part.Refers()))
		return []query.Identity{id}, err
	case part.Kind() == record.Reference:
		var out []query.Identity
		for _, id := range referred[part.Refers()][part.Key().Order()] {
			out = append(out, query.Identity{id[0]})
		}
		return out, nil
	}
	// In the form in which keys compare, and as found, which is what an import writes.
	rule := c.Rule
	rule.NFC = true
	var out []query.Identity
	for _, form := range []record.Value{rule.Form(part), part} {
		stored, err := s.Encode(m, f.Type, form, f.Columns[c.Name])
		if err == nil && (len(out) == 0 || engine.StoredText(out[0][0]) != engine.StoredText(stored)) {
			out = append(out, query.Identity{stored}) // what cannot be stored is not there
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
func (s *Translator) oddRecords(ctx context.Context, m *environment.Model, f *Form) (map[string][]query.Identity, error) {
	if odd, ok := s.odd[f.Name]; ok {
		return odd, nil
	}
	odd := map[string][]query.Identity{}
	var rows [][]any
	flush := func() error {
		keys, in, err := s.KeysOf(ctx, m, f, len(f.Filters), rows)
		if err != nil {
			return err
		}
		for i, key := range keys {
			if in[i] {
				odd[key.Order()] = append(odd[key.Order()], query.Identity(rows[i][:f.Lead]))
			}
		}
		rows = rows[:0]
		return nil
	}
	err := s.rows.All(ctx, f.Table, f.Names, func(row []any) error {
		if s.isPlain(m, f, row) {
			return nil
		}
		if rows = append(rows, row); len(rows) < query.Batch {
			return nil
		}
		return flush()
	})
	if err == nil {
		err = flush()
	}
	if err != nil {
		return nil, err
	}
	if s.odd == nil {
		s.odd = map[string]map[string][]query.Identity{}
	}
	s.odd[f.Name] = odd
	return odd, nil
}

// isPlain reports whether a stored key is what Anagram would write for it.
func (s *Translator) isPlain(m *environment.Model, f *Form, row []any) bool {
	for _, c := range f.KeyCells {
		stored := row[c.At[0]]
		if c.Kind == record.Reference || stored == nil {
			continue
		}
		v, err := s.decode(m, f.Type, stored, c.Kind, c.Stored)
		if err != nil {
			return false
		}
		rule := c.Rule
		rule.NFC = true
		back, err := s.Encode(m, f.Type, rule.Form(v), f.Columns[c.Name])
		if err != nil || engine.StoredText(back) != engine.StoredText(stored) {
			return false
		}
	}
	return true
}
