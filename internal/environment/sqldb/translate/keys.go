package translate

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/environment/sqldb/engine"
	"anagram/internal/environment/sqldb/query"
)

// From internal ids to keys, through any depth of references: a handful of queries
// for a batch, level by level in a tree.

// learnedBy names what was learned of a type by some of its columns.
func learnedBy(typ string, by []string) string { return typ + "\x00" + strings.Join(by, "\x00") }

// learn makes sure that the keys of records of a type, told by some of its columns, are
// known to the session, or that they are outside. Ids that no record has stay unknown.
func (s *Translator) learn(ctx context.Context, m *environment.Model, typ string, by []string, ids []query.Identity) error {
	if len(ids) == 0 {
		return nil
	}
	as := learnedBy(typ, by)
	if s.keys[as] == nil {
		s.keys[as] = map[string]record.Key{}
	}
	if s.outside[as] == nil {
		s.outside[as] = map[string]bool{}
	}
	f, err := s.Form(ctx, m, typ, by, nil, false)
	if err != nil {
		return err
	}
	if f.isByKey(by) {
		return s.learnByKey(ctx, m, f, ids, s.keys[as])
	}
	b := keyBuilder{s: s, m: m, f: f, rows: map[string][]any{}, building: map[string]bool{}, as: as, tree: -1}
	ownID := by[0] == f.ID
	if ownID {
		b.tree = f.parent()
	}
	if err := b.fetch(ctx, by, ids); err != nil {
		return err
	}
	if err := s.learnDeciding(ctx, m, f, slices.Collect(maps.Values(b.rows)), !ownID); err != nil {
		return err
	}
	for _, id := range slices.Sorted(maps.Keys(b.rows)) { // in an order, so that a loop is told the same way each time
		if _, err := b.key(id); err != nil && !errors.Is(err, errOutside) {
			return err
		}
	}
	return nil
}

// isByKey reports whether references hold the key itself, and nothing decides about it.
func (f *Form) isByKey(by []string) bool {
	return f.ID == "" && len(by) == 1 && by[0] == f.Key[0] && len(f.Key) == 1 && len(f.Filters)+len(f.Deciding) == 0
}

// fetch reads the rows with some ids, and in a tree, whose parents are told by internal id,
// all that are above them.
func (b *keyBuilder) fetch(ctx context.Context, by []string, ids []query.Identity) error {
	s, f := b.s, b.f
	for pending := s.unknown(f, by, ids, b.as, b.rows); len(pending) > 0; {
		var parents []query.Identity
		err := s.rows.Where(ctx, f.Table, f.Names, by, pending, func(row []any) error {
			id := query.Identity(row[:f.Lead]).MapKey()
			if _, twice := b.rows[id]; twice {
				return fmt.Errorf("%s: %s has %s %s twice, so references to it cannot be told; correct id: or columns: of %s in the catalog", s.in, f.At, strings.Join(by, ", "), id, f.Name)
			}
			b.rows[id] = row
			if b.tree >= 0 && row[b.tree] != nil {
				parents = append(parents, query.Identity{row[b.tree]})
			}
			return nil
		})
		if err != nil {
			return err
		}
		pending = s.unknown(f, by, parents, b.as, b.rows)
	}
	return nil
}

// parent gives the column that holds the parent in a tree, -1 for other types.
func (f *Form) parent() int {
	for _, c := range f.KeyCells {
		if c.Ref.One() == f.Name && c.Ref.Plain() && !c.Ref.ByKey {
			return c.At[0]
		}
	}
	return -1
}

// learnByKey is learn for a type whose single key field is what references hold.
func (s *Translator) learnByKey(ctx context.Context, m *environment.Model, f *Form, ids []query.Identity,
	known map[string]record.Key) error {
	c := f.KeyCells[0]
	c.At = []int{0}
	rows := make([][]any, len(ids))
	for i, id := range ids {
		rows[i] = id
	}
	if err := s.LearnCell(ctx, m, c, rows); err != nil {
		return err
	}
	for _, id := range ids {
		v, err := s.Value(m, f.Type, id, c)
		if err != nil {
			return &environment.RecordError{Environment: s.in, Address: f.Name + "/" + id.Text(), Field: c.Name, Cause: err}
		}
		known[id.MapKey()] = m.Shapes.Key(f.Name, []record.Value{v})
		s.cached++
	}
	return nil
}

// unknown gives the ids that are still to be read, each once, in the form in which the
// database compares them fastest.
func (s *Translator) unknown(f *Form, by []string, ids []query.Identity, as string, rows map[string][]any) []query.Identity {
	var out []query.Identity
	seen := map[string]bool{}
	for _, id := range ids {
		text := id.MapKey()
		_, isKnown := s.keys[as][text]
		_, isRead := rows[text]
		if isKnown || isRead || seen[text] || s.outside[as][text] || id.HasNull() {
			continue
		}
		seen[text] = true
		if whole, ok := id[0].(string); ok && len(id) == 1 && f.Columns[by[0]].Kind == record.Integer {
			n, err := strconv.ParseInt(strings.TrimSpace(whole), 10, 64)
			if err != nil {
				continue // no such id can be there
			}
			id = query.Identity{n}
		}
		out = append(out, id)
	}
	return out
}

// keyBuilder makes keys of stored keys; in a tree from the root downwards.
type keyBuilder struct {
	s        *Translator
	m        *environment.Model
	f        *Form
	rows     map[string][]any
	building map[string]bool
	as       string
	tree     int // column of the parent where parents are among rows, else -1
}

