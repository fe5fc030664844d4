package probe

import (
	"context"
	"database/sql"
	"fmt"
	"slices"
	"strings"
	"time"

	"anagram/internal/core/catalog"
	"anagram/internal/core/pattern"
	"anagram/internal/core/record"
	"anagram/internal/environment/sqldb/engine"
)

// plainType is a declared type that can stand in a cast. In some engines it is whatever text
// somebody wrote there.
var plainType = pattern.Of(`^[\pL_"][\pL\pN_ ."]*(\([0-9 ,+-]*\))?[\pL ]*(\[\])*$`)

// castTrial is Trial for engines that know the declared types in a cast.
func castTrial(d engine.Dialect, columns []catalog.Column, rows int) string {
	out := make([]string, rows)
	for n := range rows {
		out[n] = fmt.Sprintf("SELECT %d AS anagram_row", n)
		for _, c := range columns {
			value := engine.Mark
			if plainType.MatchString(c.Declared) {
				value = "CAST(" + engine.Mark + " AS " + c.Declared + ")"
			}
			out[n] += ", " + value + " AS " + d.Quote(c.Name)
		}
	}
	return strings.Join(out, " UNION ALL ")
}

// Judge tries values against a rule, many at a time, and where the engine cannot do that
// with one of them, one by one.
func (s *Prober) Judge(ctx context.Context, place string, rule catalog.Rule, rows [][]record.Value) ([]bool, error) {
	places, err := s.Described(ctx)
	if err != nil {
		return nil, err
	}
	p := places[place]
	columns := make([]catalog.Column, len(rule.Columns))
	for i, name := range rule.Columns {
		columns[i], _ = p.Column(name)
	}
	refused := make([]bool, len(rows))
	if s.Can.Aside != nil && !engine.Triable(rule.Text) { // as somebody wrote it, not as the server says it
		return refused, nil
	}
	q := s.Q
	if s.Can.Aside != nil {
		if s.aside == nil {
			if s.aside, err = s.Can.Aside(ctx); err != nil {
				return nil, s.Explain(err)
			}
		}
		q = s.aside
	}
	var at []int
	var args [][]any
	for i, row := range rows {
		stored := make([]any, len(columns))
		var err error
		for n, c := range columns {
			if err == nil {
				stored[n], err = s.Dialect.Encode(row[n], c)
			}
		}
		if err == nil {
			at, args = append(at, i), append(args, stored)
		}
	}
	const most = 100
	for len(at) > 0 {
		n := min(most, len(at))
		if err := s.try(ctx, q, place, rule, columns, at[:n], args[:n], refused); err != nil {
			return nil, err
		}
		at, args = at[n:], args[n:]
	}
	return refused, nil
}

// trialTime bounds how long a rule is tried.
const trialTime = 10 * time.Second

func (s *Prober) try(ctx context.Context, q engine.Queryer, place string, rule catalog.Rule, columns []catalog.Column, at []int,
	args [][]any, refused []bool) error {
	trial := castTrial(s.Dialect, columns, len(at))
	if s.Can.Trial != nil {
		trial = s.Can.Trial(place, columns, len(at))
	}
	_, bare, qualified := strings.Cut(place, ".")
	if !qualified {
		bare = place
	}
	query := fmt.Sprintf("SELECT anagram_row FROM (%s) AS %s WHERE NOT (%s)", trial, s.Dialect.Quote(bare), rule.Text)
	if err := s.Guard(ctx, "SAVEPOINT anagram_rule"); err != nil {
		return err
	}
	brief, stop := context.WithTimeout(ctx, trialTime)
	defer stop()
	err := engine.EachRow(brief, q, func(rows *sql.Rows) error {
		var n int
		err := rows.Scan(&n)
		if err == nil && n >= 0 && n < len(at) {
			refused[at[n]] = true
		}
		return err
	}, engine.Marked(s.Dialect, query), slices.Concat(args...)...)
	if err == nil {
		return s.Guard(ctx, "RELEASE SAVEPOINT anagram_rule")
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if !s.Dialect.Refused(err) && brief.Err() == nil {
		return s.Explain(err)
	}
	if brief.Err() != nil && s.Can.Aside != nil {
		return nil // it takes too long to try
	}
	if err := s.Guard(ctx, "ROLLBACK TO SAVEPOINT anagram_rule"); err != nil {
		return err
	}
	if len(at) == 1 {
		// A cast to a domain refuses by itself what its rule does.
		if s.Can.Breaks != nil {
			refused[at[0]] = s.Can.Breaks(err)
		}
		return nil // the engine cannot try it; other checks say what does not fit
	}
	for i := range at {
		if err := s.try(ctx, q, place, rule, columns, at[i:i+1], args[i:i+1], refused); err != nil {
			return err
		}
	}
	return nil
}
