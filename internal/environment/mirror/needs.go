package mirror

import (
	"context"
	"slices"
	"strings"

	"anagram/internal/core/catalog"
	"anagram/internal/core/condition"
	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/environment/sqldb/engine"
)

// What has to be fetched before a question can be answered.

// few is how many values are asked for without asking first how large the set is.
const few = 40

// need fetches what a reading needs.
func (e *mirror) need(ctx context.Context, from environment.Reader, m *environment.Model, r environment.Reading) error {
	fresh := e.working
	switch {
	case r.Keys != nil:
		return e.needKeys(ctx, m, r.Type, r.Keys, fresh)
	case r.Field != "":
		t, ok := m.Catalog.Type(r.Type)
		if !ok {
			break
		}
		ref := t.Refers[r.Field]
		if ref.One() == "" || ref.Columns != nil || ref.ByKey {
			break
		}
		if err := e.needKeys(ctx, m, ref.One(), r.Of, false); err != nil {
			return err
		}
		ids, ok, err := e.ids(ctx, from, m, ref.One(), r.Of)
		if err != nil {
			return err
		}
		if !ok {
			break
		}
		if err := e.by(ctx, m, r.Type, r.Field, ids, fresh); err != nil {
			return err
		}
		return e.references(ctx, m, r.Type)
	case len(r.Where) > 0 && r.With == nil && !fresh:
		return e.where(ctx, m, r)
	}
	if err := e.whole(ctx, m, r.Type, fresh); err != nil {
		return err
	}
	return e.references(ctx, m, r.Type)
}

// where fetches what fulfils conditions, as far as the service can be asked.
func (e *mirror) where(ctx context.Context, m *environment.Model, r environment.Reading) error {
	set, h, err := e.prepare(ctx, m, r.Type)
	if err != nil {
		return err
	}
	var terms []*condition.Term
	for _, c := range r.Where {
		if c.Narrow() != nil {
			terms = append(terms, c.Narrow())
		}
	}
	if !h.whole {
		if err := e.fetch(ctx, Query{Set: set, Columns: h.columns, Where: terms}, len(terms) == 0); err != nil {
			return err
		}
	}
	return e.references(ctx, m, r.Type)
}

// whole fetches all of a type.
func (e *mirror) whole(ctx context.Context, m *environment.Model, typ string, fresh bool) error {
	set, h, err := e.prepare(ctx, m, typ)
	if err != nil || h.whole && !fresh {
		return err
	}
	return e.fetch(ctx, Query{Set: set, Columns: h.columns}, true)
}

// fetch fetches rows; all says that those which do not come are no longer there.
func (e *mirror) fetch(ctx context.Context, q Query, all bool) error {
	h := e.sets[q.Set]
	return e.loading(ctx, func() error {
		if all {
			if err := e.exec(ctx, "DELETE FROM "+quote(q.Set)); err != nil {
				return err
			}
		} else if q.In != nil {
			for part := range slices.Chunk(q.In, 500) {
				marks := strings.TrimSuffix(strings.Repeat("?, ", len(part)), ", ")
				if err := e.exec(ctx, "DELETE FROM "+quote(q.Set)+" WHERE "+quote(q.By)+" IN ("+marks+")", part...); err != nil {
					return err
				}
			}
		}
		for _, ref := range q.Refs {
			if err := e.exec(ctx, "DELETE FROM "+quote(q.Set)+" WHERE "+quote(refColumn)+" = ?", ref); err != nil {
				return err
			}
		}
		if err := e.service.Fetch(ctx, q, func(row Row) error { return e.keep(ctx, q.Set, row) }); err != nil {
			return err
		}
		h.whole = h.whole || all
		if q.In != nil {
			if h.by[q.By] == nil {
				h.by[q.By] = map[string]bool{}
			}
			for _, v := range q.In {
				h.by[q.By][valueText(v)] = true
			}
		}
		return nil
	})
}

// by fetches the rows of a type with some values in a column.
func (e *mirror) by(ctx context.Context, m *environment.Model, typ, column string, values []any, fresh bool) error {
	set, h, err := e.prepare(ctx, m, typ)
	if err != nil {
		return err
	}
	var missing []any
	seen := map[string]bool{}
	for _, v := range values {
		text := valueText(v)
		if v != nil && !seen[text] && (fresh || !h.whole && !h.by[column][text]) {
			seen[text] = true
			missing = append(missing, v)
		}
	}
	if len(missing) == 0 {
		return nil
	}
	narrows, err := e.service.Narrows(ctx, set, column)
	if err != nil {
		return err
	}
	if narrows && len(missing) > few {
		if narrows, err = cheaper(ctx, e, set, h, len(missing)); err != nil {
			return err
		}
	}
	if !narrows {
		return e.whole(ctx, m, typ, fresh)
	}
	if err := e.index(ctx, set, []string{column}); err != nil {
		return err
	}
	return e.fetch(ctx, Query{Set: set, Columns: h.columns, By: column, In: missing}, false)
}

