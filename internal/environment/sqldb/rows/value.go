package rows

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
	"anagram/internal/core/weave"
	"anagram/internal/environment"
	"anagram/internal/environment/sqldb/engine"
)

// errOutside is a reference to a record that the condition of its type leaves out.
var errOutside = errors.New("it refers to a record that only: in the catalog leaves out. Let it refer to all types of that table, or leave this record out as well")

// value brings what is stored to a field's form. References have been learned before.
func (s *session) value(m *environment.Model, of *catalog.Type, row []any, c cell) (record.Value, error) {
	stored := row[c.at[0]]
	for _, at := range c.at {
		if row[at] == nil {
			return record.NullValue(), partlyNull(of, row, c)
		}
	}
	if c.ref.None != nil && isNone(c.ref.None, stored) {
		return record.NullValue(), nil
	}
	if words, ok := of.Words[c.Name]; ok && c.Kind == record.Boolean {
		switch text := strings.TrimRight(engine.StoredText(stored), " "); text {
		case words.True:
			return record.BooleanValue(true), nil
		case words.False:
			return record.BooleanValue(false), nil
		default:
			return record.Value{}, fmt.Errorf("it holds %q, which is neither %s nor %s. Correct it, or as: in the catalog", text, words.True, words.False)
		}
	}
	switch {
	case c.ref.To == nil:
		return s.decode(m, of, stored, c.Kind, c.stored)
	case c.ref.Inside != nil:
		return s.woven(m, stored, c)
	case c.ref.ByKey:
		v, err := s.decode(m, of, stored, m.Shapes[c.ref.One()][0].Kind, c.stored)
		if err != nil {
			return v, err
		}
		return record.ReferenceValue(c.ref.One(), m.Shapes.Key(c.ref.One(), []record.Value{v})), nil
	}
	candidates, err := s.candidates(row, c)
	if err != nil {
		return record.Value{}, err
	}
	to, key, err := s.lookup(m, candidates, c.by(m, candidates[0]), c.tuple(row))
	if err != nil {
		return record.Value{}, err
	}
	if c.ref.One() == "" {
		return record.AmongValue(to, key), nil
	}
	return record.ReferenceValue(to, key), nil
}

// isNone reports whether a stored value stands for no reference.
func isNone(none []string, stored any) bool {
	return slices.Contains(none, strings.TrimRight(engine.StoredText(stored), " "))
}

// partlyNull refuses a reference of several columns of which some are null, where the others
// hold something that no other field keeps: it would be lost.
func partlyNull(of *catalog.Type, row []any, c cell) error {
	for n, at := range c.at {
		if len(c.ref.Columns) == 0 {
			break
		}
		column := c.ref.Columns[n].Here
		if row[at] != nil && !of.KeptBeside(c.Name, column) {
			return fmt.Errorf("it is partly null, and what column %s holds (%s) would be lost. Correct it there, or leave the field out with ignore: in the catalog", column, engine.StoredText(row[at]))
		}
	}
	return nil
}

// candidates gives the record types that a row's reference may point at.
func (s *session) candidates(row []any, c cell) ([]string, error) {
	if c.chooser < 0 {
		return c.ref.To, nil
	}
	word := strings.TrimRight(engine.StoredText(row[c.chooser]), " ")
	to, ok := c.ref.Words[word]
	if !ok {
		return nil, fmt.Errorf("its %s is %q, for which to: of %s in the catalog names no record type. Add it there, or leave such records out with only: in the catalog", c.ref.Chooser, word, c.Name)
	}
	return []string{to}, nil
}

// by names the columns of a record type by which a reference finds its record.
func (c cell) by(m *environment.Model, to string) []string {
	if c.ref.Columns != nil {
		out := make([]string, len(c.ref.Columns))
		for i, pair := range c.ref.Columns {
			out[i] = pair.There
		}
		return out
	}
	return idColumn(m, to)
}

// idColumn is the column that references to a type hold.
func idColumn(m *environment.Model, typ string) []string {
	t, ok := m.Catalog.Type(typ)
	if !ok || t.ID == "" {
		return t.Key[:1]
	}
	return []string{t.ID}
}

func (c cell) tuple(row []any) identity {
	out := make(identity, len(c.at))
	for i, at := range c.at {
		out[i] = row[at]
	}
	return out
}

// lookup finds the key of a record that was learned before.
func (s *session) lookup(m *environment.Model, candidates, by []string, id identity) (string, record.Key, error) {
	outside := false
	for _, to := range candidates {
		if key, ok := s.keys[learnedBy(to, by)][id.mapKey()]; ok {
			return to, key, nil
		}
		outside = outside || s.outside[learnedBy(to, by)][id.mapKey()]
	}
	if outside {
		return "", record.Key{}, errOutside
	}
	t, _ := m.Catalog.Type(candidates[0])
	return "", record.Key{}, fmt.Errorf("it refers to %s with internal id %s, which is not in %s. Correct the reference there, or leave the field out with ignore: in the catalog",
		strings.Join(candidates, " or "), id.text(), t.Place(m.Environment))
}

