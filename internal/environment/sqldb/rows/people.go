package rows

import (
	"context"

	"anagram/internal/environment/sqldb/engine"
)

// people gives the names of those whose ids stand in the stamps of some rows. Each is asked
// for once; one that is not there keeps its id.
func (s *session) people(ctx context.Context, f *form, rows [][]any) (map[string]string, error) {
	p := f.StampPerson
	if f.stampBy < 0 || p.At == "" {
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
	var ask []identity
	for _, row := range rows {
		stored := row[f.stampBy]
		if stored == nil {
			continue
		}
		id := engine.StoredText(stored)
		if _, asked := known[id]; !asked {
			known[id] = ""
			ask = append(ask, identity{stored})
		}
	}
	if len(ask) == 0 {
		return known, nil
	}
	query := "SELECT " + s.dialect.Quote(p.ID) + ", " + s.dialect.Quote(p.Name) + " FROM " + s.dialect.Place(p.At)
	err := s.whereIn(ctx, 2, query, []string{p.ID}, ask, "", func(row []any) error {
		if row[1] != nil {
			known[engine.StoredText(row[0])] = engine.StoredText(row[1])
		}
		return nil
	})
	return known, err
}

// mostPeople is how many names are kept at a time.
const mostPeople = 20_000
