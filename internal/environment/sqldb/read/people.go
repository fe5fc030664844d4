package read

import (
	"context"
	"strings"

	"anagram/internal/environment"
	"anagram/internal/environment/sqldb/engine"
	"anagram/internal/environment/sqldb/query"
	"anagram/internal/environment/sqldb/translate"
)

// people gives the names of those whose ids stand in the stamps of some rows. Each is asked
// for once; one that is not there keeps its id.
func (s *Reader) people(ctx context.Context, f *translate.Form, rows [][]any) (map[string]string, error) {
	p := f.StampPerson
	if f.ByColumn < 0 || p.At == "" {
		return nil, nil
	}
	if s.names == nil {
		s.names = map[string]map[string]string{}
	}
	of := p.At + "\x00" + p.ID + "\x00" + p.Name
	known := s.names[of]
	if known == nil || len(known) > mostPeople {
		known = map[string]string{}
		s.names[of] = known
	}
	var ask []query.Identity
	for _, row := range rows {
		stored := row[f.ByColumn]
		if stored == nil {
			continue
		}
		id := engine.StoredText(stored)
		if _, asked := known[id]; !asked {
			known[id] = ""
			ask = append(ask, query.Identity{stored})
		}
	}
	if len(ask) == 0 {
		return known, nil
	}
	query := "SELECT " + s.Dialect.Quote(p.ID) + ", " + s.Dialect.Quote(p.Name) + " FROM " + s.Dialect.Place(p.At)
	err := s.WhereIn(ctx, 2, query, []string{p.ID}, ask, "", func(row []any) error {
		if row[1] != nil {
			known[engine.StoredText(row[0])] = engine.StoredText(row[1])
		}
		return nil
	})
	return known, err
}

// mostPeople is how many names are kept at a time.
const mostPeople = 20_000

// Person gives the id of the person with just this name; "" where nobody has it, or several do.
func (s *Reader) Person(ctx context.Context, m *environment.Model, typ, name string) (string, error) {
	t, ok := m.Catalog.Type(typ)
	if p := t.StampPerson; ok && p.At != "" && name != "" {
		var ids []string
		from := "SELECT " + s.Dialect.Quote(p.ID) + ", " + s.Dialect.Quote(p.Name) + " FROM " + s.Dialect.Place(p.At)
		err := s.WhereIn(ctx, 2, from, []string{p.Name}, []query.Identity{{name}}, "", func(row []any) error {
			if row[0] != nil && strings.TrimRight(engine.StoredText(row[1]), " ") == name { // a collation may take others for the same
				ids = append(ids, engine.StoredText(row[0]))
			}
			return nil
		})
		if err != nil || len(ids) != 1 {
			return "", err
		}
		return ids[0], nil
	}
	return "", nil
}
