package read

import (
	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/environment/sqldb/engine"
	"anagram/internal/environment/sqldb/translate"
)

// Forms of values: what is stored where the same value would be written otherwise. They are
// kept with before-images, so that what is taken back is what it was, to the byte.

// noteForm keeps in a record how a value of it is stored, where that is not how it would be
// written: what stands for no reference, and where it is asked for all forms, other values.
func (s *Reader) noteForm(m *environment.Model, f *translate.Form, rec *record.Record, c translate.Cell, stored any,
	v record.Value, all bool) {
	switch {
	case stored == nil && (c.Ref.None == nil || !all):
		return
	case c.Ref.None != nil && v.IsNull():
	case !all || v.IsNull() || v.Kind() == record.Bytes || c.Ref.To != nil && c.Ref.Inside == nil:
		return
	case c.Ref.Inside != nil: // what would be written is known only with the ids of that moment
	default:
		written, err := s.wouldWrite(m, f, c, v)
		if err != nil || s.sameForm(written, stored) {
			return
		}
	}
	if rec.Kept == nil {
		rec.Kept = &record.Kept{}
	}
	if rec.Kept.Stored == nil {
		rec.Kept.Stored = map[string]record.Stored{}
	}
	rec.Kept.Stored[c.Name] = translate.FormOf(stored)
}

// wouldWrite gives what would be stored for a value that is no reference.
func (s *Reader) wouldWrite(m *environment.Model, f *translate.Form, c translate.Cell, v record.Value) (any, error) {
	if words, ok := f.Words[c.Name]; ok && v.Kind() == record.Boolean {
		if v.Text() == "true" {
			return words.True, nil
		}
		return words.False, nil
	}
	return s.Encode(m, f.Type, v, f.Columns[c.Name])
}

// sameForm reports whether two stored values are the same to the byte; where columns have types
// of their own, only forms of one kind are told apart.
func (s *Reader) sameForm(written, stored any) bool {
	a, b := translate.FormOf(written), translate.FormOf(stored)
	if s.Can.WordsOnly {
		return a == b
	}
	return a.Kind != b.Kind || engine.StoredText(written) == engine.StoredText(stored)
}

// noteBeside keeps sums of the columns that were asked for beside the fields.
func noteBeside(f *translate.Form, row []any, rec *record.Record) {
	if len(f.Beside) > 0 && rec.Kept == nil {
		rec.Kept = &record.Kept{}
	}
	for _, at := range f.Beside {
		rec.Kept.Sums = append(rec.Kept.Sums, sumOf(row[at]))
	}
}