// cheaper reports whether it takes fewer requests to ask for some values than for all rows.
func cheaper(ctx context.Context, e *mirror, set string, h *held, values int) (bool, error) {
	_, narrowed, err := e.service.Requests(ctx, 1, values)
	if err != nil || narrowed <= 1 {
		return true, err
	}
	if h.whole || h.size == 0 {
		if h.size, err = sizeOf(ctx, e, set, h); err != nil {
			return false, err
		}
	}
	all, narrowed, err := e.service.Requests(ctx, h.size, values)
	return h.size < 0 || narrowed < all, err
}

// sizeOf tells how many rows a set has, negative where that is not known.
func sizeOf(ctx context.Context, e *mirror, set string, h *held) (n int, err error) {
	if !h.whole {
		if n, err = e.service.Count(ctx, set); n == 0 {
			n = 1
		}
		return n, err
	}
	err = e.each(ctx, 1, func(row []any) error {
		size, _ := row[0].(int64)
		n = int(size)
		return nil
	}, "SELECT count(*) FROM "+quote(set))
	return max(n, 1), err
}

// needKeys fetches the records with some keys, and what they refer to.
func (e *mirror) needKeys(ctx context.Context, m *environment.Model, typ string, keys []record.Key, fresh bool) error {
	if err := e.keyed(ctx, m, typ, keys, fresh); err != nil {
		return err
	}
	return e.references(ctx, m, typ)
}

// keyed fetches the records with some keys.
func (e *mirror) keyed(ctx context.Context, m *environment.Model, typ string, keys []record.Key, fresh bool) error {
	t, ok := m.Catalog.Type(typ)
	if !ok || len(keys) == 0 {
		return nil
	}
	set, h, err := e.prepare(ctx, m, typ)
	if err != nil || h.whole && !fresh {
		return err
	}
	column, values := "", []any(nil)
	for i, field := range t.Key {
		c, there := e.about.Places[set].Column(field)
		if !there || t.Rules[field] != (record.Rule{}) || t.As[field] != record.Null || t.Words[field] != (catalog.Words{}) {
			continue
		}
		_, refers := t.Refers[field]
		of, ok, err := e.part(ctx, m, t, i, c.Kind, keys)
		if err != nil {
			return err
		}
		// A part that is no reference tells more than one that many records share.
		if ok && (column == "" || !refers && t.Refers[column].To != nil) {
			column, values = field, of
		}
	}
	if column == "" {
		return e.whole(ctx, m, typ, fresh)
	}
	if len(values) == 0 { // what the keys refer to is not there, so neither are they
		return nil
	}
	return e.by(ctx, m, typ, column, values, fresh)
}

// part gives what is stored for a part of keys; ok is false where the service cannot be asked
// for it.
func (e *mirror) part(ctx context.Context, m *environment.Model, t *catalog.Type, i int, kind record.Kind,
	keys []record.Key) (of []any, ok bool, err error) {
	ref, refers := t.Refers[t.Key[i]]
	if !refers {
		of, ok = plain(keys, i, kind)
		return of, ok, nil
	}
	if ref.One() == "" || ref.Columns != nil || ref.ByKey || ref.None != nil {
		return nil, false, nil
	}
	var inner []record.Key
	for _, key := range keys {
		if key.Parts()[i].IsNull() {
			return nil, false, nil
		}
		inner = append(inner, key.Parts()[i].Key())
	}
	if err := e.keyed(ctx, m, ref.One(), inner, false); err != nil {
		return nil, false, err
	}
	if err := e.references(ctx, m, ref.One()); err != nil {
		return nil, false, err
	}
	return e.ids(ctx, e.Environment, m, ref.One(), inner)
}

// plain gives the stored forms of a plain part of keys; ok is false where a service might hold
// it in another form.
func plain(keys []record.Key, part int, kind record.Kind) ([]any, bool) {
	var out []any
	for _, key := range keys {
		v := key.Parts()[part]
		switch {
		case v.IsNull() || v.Kind() != kind:
			return nil, false
		case kind == record.Text:
			for i := range len(v.Text()) {
				if v.Text()[i] >= 0x80 { // it may be stored in another normal form
					return nil, false
				}
			}
			if v.Text() == "" {
				return nil, false
			}
			out = append(out, v.Text())
		case kind == record.Integer:
			n, ok := whole(v.Text())
			if !ok {
				return nil, false
			}
			out = append(out, n)
		default:
			return nil, false
		}
	}
	return out, true
}

