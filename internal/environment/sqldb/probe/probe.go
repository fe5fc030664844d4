package probe

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
	"anagram/internal/environment/sqldb/engine"
	"anagram/internal/environment/sqldb/translate"
)

// Looking at data to draft a catalog. Every question is bounded: no more than a given
// number of rows is looked at.

// CountUpTo counts the rows of a place, but no more than most of them.
func (s *Prober) CountUpTo(ctx context.Context, place string, most int) (int, error) {
	return s.Number(ctx, fmt.Sprintf("SELECT count(*) FROM (SELECT 1 AS one FROM %s LIMIT %d) x", s.Dialect.Place(place), most))
}

var errEnough = errors.New("enough was looked at")

// lookBytes is how much of a place is looked at.
const lookBytes = 32 << 20

// Look gives the first rows of a place, see environment.Prober. A value that cannot be brought
// to its column's kind is given as the text that is stored.
func (s *Prober) Look(ctx context.Context, place string, columns []string, most int, give func([]record.Value) error) error {
	places, err := s.Described(ctx)
	if err != nil {
		return err
	}
	p := places[place]
	names, kinds := make([]string, len(columns)), make([]catalog.Column, len(columns))
	for i, name := range columns {
		var known bool
		if kinds[i], known = p.Column(name); !known {
			kinds[i].Name = name
		}
		names[i] = s.Dialect.Select(kinds[i]) // as it is read otherwise, so that it is understood alike
	}
	order := ""
	if len(p.Primary) > 0 {
		by := make([]string, len(p.Primary))
		for i, name := range p.Primary {
			by[i] = s.Dialect.Quote(name)
		}
		order = " ORDER BY " + strings.Join(by, ", ")
	}
	seen := 0
	err = s.Query(ctx, len(columns), func(row []any) error {
		out := make([]record.Value, len(row))
		for i, stored := range row {
			out[i] = s.look(stored, kinds[i])
			seen += len(out[i].Text())
		}
		if err := give(out); err != nil {
			return err
		}
		if seen > lookBytes {
			return errEnough
		}
		return nil
	}, fmt.Sprintf("SELECT %s FROM %s%s LIMIT %d", strings.Join(names, ", "), s.Dialect.Place(place), order, most))
	if errors.Is(err, errEnough) {
		return nil
	}
	return err
}

func (s *Prober) look(stored any, c catalog.Column) record.Value {
	if stored == nil {
		return record.NullValue()
	}
	kind := c.Kind
	if kind == record.Null {
		kind = record.Text
	}
	if v, err := s.Dialect.Decode(stored, kind, c); err == nil {
		return v
	}
	text, err := record.TextValue(engine.StoredText(stored))
	if err != nil {
		return record.NullValue()
	}
	return text
}

// Dangling counts the values of a column, among the first most rows, that a column of
// another place does not have. Columns of different kinds (a number kept as text on one
// side) are not counted: no index would serve, and reading the records finds them too.
func (s *Prober) Dangling(ctx context.Context, place, column, to, toColumn string, none []string, most int) (int, error) {
	places, err := s.Described(ctx)
	if err != nil {
		return 0, err
	}
	from, _ := places[place].Column(column)
	there, _ := places[to].Column(toColumn)
	if from.Kind != there.Kind {
		return 0, nil
	}
	quoted := s.Dialect.Quote(column)
	limit := ""
	if most < 1<<40 { // an engine that is told a limit takes other ways, which are slower for all of them
		limit = fmt.Sprintf(" LIMIT %d", most)
	}
	nowhere := fmt.Sprintf("FROM (SELECT %[1]s AS v FROM %[2]s WHERE %[1]s IS NOT NULL%[3]s) x WHERE NOT EXISTS (SELECT 1 FROM %[4]s t WHERE t.%[5]s = x.v)",
		quoted, s.Dialect.Place(place), limit, s.Dialect.Place(to), s.Dialect.Quote(toColumn))
	if len(none) == 0 {
		return s.Number(ctx, "SELECT count(*) "+nowhere)
	}
	n := 0
	err = s.Query(ctx, 2, func(row []any) error {
		count := 0
		_, err := fmt.Sscan(engine.StoredText(row[1]), &count)
		if !translate.IsNone(none, row[0]) {
			n += count
		}
		return err
	}, "SELECT v, count(*) "+nowhere+" GROUP BY v")
	return n, err
}
