package sqldb

import (
	"context"
	"database/sql"
	"fmt"
	"slices"
	"strings"
	"unicode"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
)

// Rules that an engine holds to (check constraints): read from it, and tried on values by
// the engine itself in a query over no table.

// addRule adds a rule to a place. Where the engine does not tell which columns it is
// about, they are read from its text.
func addRule(places map[string]catalog.Place, place string, rule catalog.Rule) {
	p, ok := places[place]
	if !ok || strings.HasPrefix(rule.Text, "json_valid(") {
		return
	}
	if rule.Columns == nil {
		rule.Columns = columnsIn(rule.Text, p)
	}
	if len(rule.Columns) > 0 {
		p.Rules = append(p.Rules, rule)
		places[place] = p
	}
}

// word is a piece of SQL: an identifier, bare or quoted, or a single sign. Texts, numbers
// and comments are passed over.
type word struct {
	text       string
	identifier bool
	quoted     bool
	at, end    int
}

// wordsOf takes SQL apart as far as is needed to find names and brackets.
func wordsOf(text string) []word {
	var out []word
	for i := 0; i < len(text); {
		rest := text[i:]
		skip := func(closing string) int {
			if end := strings.Index(rest[1:], closing); end >= 0 {
				return 1 + end + len(closing)
			}
			return len(rest)
		}
		n := 1
		switch c := rest[0]; {
		case strings.HasPrefix(rest, "--"):
			n = skip("\n")
		case strings.HasPrefix(rest, "/*"):
			n = skip("*/")
		case c == '\'': // a doubled quote begins the next text at once
			n = skip("'")
		case c == '"' || c == '`' || c == '[':
			n = skip(map[byte]string{'"': `"`, '`': "`", '[': "]"}[c])
			out = append(out, word{text: strings.Trim(rest[:n], "\"`[]"), identifier: true, quoted: true, at: i, end: i + n})
		case c == '_' || unicode.IsLetter(rune(c)) || c >= 0x80:
			n = strings.IndexFunc(rest, func(r rune) bool { return r != '_' && r != '$' && !unicode.IsLetter(r) && !unicode.IsDigit(r) })
			if n < 0 {
				n = len(rest)
			}
			out = append(out, word{text: rest[:n], identifier: true, at: i, end: i + n})
		case unicode.IsDigit(rune(c)):
			n = strings.IndexFunc(rest, func(r rune) bool { return r != '.' && !unicode.IsLetter(r) && !unicode.IsDigit(r) })
			if n < 0 {
				n = len(rest)
			}
		case c != ' ' && c != '\n' && c != '\t' && c != '\r':
			out = append(out, word{text: rest[:1], at: i, end: i + 1})
		}
		i += max(1, n)
	}
	return out
}

// columnsIn names the columns of a place that a rule is about.
func columnsIn(text string, place catalog.Place) []string {
	var out []string
	words := wordsOf(text)
	for i, w := range words {
		call := i+1 < len(words) && words[i+1].text == "("
		if !w.identifier || call {
			continue
		}
		at := slices.IndexFunc(place.Columns, func(c catalog.Column) bool { return strings.EqualFold(c.Name, w.text) })
		if at >= 0 && !slices.Contains(out, place.Columns[at].Name) {
			out = append(out, place.Columns[at].Name)
		}
	}
	return out
}

// checksIn finds the check constraints in a statement that makes a table.
func checksIn(statement string) []catalog.Rule {
	var out []catalog.Rule
	words := wordsOf(statement)
	for i, w := range words {
		if !w.identifier || w.quoted || !strings.EqualFold(w.text, "CHECK") || i+1 >= len(words) || words[i+1].text != "(" {
			continue
		}
		depth, end := 0, -1
		for _, inner := range words[i+1:] {
			if !inner.identifier && inner.text == "(" {
				depth++
			}
			if !inner.identifier && inner.text == ")" {
				if depth--; depth == 0 {
					end = inner.at
					break
				}
			}
		}
		if end < 0 {
			continue
		}
		rule := catalog.Rule{Text: strings.TrimSpace(statement[words[i+1].end:end])}
		if i >= 2 && !words[i-2].quoted && strings.EqualFold(words[i-2].text, "CONSTRAINT") {
			rule.Name = words[i-1].text
		}
		out = append(out, rule)
	}
	return out
}

