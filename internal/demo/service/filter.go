package service

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
)

// A filter of OData made a condition of SQL.

type filtering struct {
	set  *set
	text string
	args []any
}

var errFilter = errors.New("the filter is not understood")

// condition gives the condition of SQL, with its values.
func (s *set) condition(text string) (string, []any, error) {
	f := &filtering{set: s, text: text}
	out, err := f.or()
	if err == nil && strings.TrimSpace(f.text) != "" {
		err = errFilter
	}
	return out, f.args, err
}

func (f *filtering) take(word string) bool {
	f.text = strings.TrimLeft(f.text, " ")
	if !strings.HasPrefix(f.text, word) {
		return false
	}
	f.text = f.text[len(word):]
	return true
}

func (f *filtering) or() (string, error)  { return f.chain("or ", " OR ", f.and) }
func (f *filtering) and() (string, error) { return f.chain("and ", " AND ", f.one) }

func (f *filtering) chain(word, sign string, inner func() (string, error)) (string, error) {
	var parts []string
	for {
		one, err := inner()
		if err != nil {
			return "", err
		}
		parts = append(parts, one)
		if !f.take(word) {
			return "(" + strings.Join(parts, sign) + ")", nil
		}
	}
}

func (f *filtering) one() (string, error) {
	switch {
	case f.take("not "):
		inner, err := f.one()
		return "NOT " + inner, err
	case f.take("("):
		inner, err := f.or()
		if err == nil && !f.take(")") {
			err = errFilter
		}
		return inner, err
	}
	for _, function := range []string{"contains", "startswith", "endswith"} {
		if f.take(function + "(") {
			return f.function(function)
		}
	}
	name := f.word()
	of, ok := f.set.field(name)
	if !ok || of.edm == "Edm.Stream" {
		return "", fmt.Errorf("%w: there is no property %s", errFilter, name)
	}
	column := f.set.at(name)
	if f.take("in (") || f.take("in(") {
		var marks []string
		for {
			v, err := f.literal(of)
			if err != nil {
				return "", err
			}
			marks, f.args = append(marks, "?"), append(f.args, v)
			if f.take(")") {
				return column + " IN (" + strings.Join(marks, ", ") + ")", nil
			}
			if !f.take(",") {
				return "", errFilter
			}
		}
	}
	op, ok := map[string]string{"eq": "=", "ne": "<>", "gt": ">", "ge": ">=", "lt": "<", "le": "<="}[f.word()]
	if !ok {
		return "", errFilter
	}
	if f.take("null") {
		return column + map[string]string{"=": " IS NULL", "<>": " IS NOT NULL"}[op], nil
	}
	v, err := f.literal(of)
	if err != nil {
		return "", err
	}
	f.args = append(f.args, v)
	if op == "<>" {
		return "(" + column + " <> ? OR " + column + " IS NULL)", nil
	}
	return column + " " + op + " ?", nil
}

func (f *filtering) function(name string) (string, error) {
	of, ok := f.set.field(f.word())
	if !ok || !f.take(",") {
		return "", errFilter
	}
	v, err := f.literal(of)
	if err != nil || !f.take(")") {
		return "", errFilter
	}
	f.args = append(f.args, v)
	column := f.set.at(of.name)
	switch name {
	case "contains":
		return "instr(" + column + ", ?) > 0", nil
	case "startswith":
		f.args = append(f.args, v)
		return "substr(" + column + ", 1, length(?)) = ?", nil
	}
	f.args = append(f.args, v)
	return "substr(" + column + ", -length(?)) = ?", nil
}

func (f *filtering) word() string {
	f.text = strings.TrimLeft(f.text, " ")
	n := strings.IndexFunc(f.text, func(r rune) bool { return r == ' ' || r == ',' || r == '(' || r == ')' })
	if n < 0 {
		n = len(f.text)
	}
	out := f.text[:n]
	f.text = f.text[n:]
	return out
}

func (f *filtering) literal(of field) (any, error) {
	f.text = strings.TrimLeft(f.text, " ")
	if !strings.HasPrefix(f.text, "'") {
		return ofLiteral(f.word(), of)
	}
	var out strings.Builder
	for i := 1; i < len(f.text); i++ {
		if f.text[i] != '\'' {
			out.WriteByte(f.text[i])
			continue
		}
		if i+1 < len(f.text) && f.text[i+1] == '\'' {
			out.WriteByte('\'')
			i++
			continue
		}
		f.text = f.text[i+1:]
		return out.String(), nil
	}
	return nil, errFilter
}

func ofLiteral(text string, of field) (any, error) {
	switch of.edm {
	case "Edm.Int64":
		n, err := strconv.ParseInt(text, 10, 64)
		if err != nil {
			return nil, errFilter
		}
		return n, nil
	case "Edm.Boolean":
		return text == "true", nil
	case "Edm.Decimal":
		n, err := strconv.ParseFloat(text, 64)
		if err != nil {
			return nil, errFilter
		}
		return n, nil
	case "Edm.DateTimeOffset":
		return stored(text), nil
	case "Edm.Date":
		return text, nil
	}
	return nil, errFilter
}
