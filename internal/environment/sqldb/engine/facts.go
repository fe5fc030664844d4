package engine

import (
	"context"
	"database/sql"
	"fmt"
	"slices"
	"strings"

	"anagram/internal/core/catalog"
	"anagram/internal/core/pattern"
)

// What engines tell about places beyond their columns: foreign keys of several columns,
// and what triggers fill.

// ForeignColumn is what a foreign key of one column points at.
type ForeignColumn struct {
	Place, Column string
	Follows       bool
}

// AddForeign adds the foreign keys of several columns. The query gives place, constraint,
// place there, column and column there, in order.
func AddForeign(ctx context.Context, q Queryer, places map[string]catalog.Place, query string, args ...any) error {
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
	err := EachRow(ctx, q, func(rows *sql.Rows) error {
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
	// NewColumn finds the columns that a trigger sets in the new row.
	NewColumn = pattern.Of("(?i)\\bNEW\\s*\\.\\s*[\"`]?(\\w+)[\"`]?\\s*:?=[^=]")
	// SetColumn finds those that its UPDATE sets.
	SetColumn = pattern.Of("(?i)(?:\\bSET\\b|,)\\s*[\"`]?(\\w+)[\"`]?\\s*=[^=]")
)

// AddTriggers notes the columns that triggers set. The query gives place and text of
// each trigger. It is read for hints only, so what cannot be read is passed over.
func AddTriggers(ctx context.Context, q Queryer, places map[string]catalog.Place, query string, assigns *pattern.Pattern) error {
	return EachRow(ctx, q, func(rows *sql.Rows) error {
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

// MarkPlaces changes those places that a query names.
func MarkPlaces(ctx context.Context, q Queryer, places map[string]catalog.Place, change func(*catalog.Place), query string) error {
	return EachRow(ctx, q, func(rows *sql.Rows) error {
		var name string
		if err := rows.Scan(&name); err != nil {
			return err
		}
		if p, ok := places[name]; ok {
			change(&p)
			places[name] = p
		}
		return nil
	}, query)
}

// HasAnyTrigger notes that a place has a trigger of whatever kind.
func HasAnyTrigger(p *catalog.Place) { p.AnyTrigger = true }

// RightsText says what an account may do with the tables.
func RightsText(tables, readable, writable int) string {
	part := func(n int) string {
		switch n {
		case tables:
			return "all tables"
		case 0:
			return "no table"
		default:
			return fmt.Sprintf("%d of %d tables", n, tables)
		}
	}
	if readable == writable {
		return "read and write " + part(readable)
	}
	return "read " + part(readable) + ", write " + part(writable)
}

// AddKeys adds primary keys and unique indexes to places. The query gives place, index,
// whether it is the primary key, and a column (null for an expression), in order.
func AddKeys(ctx context.Context, q Queryer, places map[string]catalog.Place, query string) error {
	found := map[string]*Uniques{}
	err := EachRow(ctx, q, func(rows *sql.Rows) error {
		var place, index string
		var primary bool
		var column sql.NullString
		if err := rows.Scan(&place, &index, &primary, &column); err != nil {
			return err
		}
		p, ok := places[place]
		switch {
		case !ok:
		case primary:
			p.Primary = append(p.Primary, column.String)
			places[place] = p
		default:
			if found[place] == nil {
				found[place] = &Uniques{}
			}
			found[place].Add(index, column)
		}
		return nil
	}, query)
	for place, u := range found {
		p := places[place]
		p.Unique = u.Lists()
		places[place] = p
	}
	return err
}

// Uniques collects the columns of unique indexes in the order in which they are given.
type Uniques struct {
	order   []string
	columns map[string][]string
	odd     map[string]bool // on an expression
}

// Add takes the next column of an index, null for an expression.
func (u *Uniques) Add(index string, column sql.NullString) {
	if u.columns == nil {
		u.columns, u.odd = map[string][]string{}, map[string]bool{}
	}
	if _, ok := u.columns[index]; !ok {
		u.order = append(u.order, index)
	}
	u.columns[index] = append(u.columns[index], column.String)
	u.odd[index] = u.odd[index] || !column.Valid
}

// Lists gives the columns of the indexes that are on columns alone.
func (u *Uniques) Lists() [][]string {
	var out [][]string
	for _, index := range u.order {
		if !u.odd[index] {
			out = append(out, u.columns[index])
		}
	}
	return out
}

var (
	predicateNull = pattern.Of("(?i)^[\"`\\[]?(\\w+)[\"`\\]]?\\s+IS\\s+(NOT\\s+)?NULL$")
	predicateNot  = pattern.Of("(?i)^(?:NOT\\s+)[\"`\\[]?(\\w+)[\"`\\]]?$")
	predicateOne  = pattern.Of("^[\"`\\[]?(\\w+)[\"`\\]]?$")
	predicateIs   = pattern.Of("(?i)^\\(?[\"`\\[]?(\\w+)[\"`\\]]?\\)?(?:::[a-z ]+)?\\s*(?:=|IS)\\s*(?:'([^']*)'(?:::[a-z \"]+)?|(\\w+))$")
)

// PartlyUnique reads of which rows an index says that columns are unique: those in which one
// field is null or has one value. Other conditions are not understood.
func PartlyUnique(predicate string, columns []string) (catalog.PartlyUnique, bool) {
	text := strings.TrimSpace(predicate)
	for wrapped(text) {
		text = strings.TrimSpace(text[1 : len(text)-1])
	}
	out := catalog.PartlyUnique{Columns: columns}
	if m := predicateNull.FindStringSubmatch(text); m != nil {
		out.Field, out.When = m[1], "null"
		if m[2] != "" {
			out.When = "not null"
		}
		return out, true
	}
	if m := predicateNot.FindStringSubmatch(text); m != nil {
		out.Field, out.Value = m[1], "false"
		return out, true
	}
	if m := predicateOne.FindStringSubmatch(text); m != nil {
		out.Field, out.Value = m[1], "true"
		return out, true
	}
	if m := predicateIs.FindStringSubmatch(text); m != nil {
		out.Field, out.Value = m[1], m[2]+strings.ToLower(m[3])
		return out, out.Value != "null"
	}
	return out, false
}

// wrapped reports whether a text stands in one pair of brackets.
func wrapped(text string) bool {
	depth := 0
	for i, r := range text {
		switch r {
		case '(':
			depth++
		case ')':
			depth--
		}
		if depth == 0 && i < len(text)-1 {
			return false
		}
	}
	return strings.HasPrefix(text, "(") && depth == 0 && len(text) > 1
}

// AddPartly adds what is unique among a part of the rows. The query gives place, index,
// predicate and column (null for an expression), in order.
func AddPartly(ctx context.Context, q Queryer, places map[string]catalog.Place, query string, args ...any) error {
	var order []string
	found := map[string]*catalog.PartlyUnique{}
	where := map[string][2]string{}
	odd := map[string]bool{}
	err := EachRow(ctx, q, func(rows *sql.Rows) error {
		var place, index, predicate string
		var column sql.NullString
		if err := rows.Scan(&place, &index, &predicate, &column); err != nil {
			return err
		}
		id := place + "\x00" + index
		if found[id] == nil {
			order = append(order, id)
			found[id], where[id] = &catalog.PartlyUnique{}, [2]string{place, predicate}
		}
		found[id].Columns = append(found[id].Columns, column.String)
		odd[id] = odd[id] || !column.Valid
		return nil
	}, query, args...)
	for _, id := range order {
		p, ok := places[where[id][0]]
		one, understood := PartlyUnique(where[id][1], found[id].Columns)
		if _, there := p.Column(one.Field); ok && understood && there && !odd[id] {
			p.Partly = append(p.Partly, one)
			places[p.Name] = p
		}
	}
	return err
}

// Referring is a foreign key seen from the table that it points at.
type Referring struct {
	From   string // the table that refers, as a statement names it
	Name   string // the same for people
	Itself bool   // it is the table itself
	Pairs  []catalog.Pair
}

// ReferringBy lists what points at a place. The query gives constraint, table, whether it is
// the place itself, column and column there, in order; from makes the table's name, its
// schema and \x01 before it where it is in another, one for statements.
func ReferringBy(ctx context.Context, q Queryer, from func(name string) string, query string, args ...any) ([]Referring, error) {
	var out []Referring
	last := ""
	err := EachRow(ctx, q, func(rows *sql.Rows) error {
		var constraint string
		var one Referring
		var pair catalog.Pair
		if err := rows.Scan(&constraint, &one.Name, &one.Itself, &pair.Here, &pair.There); err != nil {
			return err
		}
		if of := one.Name + "\x00" + constraint; of != last || len(out) == 0 {
			last = of
			one.From = from(one.Name)
			one.Name = strings.TrimPrefix(strings.ReplaceAll(one.Name, "\x01", "."), ".")
			out = append(out, one)
		}
		out[len(out)-1].Pairs = append(out[len(out)-1].Pairs, pair)
		return nil
	}, query, args...)
	return out, err
}
