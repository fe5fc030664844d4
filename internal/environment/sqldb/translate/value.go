package translate

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
	"anagram/internal/environment/sqldb/query"
)

// errOutside is a reference to a record that the condition of its type leaves out.
var errOutside = errors.New("it refers to a record that only: in the catalog leaves out. Let it refer to all types of that table, or leave this record out as well")

// Value brings what is stored to a field's form. References have been learned before.
func (s *Translator) Value(m *environment.Model, of *catalog.Type, row []any, c Cell) (record.Value, error) {
	stored := row[c.At[0]]
	for _, at := range c.At {
		if row[at] == nil {
			return record.NullValue(), partlyNull(of, row, c)
		}
	}
	if c.Ref.None != nil && IsNone(c.Ref.None, stored) {
		return record.NullValue(), nil
	}
	if words, ok := of.Words[c.Name]; ok && c.Kind == record.Boolean {
		switch text := strings.TrimRight(engine.StoredText(stored), " "); text {
		case words.True:
			return record.BooleanValue(true), nil
		case words.False:
			return record.BooleanValue(false), nil
		default:
			why := fmt.Sprintf("it holds %q, which is neither %s nor %s", text, words.True, words.False)
			return record.Value{}, valueError{errors.New(why + ". Correct it, or as: in the catalog"), why}
		}
	}
	switch {
	case c.Ref.To == nil:
		return s.decode(m, of, stored, c.Kind, c.Stored)
	case c.Ref.Inside != nil:
		return s.woven(m, stored, c)
	case c.Ref.ByKey:
		v, err := s.decode(m, of, stored, m.Shapes[c.Ref.One()][0].Kind, c.Stored)
		if err != nil {
			return v, err
		}
		return record.ReferenceValue(c.Ref.One(), m.Shapes.Key(c.Ref.One(), []record.Value{v})), nil
	}
	candidates, err := c.candidates(row)
	if err != nil {
		return record.Value{}, err
	}
	to, key, err := s.lookup(m, candidates, c.By(m, candidates[0]), c.tuple(row))
	if err != nil {
		return record.Value{}, err
	}
	if c.Ref.One() == "" {
		return record.AmongValue(to, key), nil
	}
	return record.ReferenceValue(to, key), nil
}

// IsNone reports whether a stored value stands for no reference.
func IsNone(none []string, stored any) bool {
	return slices.Contains(none, strings.TrimRight(engine.StoredText(stored), " "))
}

// partlyNull refuses a reference of several columns of which some are null, where the others
// hold something that no other field keeps: it would be lost.
func partlyNull(of *catalog.Type, row []any, c Cell) error {
	for n, at := range c.At {
		if len(c.Ref.Columns) == 0 {
			break
		}
		column := c.Ref.Columns[n].Here
		if row[at] != nil && !of.KeptBeside(c.Name, column) {
			return fmt.Errorf("it is partly null, and what column %s holds (%s) would be lost. Correct it there, or leave the field out with ignore: in the catalog", column, engine.StoredText(row[at]))
		}
	}
	return nil
}

// candidates gives the record types that a row's reference may point at.
func (c Cell) candidates(row []any) ([]string, error) {
	if c.Chooser < 0 {
		return c.Ref.To, nil
	}
	word := strings.TrimRight(engine.StoredText(row[c.Chooser]), " ")
	to, ok := c.Ref.Words[word]
	if !ok {
		return nil,
			fmt.Errorf("its %s is %q, for which to: of %s in the catalog names no record type. Add it there, or leave such records out with only: in the catalog", c.Ref.Chooser, word, c.Name)
	}
	return []string{to}, nil
}

