package catalog

import (
	"fmt"
	"reflect"
	"slices"
	"strings"

	"anagram/internal/core/record"
)

// MeansOther says in what a type's key, references or scope mean something else than they
// did, nil where they do not: records would be matched by the wrong fields, or not at all.
// When says for the message when that was.
func (t *Type) MeansOther(was *Type, when string) error {
	if !slices.Equal(was.Key, t.Key) {
		return fmt.Errorf("the key of %s is %v; %s it was %v", t.Name, t.Key, when, was.Key)
	}
	for _, field := range sortedNames(was.Refers) {
		then, now := was.Refers[field], t.Refers[field]
		if !slices.Equal(now.To, then.To) || (now.Inside == nil) != (then.Inside == nil) || now.ByKey != then.ByKey {
			return fmt.Errorf("field %s of %s refers to %q; %s it was %q", field, t.Name, strings.Join(now.To, ", "), when, strings.Join(then.To, ", "))
		}
	}
	for _, field := range t.Key {
		if then, now := was.Rules[field], t.Rules[field]; then != now {
			return fmt.Errorf("key field %s of %s is compared %s; %s it was %s", field, t.Name, ruleText(now), when, ruleText(then))
		}
	}
	if was.Only != t.Only {
		return fmt.Errorf("only: of %s is %q; %s it was %q", t.Name, t.Only, when, was.Only)
	}
	return nil
}

// SameAs reports whether a type is described as another time, apart from what only people
// see.
func (t *Type) SameAs(was *Type) bool {
	plain := func(t Type) Type {
		t.line, t.layout, t.Title = nil, nil, ""
		return t
	}
	return was != nil && reflect.DeepEqual(plain(*t), plain(*was))
}

// ruleText names a comparison rule by the words of the catalog.
func ruleText(r record.Rule) string {
	var words []string
	for _, one := range []struct {
		set  bool
		word string
	}{{r.FoldCase, "fold_case"}, {r.Trim, "trim"}, {r.NFC, "nfc"}, {r.BlankIsNull, "blank_is_null"}} {
		if one.set {
			words = append(words, one.word)
		}
	}
	if len(words) == 0 {
		return "exactly"
	}
	return "with " + strings.Join(words, ", ")
}