// valueAs puts a column in the place of the word VALUE, by which the rule of a domain names
// what it is about.
func valueAs(text, column string) string {
	var out strings.Builder
	at := 0
	for _, w := range wordsOf(text) {
		if w.identifier && !w.quoted && w.text == "VALUE" {
			out.WriteString(text[at:w.at] + column)
			at = w.end
		}
	}
	return out.String() + text[at:]
}

// trier is a dialect with a way of its own to give values the types of columns. Trial
// gives rows of them as a table to select from, with its number from 0, anagram_row, before each.
type trier interface {
	Trial(place string, columns []catalog.Column, rows int) string
}

// castTrial is Trial for engines that know the declared types in a cast.
func castTrial(d Dialect, columns []catalog.Column, rows int) string {
	out := make([]string, rows)
	for n := range rows {
		out[n] = fmt.Sprintf("SELECT %d AS anagram_row", n)
		for _, c := range columns {
			value := mark
			if c.Declared != "" {
				value = "CAST(" + mark + " AS " + c.Declared + ")"
			}
			out[n] += ", " + value + " AS " + d.Quote(c.Name)
		}
	}
	return strings.Join(out, " UNION ALL ")
}

// Judge tries values against a rule, many at a time, and where the engine cannot do that
// with one of them, one by one.
func (s *session) Judge(ctx context.Context, place string, rule catalog.Rule, rows [][]record.Value) ([]bool, error) {
	places, err := s.describe(ctx)
	if err != nil {
		return nil, err
	}
	p := places[place]
	columns := make([]catalog.Column, len(rule.Columns))
	for i, name := range rule.Columns {
		columns[i], _ = p.Column(name)
	}
	refused := make([]bool, len(rows))
	var at []int
	var args [][]any
	for i, row := range rows {
		stored := make([]any, len(columns))
		var err error
		for n, c := range columns {
			if err == nil {
				stored[n], err = s.dialect.Encode(row[n], c)
			}
		}
		if err == nil {
			at, args = append(at, i), append(args, stored)
		}
	}
	const most = 100
	for len(at) > 0 {
		n := min(most, len(at))
		if err := s.try(ctx, place, rule, columns, at[:n], args[:n], refused); err != nil {
			return nil, err
		}
		at, args = at[n:], args[n:]
	}
	return refused, nil
}

func (s *session) try(ctx context.Context, place string, rule catalog.Rule, columns []catalog.Column, at []int, args [][]any, refused []bool) error {
	trial := castTrial(s.dialect, columns, len(at))
	if t, ok := s.dialect.(trier); ok {
		trial = t.Trial(place, columns, len(at))
	}
	_, bare, qualified := strings.Cut(place, ".")
	if !qualified {
		bare = place
	}
	query := fmt.Sprintf("SELECT anagram_row FROM (%s) AS %s WHERE NOT (%s)", trial, s.dialect.Quote(bare), rule.Text)
	if err := s.guard(ctx, "SAVEPOINT anagram_rule"); err != nil {
		return err
	}
	err := eachRow(ctx, s.q, func(rows *sql.Rows) error {
		var n int
		err := rows.Scan(&n)
		if err == nil && n >= 0 && n < len(at) {
			refused[at[n]] = true
		}
		return err
	}, marked(s.dialect, query), slices.Concat(args...)...)
	if err == nil {
		return s.guard(ctx, "RELEASE SAVEPOINT anagram_rule")
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if !s.dialect.Refused(err) {
		return s.explain(err)
	}
	if err := s.guard(ctx, "ROLLBACK TO SAVEPOINT anagram_rule"); err != nil {
		return err
	}
	if len(at) == 1 {
		// A cast to a domain refuses by itself what its rule does.
		if d, ok := s.dialect.(interface{ Breaks(error) bool }); ok {
			refused[at[0]] = d.Breaks(err)
		}
		return nil // the engine cannot try it; other checks say what does not fit
	}
	for i := range at {
		if err := s.try(ctx, place, rule, columns, at[i:i+1], args[i:i+1], refused); err != nil {
			return err
		}
	}
	return nil
}