// key gives the key of a row, or errOutside.
func (b *keyBuilder) key(id string) (record.Key, error) {
	if key, ok := b.s.keys[b.as][id]; ok {
		return key, nil
	}
	if b.s.outside[b.as][id] {
		return record.Key{}, errOutside
	}
	row, ok := b.rows[id]
	if !ok {
		return record.Key{}, fmt.Errorf("%s: a key of %s refers to internal id %s, which is not in %s; correct it there", b.s.in,
			b.f.Name, id, b.f.At)
	}
	if b.building[id] {
		return record.Key{},
			fmt.Errorf("%s: the keys of %s refer to each other in a loop (internal ids %s), so none of them can be told; correct one of them there",
				b.s.in, b.f.Name, b.loop(id))
	}
	b.building[id] = true
	key, err := b.build(row)
	if errors.Is(err, errOutside) {
		b.s.outside[b.as][id] = true
		b.s.cached++
		return key, err
	}
	if err != nil {
		return key, err
	}
	b.s.keys[b.as][id] = key
	b.s.cached++
	return key, nil
}

func (b *keyBuilder) build(row []any) (record.Key, error) {
	parts := make([]record.Value, len(b.f.KeyCells))
	for i, c := range b.f.KeyCells {
		if b.tree >= 0 && len(c.At) == 1 && c.At[0] == b.tree && row[b.tree] != nil {
			parent, err := b.key(engine.StoredText(row[b.tree]))
			if err != nil {
				return record.Key{}, err
			}
			parts[i] = record.ReferenceValue(b.f.Name, parent)
			continue
		}
		var err error
		if parts[i], err = b.s.Value(b.m, b.f.Type, row, c); errors.Is(err, errOutside) {
			return record.Key{}, err
		} else if err != nil {
			return record.Key{}, &environment.RecordError{Environment: b.s.in, Address: b.f.rowName(row), Field: c.Name, Cause: err}
		}
	}
	in, err := b.s.IsIn(b.m, b.f, len(b.f.Filters), row)
	if err != nil {
		return record.Key{}, err
	}
	if !in {
		return record.Key{}, errOutside
	}
	return b.m.Shapes.Key(b.f.Name, parts), nil
}

// IsIn decides whether a row is outside, as far as its key does not tell.
func (s *Translator) IsIn(m *environment.Model, f *Form, own int, row []any) (bool, error) {
	for _, c := range f.Deciding {
		if _, err := s.Value(m, f.Type, row, c); errors.Is(err, errOutside) {
			return false, nil
		}
	}
	in, err := s.Fulfils(m, f, f.Filters[:own], row)
	if err != nil {
		return false, &environment.RecordError{Environment: s.in, Address: f.rowName(row), Cause: err}
	}
	return in, nil
}

// loop lists the internal ids of a loop in a tree.
func (b *keyBuilder) loop(start string) string {
	ids := []string{start}
	for id := start; ; {
		id = engine.StoredText(b.rows[id][b.tree])
		if slices.Contains(ids, id) || len(ids) >= 10 {
			return strings.Join(ids, ", ")
		}
		ids = append(ids, id)
	}
}

// learnDeciding learns what the keys of rows refer to, and what decides whether they
// are outside. In a tree whose rows are at hand, parents are left to the builder.
func (s *Translator) learnDeciding(ctx context.Context, m *environment.Model, f *Form, rows [][]any, parents bool) error {
	cells := slices.Concat(f.KeyCells, f.Deciding)
	for _, c := range f.Filters {
		cells = append(cells, c.Cells...)
	}
	for _, c := range cells {
		if !parents && c.Ref.One() == f.Name && c.Ref.Plain() {
			continue
		}
		if err := s.LearnCell(ctx, m, c, rows); err != nil {
			return err
		}
	}
	return nil
}

// KeysOf makes the keys of rows; in tells which of them are not outside, by the first own
// conditions and by what their keys and owners refer to.
func (s *Translator) KeysOf(ctx context.Context, m *environment.Model, f *Form, own int, rows [][]any) (keys []record.Key, in []bool,
	err error) {
	if s.cached > maxCached {
		s.Forget()
	}
	if err := s.learnDeciding(ctx, m, f, rows, true); err != nil {
		return nil, nil, err
	}
	keys, in = make([]record.Key, len(rows)), make([]bool, len(rows))
	for n, row := range rows {
		parts := make([]record.Value, len(f.KeyCells))
		in[n] = true
		for i, c := range f.KeyCells {
			if parts[i], err = s.Value(m, f.Type, row, c); errors.Is(err, errOutside) {
				in[n] = false
			} else if err != nil {
				// What its own condition leaves out need not have a key that can be told.
				if inside, unclear := s.IsIn(m, f, own, row); unclear == nil && !inside {
					in[n] = false
					continue
				}
				return nil, nil, &environment.RecordError{Environment: s.in, Address: f.rowName(row), Field: c.Name, Cause: err}
			}
		}
		if !in[n] {
			continue
		}
		keys[n] = m.Shapes.Key(f.Name, parts)
		if in[n], err = s.IsIn(m, f, own, row); CannotRead(err) {
			in[n] = true // rather told than left out
		} else if err != nil {
			return nil, nil, err
		}
	}
	return keys, in, nil
}
