package sqldb

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"anagram/internal/core/record"
	"anagram/internal/environment"
)

// From internal ids to keys, through any depth of references: a handful of queries
// for a batch, level by level in a tree.

// learn makes sure that the keys of these internal ids of a type are known to the
// session. Ids that no record has stay unknown; nulls are passed over.
func (s *session) learn(ctx context.Context, m *environment.Model, typ string, ids []any) error {
	t, err := s.table(ctx, m, typ)
	if err != nil {
		return err
	}
	known := s.keys[typ]
	if known == nil {
		known = map[string]record.Key{}
		s.keys[typ] = known
	}
	if t.ID == "" { // references hold the key itself
		return s.learnByKey(ctx, m, t, ids, known)
	}
	rows := map[string][]any{} // internal id -> stored key
	pending := unknown(ids, known, rows)
	for len(pending) > 0 {
		var parents []any
		columns := append([]string{t.ID}, t.Key...)
		err := s.whereIn(ctx, len(columns), s.selectFrom(t, columns), []string{t.ID}, pending, "", func(row []any) error {
			id := idText(row[0])
			if _, twice := rows[id]; twice {
				return fmt.Errorf("%s: %s has the internal id %s twice, so references to it cannot be told; correct id: of %s in the catalog", s.name, t.place, id, typ)
			}
			rows[id] = row[1:]
			for i, field := range t.Key {
				if t.Refers[field] == typ && !t.ByKey[field] {
					parents = append(parents, row[1+i])
				}
			}
			return nil
		})
		if err != nil {
			return err
		}
		pending = unknown(parents, known, rows)
	}
	for i, field := range t.Key {
		if to := t.Refers[field]; to != "" && to != typ && !t.ByKey[field] {
			stored := make([]any, 0, len(rows))
			for _, row := range rows {
				stored = append(stored, row[i])
			}
			if err := s.learn(ctx, m, to, stored); err != nil {
				return err
			}
		}
	}
	b := keyBuilder{s: s, m: m, t: t, rows: rows, building: map[string]bool{}}
	for id := range rows {
		if _, err := b.key(id); err != nil {
			return err
		}
	}
	return nil
}

// learnByKey is learn for a type whose single key field is what references hold.
func (s *session) learnByKey(ctx context.Context, m *environment.Model, t table, ids []any, known map[string]record.Key) error {
	field := m.Shapes[t.Name][0]
	if field.Kind == record.Reference {
		if err := s.learn(ctx, m, field.Refers, ids); err != nil {
			return err
		}
	}
	for _, id := range ids {
		if id == nil {
			continue
		}
		v, err := s.value(m, t.Type, id, field)
		if err != nil {
			return &environment.RecordError{Environment: s.name, Address: t.Name + "/" + idText(id), Field: field.Name, Cause: err}
		}
		known[idText(id)] = m.Shapes.Key(t.Name, []record.Value{v})
		s.cached++
	}
	return nil
}

func unknown(ids []any, known map[string]record.Key, rows map[string][]any) []identity {
	var out []identity
	seen := map[string]bool{}
	for _, id := range ids {
		text := idText(id)
		_, isKnown := known[text]
		_, isRead := rows[text]
		if id != nil && !isKnown && !isRead && !seen[text] {
			seen[text] = true
			out = append(out, identity{id})
		}
	}
	return out
}

// keyBuilder makes keys of stored keys; in a tree from the root downwards.
type keyBuilder struct {
	s        *session
	m        *environment.Model
	t        table
	rows     map[string][]any
	building map[string]bool
}

func (b *keyBuilder) key(id string) (record.Key, error) {
	if key, ok := b.s.keys[b.t.Name][id]; ok {
		return key, nil
	}
	row, ok := b.rows[id]
	if !ok {
		return record.Key{}, fmt.Errorf("%s: a key of %s refers to internal id %s, which is not in %s; correct it there", b.s.name, b.t.Name, id, b.t.place)
	}
	if b.building[id] {
		return record.Key{}, fmt.Errorf("%s: the keys of %s refer to each other in a loop (internal ids %s), so none of them can be told; correct one of them there",
			b.s.name, b.t.Name, b.loop(id))
	}
	b.building[id] = true
	parts := make([]record.Value, len(row))
	for i, field := range b.m.Shapes[b.t.Name] {
		var err error
		if field.Refers == b.t.Name && row[i] != nil && !b.t.ByKey[field.Name] {
			parent, err := b.key(idText(row[i]))
			if err != nil {
				return record.Key{}, err
			}
			parts[i] = record.ReferenceValue(parent)
			continue
		}
		if parts[i], err = b.s.value(b.m, b.t.Type, row[i], field); err != nil {
			return record.Key{}, &environment.RecordError{Environment: b.s.name, Address: b.t.Name + " with internal id " + id, Field: field.Name, Cause: err}
		}
	}
	key := b.m.Shapes.Key(b.t.Name, parts)
	b.s.keys[b.t.Name][id] = key
	b.s.cached++
	return key, nil
}

// loop lists the internal ids of a loop in a tree.
func (b *keyBuilder) loop(start string) string {
	ids := []string{start}
	for id := start; ; {
		for i, field := range b.t.Key {
			if b.t.Refers[field] == b.t.Name {
				id = idText(b.rows[id][i])
			}
		}
		if slices.Contains(ids, id) || len(ids) >= 10 {
			return strings.Join(ids, ", ")
		}
		ids = append(ids, id)
	}
}

// rowKeys makes the keys of rows whose stored keys begin at a position.
func (s *session) rowKeys(ctx context.Context, m *environment.Model, t table, at int, rows [][]any) ([]record.Key, error) {
	if s.cached > maxCached {
		s.forget()
	}
	shape := m.Shapes[t.Name]
	for i, field := range shape {
		if field.Kind == record.Reference && !t.ByKey[field.Name] {
			if err := s.learn(ctx, m, field.Refers, column(rows, at+i)); err != nil {
				return nil, err
			}
		}
	}
	keys := make([]record.Key, len(rows))
	for n, row := range rows {
		parts := make([]record.Value, len(shape))
		for i, field := range shape {
			var err error
			if parts[i], err = s.value(m, t.Type, row[at+i], field); err != nil {
				return nil, &environment.RecordError{Environment: s.name,
					Address: fmt.Sprintf("%s with %s %s", t.Name, strings.Join(t.identity, ", "), identity(row[:at]).text()), Field: field.Name, Cause: err}
			}
		}
		keys[n] = m.Shapes.Key(t.Name, parts)
	}
	return keys, nil
}
