package rows

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"anagram/internal/environment/sqldb/engine"
)

// Looking at data to draft a catalog. Every question is bounded: no more than a given
// number of rows is looked at.

func (s *session) number(ctx context.Context, query string) (int, error) {
	n := 0
	err := s.query(ctx, 1, func(row []any) error {
		_, err := fmt.Sscan(engine.StoredText(row[0]), &n)
		return err
	}, query)
	return n, err
}

// CountUpTo counts the rows of a place, but no more than most of them.
func (s *session) CountUpTo(ctx context.Context, place string, most int) (int, error) {
	return s.number(ctx, fmt.Sprintf("SELECT count(*) FROM (SELECT 1 AS one FROM %s LIMIT %d) x", s.dialect.Place(place), most))
}

// Distinct counts the different combinations that columns have among the first most rows
// of a place, without the rows in which one of them but the nullable ones is null.
func (s *session) Distinct(ctx context.Context, place string, columns, nullable []string, most int) (int, error) {
	var names, given []string
	for _, column := range columns {
		names = append(names, s.dialect.Quote(column))
		if !slices.Contains(nullable, column) {
			given = append(given, s.dialect.Quote(column)+" IS NOT NULL")
		}
	}
	where := ""
	if len(given) > 0 {
		where = " WHERE " + strings.Join(given, " AND ")
	}
	list := strings.Join(names, ", ")
	return s.number(ctx, fmt.Sprintf("SELECT count(*) FROM (SELECT DISTINCT %s FROM (SELECT %s FROM %s LIMIT %d) y%s) z", list, list, s.dialect.Place(place), most, where))
}

// Sample gives the first values of a column that are not null, as text, each once.
func (s *session) Sample(ctx context.Context, place, column string, most int) ([]string, error) {
	var out []string
	quoted := s.dialect.Quote(column)
	err := s.query(ctx, 1, func(row []any) error { out = append(out, engine.StoredText(row[0])); return nil },
		fmt.Sprintf("SELECT DISTINCT %s FROM (SELECT %s FROM %s WHERE %s IS NOT NULL LIMIT %d) x LIMIT 50", quoted, quoted, s.dialect.Place(place), quoted, most))
	return out, err
}

// Dangling counts the values of a column, among the first most rows, that a column of
// another place does not have. Columns of different kinds (a number kept as text on one
// side) are not counted: no index would serve, and reading the records finds them too.
func (s *session) Dangling(ctx context.Context, place, column, to, toColumn string, most int) (int, error) {
	places, err := s.describe(ctx)
	if err != nil {
		return 0, err
	}
	from, _ := places[place].Column(column)
	there, _ := places[to].Column(toColumn)
	if from.Kind != there.Kind {
		return 0, nil
	}
	quoted := s.dialect.Quote(column)
	return s.number(ctx, fmt.Sprintf("SELECT count(*) FROM (SELECT %[1]s AS v FROM %[2]s WHERE %[1]s IS NOT NULL LIMIT %[3]d) x WHERE NOT EXISTS (SELECT 1 FROM %[4]s t WHERE t.%[5]s = x.v)",
		quoted, s.dialect.Place(place), most, s.dialect.Place(to), s.dialect.Quote(toColumn)))
}
