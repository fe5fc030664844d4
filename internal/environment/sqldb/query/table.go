package query

import (
	"context"
	"fmt"
	"slices"

	"anagram/internal/core/catalog"
	"anagram/internal/environment"
)

// StoredKey lists the columns that make up the key, each once.
func StoredKey(t *catalog.Type) []string {
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

// Table is one record type as this environment has it.
type Table struct {
	*catalog.Type
	At        string
	Columns   map[string]catalog.Column
	Described catalog.Place
	Identity  []string // columns that tell a record: the internal id, else those of the key
}

// Table is a record type as this environment has it; it is described the first time.
func (s *Conn) Table(ctx context.Context, m *environment.Model, typ string) (Table, error) {
	t, ok := m.Catalog.Type(typ)
	if !ok {
		return Table{}, fmt.Errorf("the record type %q is not in the catalog", typ)
	}
	places, err := s.Described(ctx)
	if err != nil {
		return Table{}, err
	}
	return TableOf(t, m.Environment, places), nil
}

// TableOf is a record type as an environment has it, by the places of that environment.
func TableOf(t *catalog.Type, environment string, places map[string]catalog.Place) Table {
	at := t.Place(environment)
	tab := Table{Type: t, At: at, Columns: map[string]catalog.Column{}, Described: places[at], Identity: StoredKey(t)}
	for _, column := range places[at].Columns {
		tab.Columns[column.Name] = column
	}
	if t.ID != "" {
		tab.Identity = []string{t.ID}
	}
	return tab
}
