package odata

import (
	"context"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"anagram/internal/core/condition"
	"anagram/internal/core/record"
)

// inOne is how many values one filter asks for: addresses may not become too long.
const (
	inOne       = 40
	mostAddress = 6000
)

// address makes the URL for entities of a set.
func (s *service) address(p *place, columns []string, filter string, more ...string) string {
	var options []string
	var selected, expanded []string
	for _, c := range p.columns {
		if !slices.Contains(columns, c.name) && !slices.ContainsFunc(p.key, func(k column) bool { return k.name == c.name }) {
			continue
		}
		switch {
		case c.nav != "":
			expanded = append(expanded, c.nav+"($select="+s.places[c.target].key[0].name+")")
		case !c.stream:
			selected = append(selected, c.name)
		}
	}
	if !s.able.noSelect && len(selected) > 0 {
		options = append(options, "$select="+url.QueryEscape(strings.Join(selected, ",")))
	}
	if len(expanded) > 0 {
		options = append(options, "$expand="+strings.Join(expanded, ","))
	}
	if filter != "" {
		options = append(options, "$filter="+strings.ReplaceAll(url.QueryEscape(filter), "+", "%20"))
	}
	options = append(options, more...)
	out := url.PathEscape(p.set.name)
	if len(options) > 0 {
		out += "?" + strings.Join(options, "&")
	}
	return out
}

// filters makes filters for the rows with one of some values in a column.
func (s *service) filters(c column, values []any) []string {
	var out []string
	var parts []string
	size := 0
	flush := func() {
		if len(parts) > 0 {
			out = append(out, strings.Join(parts, " or "))
		}
		parts, size = nil, 0
	}
	for _, v := range values {
		text, ok := s.literal(c, v)
		if !ok {
			continue // the service cannot hold it in this column
		}
		one := c.name + " eq " + text
		if size += 3 * len(url.QueryEscape(one)) / 2; size > mostAddress || len(parts) >= s.able.inOne {
			flush()
		}
		parts = append(parts, one)
	}
	flush()
	return out
}

// narrowed writes conditions as a filter, as far as the service can decide them as they are.
func (s *service) narrowed(ctx context.Context, p *place, terms []*condition.Term) (string, error) {
	var parts []string
	for _, t := range terms {
		text, ok, err := s.term(ctx, p, t)
		if err != nil {
			return "", err
		}
		if ok {
			parts = append(parts, text)
		}
	}
	if out := strings.Join(parts, " and "); len(url.QueryEscape(out)) < mostAddress {
		return out, nil
	}
	return "", nil
}

var operators = map[string]string{"<": " lt ", "<=": " le ", ">": " gt ", ">=": " ge "}

// term writes one; what cannot be decided is left out of an And, and makes an Or undecidable.
func (s *service) term(ctx context.Context, p *place, t *condition.Term) (string, bool, error) {
	if t.And != nil || t.Or != nil {
		return s.joined(ctx, p, t)
	}
	c, there := p.column(t.Field.Name)
	if !there || c.nav != "" || c.stream || c.kind != t.Field.Kind {
		return "", false, nil
	}
	if works, err := s.Narrows(ctx, p.name, c.name); err != nil || !works {
		return "", false, err
	}
	text, ok := s.comparison(c, t)
	return text, ok, nil
}

// joined writes an And or an Or.
func (s *service) joined(ctx context.Context, p *place, t *condition.Term) (string, bool, error) {
	terms, word := t.And, " and "
	if t.Or != nil {
		terms, word = t.Or, " or "
	}
	var parts []string
	for i := range terms {
		text, ok, err := s.term(ctx, p, &terms[i])
		if err != nil || !ok && t.Or != nil {
			return "", false, err
		}
		if ok {
			parts = append(parts, text)
		}
	}
	return "(" + strings.Join(parts, word) + ")", len(parts) > 0, nil
}

// comparison writes a comparison of a property with values.
func (s *service) comparison(c column, t *condition.Term) (string, bool) {
	switch t.Op {
	case "null":
		return c.name + " eq null", true
	case "not null":
		return c.name + " ne null", true
	case "=":
		var parts []string
		for _, v := range t.Values {
			text, ok := s.literal(c, heldValue(v))
			if !ok {
				return "", false
			}
			parts = append(parts, c.name+" eq "+text)
		}
		return "(" + strings.Join(parts, " or ") + ")", len(parts) > 0 && len(parts) <= inOne
	}
	op, ok := operators[t.Op]
	if !ok || len(t.Values) != 1 || c.kind == record.Text || c.kind == record.Boolean {
		return "", false // texts are ordered in other ways elsewhere
	}
	text, ok := s.literal(c, heldValue(t.Values[0]))
	return c.name + op + text, ok
}

// heldValue gives a value in the form in which it is held.
func heldValue(v record.Value) any {
	switch v.Kind() {
	case record.Boolean:
		return map[string]int64{"true": 1, "false": 0}[v.Text()]
	case record.Integer:
		if n, err := strconv.ParseInt(v.Text(), 10, 64); err == nil {
			return n
		}
	}
	return v.Text()
}
