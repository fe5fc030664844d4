package read

import (
	"context"

	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/environment/sqldb/query"
	"anagram/internal/environment/sqldb/translate"
)

// What cannot be read of one row stops no other: rows of a batch in which something cannot be
// read are looked at one by one.

// keysApart makes the keys of rows one by one, and tells of those that have none.
func (s *Reader) keysApart(ctx context.Context, m *environment.Model, f *translate.Form, own int, rows [][]any,
	r environment.Reading) (kept [][]any, keys []record.Key, in []bool, err error) {
	for _, row := range rows {
		key, inside, err := s.KeysOf(ctx, m, f, own, [][]any{row})
		switch {
		case translate.CannotRead(err):
			if r.Unkeyed != nil {
				if err := r.Unkeyed(query.Identity(row[:f.Lead]).Text(), translate.Why(err)); err != nil {
					return nil, nil, nil, err
				}
			}
		case err != nil:
			return nil, nil, nil, err
		default:
			kept, keys, in = append(kept, row), append(keys, key[0]), append(in, inside[0])
		}
	}
	return kept, keys, in, nil
}

// learnCells learns what fields of rows refer to. Where that cannot be read of some, it is said of
// each, by row and field.
func (s *Reader) learnCells(ctx context.Context, m *environment.Model, cells []translate.Cell,
	rows [][]any) (map[int]map[string]string, error) {
	var out map[int]map[string]string
	for _, c := range cells {
		err := s.LearnCell(ctx, m, c, rows)
		if err == nil {
			continue
		}
		if !translate.CannotRead(err) {
			return nil, err
		}
		for n, row := range rows {
			err := s.LearnCell(ctx, m, c, [][]any{row})
			if err == nil {
				continue
			}
			if !translate.CannotRead(err) {
				return nil, err
			}
			if out == nil {
				out = map[int]map[string]string{}
			}
			if out[n] == nil {
				out[n] = map[string]string{}
			}
			out[n][c.Name] = "what it refers to has a key that cannot be read: " + translate.Why(err)
		}
	}
	return out, nil
}
