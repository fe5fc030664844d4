package sqldb

import (
	"context"
	"database/sql"
	"regexp"
	"slices"
	"strings"

	"anagram/internal/core/catalog"
)

// What engines tell about places beyond their columns: foreign keys of several columns,
// and what triggers fill.

// foreignColumn is what a foreign key of one column points at.
type foreignColumn struct {
	place, column string
	follows       bool
}

// addForeign adds the foreign keys of several columns. The query gives place, constraint,
// place there, column and column there, in order.
func addForeign(ctx context.Context, q Queryer, places map[string]catalog.Place, query string, args ...any) error {
	last := ""
	var open catalog.ForeignKey
	var from string
	flush := func() {
		if p, ok := places[from]; ok && len(open.Pairs) > 1 {
			p.Foreign = append(p.Foreign, open)
			places[from] = p
		}
		open = catalog.ForeignKey{}
	}
	err := eachRow(ctx, q, func(rows *sql.Rows) error {
		var place, constraint, to, here, there string
		if err := rows.Scan(&place, &constraint, &to, &here, &there); err != nil {
			return err
		}
		if place+"\x00"+constraint != last {
			flush()
			last, from = place+"\x00"+constraint, place
		}
		open.To = to
		open.Pairs = append(open.Pairs, catalog.Pair{Here: here, There: there})
		return nil
	}, query, args...)
	flush()
	return err
}

var (
	newColumn = regexp.MustCompile("(?i)\\bNEW\\s*\\.\\s*[\"`]?(\\w+)[\"`]?\\s*:?=[^=]")
	setColumn = regexp.MustCompile("(?i)(?:\\bSET\\b|,)\\s*[\"`]?(\\w+)[\"`]?\\s*=[^=]")
)

// addTriggers notes the columns that triggers set. The query gives place and text of
// each trigger. It is read for hints only, so what cannot be read is passed over.
func addTriggers(ctx context.Context, q Queryer, places map[string]catalog.Place, query string, assigns *regexp.Regexp) error {
	return eachRow(ctx, q, func(rows *sql.Rows) error {
		var place string
		var text sql.NullString
		if err := rows.Scan(&place, &text); err != nil {
			return err
		}
		p, ok := places[place]
		if !ok {
			return nil
		}
		p.HasTriggers = true
		for _, found := range assigns.FindAllStringSubmatch(text.String, -1) {
			at := slices.IndexFunc(p.Columns, func(c catalog.Column) bool { return strings.EqualFold(c.Name, found[1]) })
			if at >= 0 && !slices.Contains(p.Triggered, p.Columns[at].Name) {
				p.Triggered = append(p.Triggered, p.Columns[at].Name)
			}
		}
		places[place] = p
		return nil
	}, query)
}
