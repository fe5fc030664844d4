package query

import (
	"context"
	"slices"
	"strings"

	"anagram/internal/core/record"
	"anagram/internal/environment/sqldb/engine"
)

// Batch is how many records are read, translated and looked up at a time.
const Batch = 500

// WhereIn runs a query for the rows whose columns have one of the given tuples of
// stored values; nulls are equal to nulls here. The suffix follows the condition.
func (s *Conn) WhereIn(ctx context.Context, width int, query string, columns []string, tuples []Identity, suffix string,
	row func([]any) error) error {
	byNulls := map[string][]Identity{}
	for _, tuple := range tuples {
		nulls := make([]byte, len(tuple))
		for i, stored := range tuple {
			nulls[i] = '.'
			if stored == nil {
				nulls[i] = '0'
			}
		}
		byNulls[string(nulls)] = append(byNulls[string(nulls)], tuple)
	}
	for nulls, group := range byNulls {
		var where, listed []string
		for i, column := range columns {
			if nulls[i] == '0' {
				where = append(where, s.Dialect.Quote(column)+" IS NULL")
			} else {
				listed = append(listed, s.Dialect.Quote(column))
			}
		}
		if len(listed) == 0 {
			group = group[:1] // all of them ask for the same
		}
		for part := range slices.Chunk(group, Batch) {
			conditions := slices.Clone(where)
			var args []any
			if len(listed) > 1 && s.Can.SlowTuples {
				first := strings.IndexByte(nulls, '.')
				seen := map[string]bool{}
				for _, tuple := range part {
					if v := tuple[first]; !seen[engine.StoredText(v)] {
						seen[engine.StoredText(v)] = true
						args = append(args, v)
					}
				}
				conditions = append(conditions, s.Dialect.In(listed[:1], len(args)))
			}
			if len(listed) > 0 {
				conditions = append(conditions, s.Dialect.In(listed, len(part)))
			}
			for _, tuple := range part {
				for _, stored := range tuple {
					if stored != nil {
						args = append(args, stored)
					}
				}
			}
			if err := s.Query(ctx, width, row, query+" WHERE "+strings.Join(conditions, " AND ")+suffix, args...); err != nil {
				return err
			}
		}
	}
	return nil
}

// WhereIdentity is the condition that a row is the one with an identity; prefix stands before
// its columns.
func (s *Conn) WhereIdentity(prefix string, t Table, id Identity) (string, []any) {
	var where []string
	var args []any
	for i, column := range t.Identity {
		name := prefix + s.Dialect.Quote(column)
		if id[i] == nil {
			where = append(where, name+" IS NULL")
			continue
		}
		where, args = append(where, name+" = "+engine.Mark), append(args, id[i])
	}
	return strings.Join(where, " AND "), args
}

// Where reads columns of the rows of a table of which some columns have one of the given tuples
// of stored values.
func (s *Conn) Where(ctx context.Context, t Table, names, by []string, tuples []Identity, row func([]any) error) error {
	return s.WhereIn(ctx, len(names), s.SelectFrom(t, names), by, tuples, "", row)
}

// All reads columns of all rows of a table.
func (s *Conn) All(ctx context.Context, t Table, names []string, row func([]any) error) error {
	return s.Stream(ctx, Binary(t, names), row, s.SelectFrom(t, names))
}

// Binary tells which columns hold bytes.
func Binary(t Table, names []string) []bool {
	out := make([]bool, len(names))
	for i, name := range names {
		out[i] = t.Columns[name].Kind == record.Bytes
	}
	return out
}