// ids gives the internal ids of some records; ok is false where they have none.
func (e *mirror) ids(ctx context.Context, from environment.Reader, m *environment.Model, typ string, keys []record.Key) (out []any,
	ok bool, err error) {
	t, _ := m.Catalog.Type(typ)
	id := t.ID
	if id == "" && len(t.Key) == 1 {
		id = t.Key[0]
	}
	c, there := e.about.Places[t.Place(m.Environment)].Column(id)
	if !there || t.ID == "" && t.Refers[id].To != nil {
		return nil, false, nil
	}
	for rec, err := range from.Read(ctx, m, environment.Reading{Type: typ, Keys: keys}) {
		if err != nil {
			return nil, false, err
		}
		if rec.ID == "" {
			return nil, false, nil
		}
		var v any = rec.ID
		if c.Kind == record.Integer {
			n, ok := whole(rec.ID)
			if !ok {
				return nil, false, nil
			}
			v = n
		}
		out = append(out, v)
	}
	return out, true, nil
}

// references fetches what the rows of a type refer to and is not here yet, through any depth.
func (e *mirror) references(ctx context.Context, m *environment.Model, typ string) error {
	return e.follow(ctx, m, typ, true, map[string]bool{})
}

// follow fetches what a type refers to: by all fields of the type at work, of others by those
// that their keys and their only need.
func (e *mirror) follow(ctx context.Context, m *environment.Model, typ string, all bool, seen map[string]bool) error {
	t, ok := m.Catalog.Type(typ)
	if !ok || seen[typ] && !all {
		return nil
	}
	seen[typ] = true
	set := t.Place(m.Environment)
	if _, ok := e.about.Places[set]; !ok {
		return nil
	}
	for _, field := range t.ReferenceFields() {
		ref := t.Refers[field]
		if !all && t.Only == "" && !slices.Contains(t.Key, field) && field != t.OwnerField() {
			continue
		}
		if ref.One() == "" || ref.Columns != nil || ref.ByKey {
			for _, to := range append(slices.Clone(ref.To), valuesOf(ref.Words)...) {
				if _, there := m.Catalog.Type(to); !there {
					continue
				}
				if err := e.whole(ctx, m, to, false); err != nil {
					return err
				}
				if err := e.follow(ctx, m, to, false, seen); err != nil {
					return err
				}
			}
			continue
		}
		if err := e.followOne(ctx, m, set, field, ref, seen); err != nil {
			return err
		}
	}
	return nil
}

func valuesOf(words map[string]string) []string {
	var out []string
	for _, to := range words {
		if !slices.Contains(out, to) {
			out = append(out, to)
		}
	}
	slices.Sort(out)
	return out
}

// followOne fetches what a plain reference points at; in a tree, level by level.
func (e *mirror) followOne(ctx context.Context, m *environment.Model, set, field string, ref catalog.Reference,
	seen map[string]bool) error {
	to, ok := m.Catalog.Type(ref.One())
	if !ok {
		return nil
	}
	target, h, err := e.prepare(ctx, m, to.Name)
	if err != nil {
		return err
	}
	id := to.ID
	if id == "" && len(to.Key) == 1 {
		id = to.Key[0]
	}
	if id == "" {
		if err := e.whole(ctx, m, to.Name, false); err != nil {
			return err
		}
	}
	for level := 0; !h.whole && id != ""; level++ {
		if level > 64 {
			if err := e.whole(ctx, m, to.Name, false); err != nil {
				return err
			}
			break
		}
		var values []any
		query := "SELECT DISTINCT " + quote(field) + " FROM " + quote(set) + " WHERE " + quote(field) +
			" IS NOT NULL AND NOT EXISTS (SELECT 1 FROM " + quote(target) + " there WHERE there." + quote(id) + " = " + quote(set) +
			"." + quote(field) + ")"
		if err := e.each(ctx, 1, func(row []any) error {
			if v := row[0]; !slices.Contains(ref.None, engine.StoredText(v)) && !h.by[id][valueText(v)] {
				values = append(values, v)
			}
			return nil
		}, query); err != nil {
			return err
		}
		if len(values) == 0 {
			break
		}
		if err := e.by(ctx, m, to.Name, id, values, false); err != nil {
			return err
		}
		if set != target {
			break
		}
	}
	return e.follow(ctx, m, to.Name, false, seen)
}
