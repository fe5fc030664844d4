package mirror

import (
	"context"
	"errors"
	"slices"
	"strconv"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
	"anagram/internal/environment"
)

func whole(text string) (int64, bool) {
	n, err := strconv.ParseInt(text, 10, 64)
	return n, err == nil && strconv.FormatInt(n, 10) == text
}

// prober looks at the data of a service.
type prober struct{ *mirror }

// mostLooked bounds the rows of a set that are fetched to be looked at.
const mostLooked = 50_000

var errEnough = errors.New("enough rows came")

// some fetches rows of a set, but no more than enough to be looked at.
func (p prober) some(ctx context.Context, place string) error {
	h, err := p.table(ctx, place)
	if err != nil || h.whole || h.by[""] != nil {
		return err
	}
	for _, c := range p.about.Places[place].Columns {
		if !c.Unreadable {
			h.columns = append(h.columns, c.Name)
		}
	}
	if err := p.index(ctx, place, p.about.Places[place].Primary); err != nil {
		return err
	}
	n := 0
	err = p.loading(ctx, func() error {
		err := p.service.Fetch(ctx, Query{Set: place, Columns: h.columns, Most: mostLooked}, func(row Row) error {
			if n++; n > mostLooked {
				return errEnough
			}
			return p.keep(ctx, place, row)
		})
		if errors.Is(err, errEnough) {
			return nil
		}
		return err
	})
	h.whole = err == nil && n < mostLooked
	h.by[""] = map[string]bool{}
	return err
}

// CountUpTo asks the service, and counts where it does not tell.
func (p prober) CountUpTo(ctx context.Context, place string, most int) (int, error) {
	if n, err := p.service.Count(ctx, place); err != nil || n >= 0 {
		return min(n, most), err
	}
	if err := p.some(ctx, place); err != nil {
		return 0, err
	}
	return p.Environment.Can().Prober.CountUpTo(ctx, place, most)
}

// Look looks at the first rows.
func (p prober) Look(ctx context.Context, place string, columns []string, most int, give func([]record.Value) error) error {
	if err := p.some(ctx, place); err != nil {
		return err
	}
	return p.Environment.Can().Prober.Look(ctx, place, columns, most, give)
}

// Dangling compares what can be looked at.
func (p prober) Dangling(ctx context.Context, place, column, to, toColumn string, none []string, most int) (int, error) {
	for _, set := range []string{place, to} {
		if err := p.some(ctx, set); err != nil {
			return 0, err
		}
	}
	return p.Environment.Can().Prober.Dangling(ctx, place, column, to, toColumn, none, most)
}

// holder tells what holds on to records of a service.
type holder struct{ *mirror }

// Held looks into all sets that refer to the record's.
func (h holder) Held(ctx context.Context, m *environment.Model, typ string, keys []record.Key) ([]string, error) {
	if err := h.needKeys(ctx, m, typ, keys, h.working); err != nil {
		return nil, err
	}
	if err := h.referrers(ctx, m, typ, keys); err != nil {
		return nil, err
	}
	return h.Environment.Can().Holder.Held(ctx, m, typ, keys)
}

// referrers fetches all that may refer to some records of a type, anew.
func (e *mirror) referrers(ctx context.Context, m *environment.Model, typ string, keys []record.Key) error {
	t, ok := m.Catalog.Type(typ)
	if !ok {
		return nil
	}
	ids, known, err := e.ids(ctx, e.Environment, m, typ, keys)
	if err != nil {
		return err
	}
	for _, set := range referringTo(e, t.Place(m.Environment)) {
		h, err := e.table(ctx, set)
		if err != nil {
			return err
		}
		if h.columns == nil {
			h.columns = wantedOf(e, m, set)
		}
		if h.columns == nil { // it is none of the catalog's
			h.columns = e.about.Places[set].Primary
			for _, c := range e.about.Places[set].Columns {
				if c.RefersTo != "" {
					h.columns = append(h.columns, c.Name)
				}
			}
		}
		if err := e.refersFrom(ctx, set, h, t.Place(m.Environment), ids, known); err != nil {
			return err
		}
	}
	return nil
}

// refersFrom fetches what refers from one set: by the ids where the service can be asked so.
func (e *mirror) refersFrom(ctx context.Context, set string, h *held, to string, ids []any, known bool) error {
	p := e.about.Places[set]
	var by []string
	for _, c := range p.Columns {
		if c.RefersTo != to {
			continue
		}
		narrows, err := e.service.Narrows(ctx, set, c.Name)
		if err != nil {
			return err
		}
		known = known && narrows
		by = append(by, c.Name)
	}
	if !known || len(by) == 0 || slices.ContainsFunc(p.Foreign, func(k catalog.ForeignKey) bool { return k.To == to }) {
		return e.fetch(ctx, Query{Set: set, Columns: h.columns}, true)
	}
	for _, column := range by {
		if err := e.fetch(ctx, Query{Set: set, Columns: h.columns, By: column, In: ids}, false); err != nil {
			return err
		}
	}
	return nil
}
