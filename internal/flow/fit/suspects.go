package fit

import (
	"context"
	"slices"

	"anagram/internal/core/catalog"
	"anagram/internal/core/evidence"
	"anagram/internal/core/record"
	"anagram/internal/flow/session"
)

// lookTexts is the same for texts and documents, which are read only as far as they tell.
const lookTexts = 300

// lookRows is how many rows of a type are looked at for what behaves like an internal id.
const lookRows = 5_000

// Suspects looks in an environment for fields that the catalog takes for plain values and that
// behave like internal ids, of those types that of picks. Types whose description does not hold
// are passed over.
func Suspects(ctx context.Context, env session.Described, c *catalog.Catalog, name string,
	of func(typ string) bool) ([]evidence.Suspect, error) {
	prober := env.Environment.Can().Prober
	if prober == nil {
		return nil, nil
	}
	var all []evidence.Seen
	any := false
	for _, t := range c.Types {
		if len(env.Problems(c, []string{t.Name})) > 0 {
			continue
		}
		s := evidence.Seen{Type: t, Place: env.About.Places[t.Place(name)]}
		if of(t.Name) {
			s.Columns = evidence.Suspicious(t, s.Place)
			s.Texts = evidence.SuspiciousTexts(t, s.Place)
			any = any || len(s.Columns)+len(s.Texts) > 0
		}
		all = append(all, s)
	}
	if !any {
		return nil, nil
	}
	look := func(s evidence.Seen, columns []string, most int) (*evidence.Table, error) {
		if len(columns) == 0 {
			return nil, nil
		}
		table := evidence.New(columns)
		err := prober.Look(ctx, s.Place.Name, columns, most, func(row []record.Value) error {
			table.Add(row)
			return ctx.Err()
		})
		if table.Read == 0 {
			table = nil
		}
		return table, err
	}
	var err error
	for i, s := range all {
		columns := slices.Clone(s.Columns)
		if id := s.Type.ID; id != "" && !slices.Contains(columns, id) {
			columns = append(columns, id)
		}
		if all[i].Table, err = look(s, columns, lookRows); err != nil {
			return nil, err
		}
		if all[i].TextsSeen, err = look(s, s.Texts, lookTexts); err != nil {
			return nil, err
		}
	}
	return evidence.Suspects(all), nil
}
