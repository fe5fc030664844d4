package translate

import (
	"context"
	"encoding/hex"
	"strconv"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/environment/sqldb/engine"
	"anagram/internal/environment/sqldb/query"
)

// Stored gives what to store for a value in each of its field's columns.
func (s *Translator) Stored(ctx context.Context, m *environment.Model, t query.Table, v record.Value,
	field record.Field) (query.Identity, error) {
	ref, column := t.Refers[field.Name], t.Columns[field.Name]
	one := func(v record.Value) (query.Identity, error) {
		stored, err := s.Encode(m, t.Type, v, column)
		return query.Identity{stored}, err
	}
	if words, ok := t.Words[field.Name]; ok && v.Kind() == record.Boolean {
		if v.Text() == "true" {
			return query.Identity{words.True}, nil
		}
		return query.Identity{words.False}, nil
	}
	switch {
	case v.IsNull() && ref.None != nil:
		return StoredNone(ref.None[0], column), nil
	case v.IsNull():
		return make(query.Identity, max(1, len(ref.Columns))), nil
	case ref.ByKey:
		return one(v.Parts()[0])
	case ref.Inside != nil:
		back, err := s.weaveBack(ctx, m, v, Cell{Field: field, Ref: ref})
		if err != nil {
			return nil, err
		}
		return one(back)
	case ref.To != nil:
		return s.Referred(ctx, m, v, Cell{Field: field, Ref: ref}.By(m, v.Refers()))
	default:
		return one(v)
	}
}

// StoredNone gives what is stored for no reference.
func StoredNone(none string, c catalog.Column) query.Identity {
	if n, err := strconv.ParseInt(none, 10, 64); err == nil && c.Kind == record.Integer {
		return query.Identity{n}
	}
	return query.Identity{none}
}

// FormOf gives a stored value as it is kept.
func FormOf(stored any) record.Stored {
	switch v := stored.(type) {
	case nil:
		return record.Stored{Kind: "null"}
	case int64:
		return record.Stored{Kind: "whole", Text: strconv.FormatInt(v, 10)}
	case float64:
		return record.Stored{Kind: "real", Text: strconv.FormatFloat(v, 'g', -1, 64)}
	case []byte:
		return record.Stored{Kind: "bytes", Text: hex.EncodeToString(v)}
	default:
		return record.Stored{Kind: "text", Text: engine.StoredText(stored)}
	}
}

// StoredAs gives back what formOf was given; ok is false where it is no such form.
func StoredAs(form record.Stored) (stored any, ok bool) {
	var err error
	switch form.Kind {
	case "null":
		return nil, true
	case "text":
		return form.Text, true
	case "whole":
		stored, err = strconv.ParseInt(form.Text, 10, 64)
	case "real":
		stored, err = strconv.ParseFloat(form.Text, 64)
	case "bytes":
		stored, err = hex.DecodeString(form.Text)
	default:
		return nil, false
	}
	return stored, err == nil
}
