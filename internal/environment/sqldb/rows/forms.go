package rows

import (
	"encoding/hex"
	"strconv"

	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/environment/sqldb/engine"
)

// Forms of values: what is stored where the same value would be written otherwise. They are
// kept with before-images, so that what is taken back is what it was, to the byte.

// noteForm keeps in a record how a value of it is stored, where that is not how it would be
// written: what stands for no reference, and where it is asked for all forms, other values.
func (s *session) noteForm(m *environment.Model, f *form, rec *record.Record, c cell, stored any, v record.Value, all bool) {
	switch {
	case stored == nil && (c.ref.None == nil || !all):
		return
	case c.ref.None != nil && v.IsNull():
	case !all || c.ref.To != nil || c.ref.Inside != nil || v.IsNull() || v.Kind() == record.Bytes:
		return
	default:
		written, err := s.wouldWrite(m, f, c, v)
		if err != nil || s.sameForm(written, stored) {
			return
		}
	}
	if rec.Stored == nil {
		rec.Stored = map[string]record.Stored{}
	}
	rec.Stored[c.Name] = formOf(stored)
}

// wouldWrite gives what would be stored for a value that is no reference.
func (s *session) wouldWrite(m *environment.Model, f *form, c cell, v record.Value) (any, error) {
	if words, ok := f.Words[c.Name]; ok && v.Kind() == record.Boolean {
		if v.Text() == "true" {
			return words.True, nil
		}
		return words.False, nil
	}
	return s.encode(m, f.Type, v, f.columns[c.Name])
}

// sameForm reports whether two stored values are the same to the byte; where columns have types
// of their own, only forms of one kind are told apart.
func (s *session) sameForm(written, stored any) bool {
	a, b := formOf(written), formOf(stored)
	if s.can.WordsOnly {
		return a == b
	}
	return a.Kind != b.Kind || engine.StoredText(written) == engine.StoredText(stored)
}

// formOf gives a stored value as it is kept.
func formOf(stored any) record.Stored {
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

// storedAs gives back what formOf was given; ok is false where it is no such form.
func storedAs(form record.Stored) (stored any, ok bool) {
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

// inForms gives settings in the forms in which their fields are to be stored.
func (t table) inForms(settings []setting, forms map[string]record.Stored) []setting {
	for i, set := range settings {
		if form, ok := forms[set.column]; ok {
			stored, ok := storedAs(form)
			if c := t.columns[set.column]; c.Kind == record.Integer && form.Kind == "text" {
				stored = storedNone(form.Text, c)[0]
			}
			if ok {
				settings[i].stored = stored
			}
		}
	}
	return settings
}