// By names the columns of a record type by which a reference finds its record.
func (c Cell) By(m *environment.Model, to string) []string {
	if c.Ref.Columns != nil {
		out := make([]string, len(c.Ref.Columns))
		for i, pair := range c.Ref.Columns {
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

func (c Cell) tuple(row []any) query.Identity {
	out := make(query.Identity, len(c.At))
	for i, at := range c.At {
		out[i] = row[at]
	}
	return out
}

// lookup finds the key of a record that was learned before.
func (s *Translator) lookup(m *environment.Model, candidates, by []string, id query.Identity) (string, record.Key, error) {
	outside := false
	for _, to := range candidates {
		if key, ok := s.keys[learnedBy(to, by)][id.MapKey()]; ok {
			return to, key, nil
		}
		outside = outside || s.outside[learnedBy(to, by)][id.MapKey()]
	}
	if outside {
		return "", record.Key{}, errOutside
	}
	t, _ := m.Catalog.Type(candidates[0])
	why := fmt.Sprintf("it refers to %s with internal id %s, which is not in %s", strings.Join(candidates, " or "), id.Text(),
		t.Place(m.Environment))
	return "", record.Key{}, valueError{errors.New(why +
		". Correct the reference there, or leave the field out with ignore: in the catalog"), why}
}

// canonicalText gives a value with ids inside in the form in which they are found.
func (s *Translator) canonicalText(stored any, c Cell) (string, []weave.Span, error) {
	kind := record.Text
	if c.Ref.Inside[0].InJSON() {
		kind = record.JSON
	}
	v, err := s.coder.Decode(stored, kind, c.Stored)
	if err != nil {
		return "", nil, valueError{cause: err}
	}
	spans, err := weave.Find(c.Ref.Inside, v.Text())
	return v.Text(), spans, err
}

// woven brings a value with ids inside to texts and references.
func (s *Translator) woven(m *environment.Model, stored any, c Cell) (record.Value, error) {
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
		to := c.Ref.Inside[span.Form].To
		_, key, err := s.lookup(m, []string{to}, idColumn(m, to), query.Identity{text[span.Start:span.End]})
		if err != nil {
			form := c.Ref.Inside[span.Form].Text()
			if err = fmt.Errorf("%s: %w", form, err); CannotRead(err) {
				err = valueError{err, form + ": " + Why(err)}
			}
			return record.Value{}, err
		}
		pieces = append(pieces, record.AmongValue(to, key))
		at = span.End
	}
	err = literal(len(text))
	return record.WovenValue(pieces), err
}

// LearnCell learns what the references of a field in some rows point at.
func (s *Translator) LearnCell(ctx context.Context, m *environment.Model, c Cell, rows [][]any) error {
	if c.Ref.To == nil || c.Ref.ByKey {
		return nil
	}
	wanted := map[string][]query.Identity{}
	for _, row := range rows {
		tuple := c.tuple(row)
		if tuple.HasNull() || c.Ref.None != nil && IsNone(c.Ref.None, tuple[0]) {
			continue
		}
		if c.Ref.Inside != nil {
			text, spans, err := s.canonicalText(row[c.At[0]], c)
			if err != nil {
				continue // value names the record
			}
			for _, span := range spans {
				to := c.Ref.Inside[span.Form].To
				wanted[to] = append(wanted[to], query.Identity{text[span.Start:span.End]})
			}
			continue
		}
		candidates, err := c.candidates(row)
		if err != nil {
			continue
		}
		for _, to := range candidates {
			wanted[to] = append(wanted[to], tuple)
		}
	}
	for _, to := range c.Ref.To {
		if err := s.learn(ctx, m, to, c.By(m, to), wanted[to]); err != nil {
			return err
		}
	}
	return nil
}

// weaveBack writes a woven value with this environment's internal ids. Each of them has to be
// found again where it then stands, or the value would read as another.
func (s *Translator) weaveBack(ctx context.Context, m *environment.Model, v record.Value, c Cell) (record.Value, error) {
	var out strings.Builder
	var put []string
	pieces := v.Parts()
	json := c.Ref.Inside[0].InJSON()
	for i, piece := range pieces {
		if piece.Kind() != record.Reference {
			out.WriteString(piece.Text())
			continue
		}
		ids, err := s.Referred(ctx, m, piece, idColumn(m, piece.Refers()))
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
	spans, err := weave.Find(c.Ref.Inside, back.Text())
	if err != nil {
		return v, err
	}
	for i, id := range put {
		if i >= len(spans) || back.Text()[spans[i].Start:spans[i].End] != id {
			return v,
				fmt.Errorf("the internal id %q could not be told from the text around it there; a pattern finds numbers and UUIDs only", id)
		}
	}
	if len(spans) > len(put) {
		return v, fmt.Errorf("%q is no internal id in the source, and would be one here",
			back.Text()[spans[len(put)].Start:spans[len(put)].End])
	}
	return back, nil
}
