package postgres

import (
	"testing"

	"anagram/internal/core/record"
)

// An array that is read as a list is written so that it is read as the same list again.
func FuzzArrays(f *testing.F) {
	for _, seed := range []string{`{}`, `{a,b}`, `{"a \"b\"",NULL}`, `{{1,2},{3,4}}`, `{"\\x00"}`, `[2:3]={a,b}`, `{"{}"}`} {
		f.Add(seed, uint8(record.Text))
		f.Add(seed, uint8(record.Integer))
		f.Add(seed, uint8(record.JSON))
	}
	f.Fuzz(func(t *testing.T, text string, kind uint8) {
		list, err := listed(text, record.Kind(kind))
		if err != nil {
			return
		}
		v, err := record.Parse(record.JSON, list)
		if err != nil {
			return // not UTF-8, or a member twice
		}
		back, err := array(v.Text(), record.Kind(kind))
		if err != nil {
			return // NUL
		}
		again, err := listed(back, record.Kind(kind))
		if err != nil {
			t.Fatalf("%q as %q: %v", text, back, err)
		}
		w, err := record.Parse(record.JSON, again)
		if err != nil || !v.Equal(w) {
			t.Fatalf("%q: %s is %s again (%v)", text, v.Text(), w.Text(), err)
		}
	})
}
