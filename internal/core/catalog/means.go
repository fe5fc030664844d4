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
			return fmt.Errorf("field %s of %s refers to %q; %s it was %q", field, t.Name, strings.Join(now.To, ", "), when,
				strings.Join(then.To, ", "))
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

// Describes says in what the fields that a file gives a type, those of its key first, are not
// what the catalog describes, nil where they are: a file is not believed in what a key is, or
// what a field refers to.
func (t *Type) Describes(shape, fields []record.Field) error {
	names := make([]string, len(shape))
	for i, field := range shape {
		names[i] = field.Name
	}
	if !slices.Equal(names, t.Key) {
		return fmt.Errorf("the key of %s is %v, and not %q", t.Name, t.Key, names)
	}
	seen := map[string]bool{}
	for _, field := range slices.Concat(shape, fields) {
		if seen[field.Name] {
			return fmt.Errorf("field %q of %s stands twice", field.Name, t.Name)
		}
		seen[field.Name] = true
		var described record.Field
		ref, refers := t.Refers[field.Name]
		if refers {
			ref.field(&described)
		}
		is := field.Kind == record.Reference || field.Kind == record.Woven
		if is != refers || refers && field.Kind != described.Kind || field.Refers != described.Refers ||
			!slices.Equal(field.Among, described.Among) {
			return fmt.Errorf("field %q of %s is %s, and not what the catalog says", field.Name, t.Name, kindText(field))
		}
		if slices.Contains(t.Key, field.Name) && field.Rule != t.Rules[field.Name] {
			return fmt.Errorf("key field %q of %s is compared %s, and not %s", field.Name, t.Name, ruleText(field.Rule),
				ruleText(t.Rules[field.Name]))
		}
	}
	return nil
}

// kindText names what a field is.
func kindText(f record.Field) string {
	if to := append(slices.Clone(f.Among), f.Refers); f.Kind == record.Reference {
		return "a reference to " + strings.Trim(strings.Join(to, " or "), " or")
	}
	return f.Kind.String()
}

// SameAs reports whether a type is described as another time, apart from what only people
// see.
func (t *Type) SameAs(was *Type) bool {
	plain := func(t Type) Type {
		t.line, t.layout, t.Title, t.Plain, t.StampPerson = nil, nil, "", nil, Person{}
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