// canonicalText gives a value with ids inside in the form in which they are found.
func (s *session) canonicalText(stored any, c cell) (string, []weave.Span, error) {
	kind := record.Text
	if c.ref.Inside[0].InJSON() {
		kind = record.JSON
	}
	v, err := s.dialect.Decode(stored, kind, c.stored)
	if err != nil {
		return "", nil, err
	}
	spans, err := weave.Find(c.ref.Inside, v.Text())
	return v.Text(), spans, err
}

// woven brings a value with ids inside to texts and references.
func (s *session) woven(m *environment.Model, stored any, c cell) (record.Value, error) {
	text, spans, err := s.canonicalText(stored, c)
	if err != nil {
		return record.Value{}, err
	}
	var pieces []record.Value
	at := 0
	literal := func(to int) error {
		if at == to {
			return nil
		}
		v, err := record.TextValue(text[at:to])
		pieces = append(pieces, v)
		return err
	}
	for _, span := range spans {
		if err := literal(span.Start); err != nil {
			return record.Value{}, err
		}
		to := c.ref.Inside[span.Form].To
		_, key, err := s.lookup(m, []string{to}, idColumn(m, to), identity{text[span.Start:span.End]})
		if err != nil {
			return record.Value{}, fmt.Errorf("%s: %w", c.ref.Inside[span.Form].Text(), err)
		}
		pieces = append(pieces, record.AmongValue(to, key))
		at = span.End
	}
	err = literal(len(text))
	return record.WovenValue(pieces), err
}

// learnCell learns what the references of a field in some rows point at.
func (s *session) learnCell(ctx context.Context, m *environment.Model, c cell, rows [][]any) error {
	if c.ref.To == nil || c.ref.ByKey {
		return nil
	}
	wanted := map[string][]identity{}
	for _, row := range rows {
		tuple := c.tuple(row)
		if tuple.hasNull() || c.ref.None != nil && isNone(c.ref.None, tuple[0]) {
			continue
		}
		if c.ref.Inside != nil {
			text, spans, err := s.canonicalText(row[c.at[0]], c)
			if err != nil {
				continue // value names the record
			}
			for _, span := range spans {
				to := c.ref.Inside[span.Form].To
				wanted[to] = append(wanted[to], identity{text[span.Start:span.End]})
			}
			continue
		}
		candidates, err := s.candidates(row, c)
		if err != nil {
			continue
		}
		for _, to := range candidates {
			wanted[to] = append(wanted[to], tuple)
		}
	}
	for _, to := range c.ref.To {
		if err := s.learn(ctx, m, to, c.by(m, to), wanted[to]); err != nil {
			return err
		}
	}
	return nil
}

func (id identity) hasNull() bool {
	for _, stored := range id {
		if stored == nil {
			return true
		}
	}
	return false
}

// weaveBack writes a woven value with this environment's internal ids. Each of them has to be
// found again where it then stands, or the value would read as another.
func (s *session) weaveBack(ctx context.Context, m *environment.Model, v record.Value, c cell) (record.Value, error) {
	var out strings.Builder
	var put []string
	pieces := v.Parts()
	json := c.ref.Inside[0].InJSON()
	for i, piece := range pieces {
		if piece.Kind() != record.Reference {
			out.WriteString(piece.Text())
			continue
		}
		ids, err := s.referred(ctx, m, piece, idColumn(m, piece.Refers()))
		if err != nil {
			return v, err
		}
		id := engine.StoredText(ids[0])
		quoted := i > 0 && strings.HasSuffix(pieces[i-1].Text(), `"`)
		if _, err := strconv.ParseInt(id, 10, 64); json && !quoted && err != nil {
			id = strconv.Quote(id)
		}
		out.WriteString(id)
		put = append(put, strings.Trim(id, `"`))
	}
	back, err := record.TextValue(out.String())
	if json {
		back, err = record.Parse(record.JSON, out.String())
	}
	if err != nil {
		return v, err
	}
	spans, err := weave.Find(c.ref.Inside, back.Text())
	if err != nil {
		return v, err
	}
	for i, id := range put {
		if i >= len(spans) || back.Text()[spans[i].Start:spans[i].End] != id {
			return v, fmt.Errorf("the internal id %q could not be told from the text around it there; a pattern finds numbers and UUIDs only", id)
		}
	}
	if len(spans) > len(put) {
		return v, fmt.Errorf("%q is no internal id in the source, and would be one here", back.Text()[spans[len(put)].Start:spans[len(put)].End])
	}
	return back, nil
}
