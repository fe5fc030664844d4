// Package weave finds the internal ids that stand inside values: in a list, at a path
// of a JSON document, or wherever a pattern says, as in the formula "{4711} * 2".
//
// The contract: a Form says how ids stand in a value and to which record type they
// belong. Find gives their places in order and never two that overlap; what the
// forms do not name is left alone. It does not know what the ids mean.
package weave

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strings"
)

// Form says how the internal ids of one record type stand in a value.
type Form struct {
	To   string // the record type
	text string // as written, for messages

	separator string
	pattern   *regexp.Regexp
	path      []step
}

// Span is one id: bytes Start to End of the value.
type Span struct {
	Start, End int
	Form       int // index of the form that found it
}

// Text gives the form as it was written.
func (f Form) Text() string { return f.text }

// InJSON reports whether the form looks into a JSON document.
func (f Form) InJSON() bool { return f.path != nil }

// List makes the form of a text that holds ids with a separator between them.
func List(to, separator string) (Form, error) {
	if strings.TrimSpace(separator) == "" && separator != " " || strings.ContainsAny(separator, "0123456789") {
		return Form{}, fmt.Errorf("list: is the text between two ids, such as a comma")
	}
	return Form{To: to, text: "list " + separator, separator: separator}, nil
}

const (
	placeholder = "ID"
	// A UUID may begin with digits, so it comes first.
	anyID = `([0-9a-fA-F]{8}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{12}|[0-9]+)`
)

// Pattern makes the form of a text in which ids stand between other characters. ID in
// the pattern is the id: {ID} finds 4711 in {4711}. An id is a number or a UUID.
func Pattern(to, pattern string) (Form, error) {
	before, after, ok := strings.Cut(pattern, placeholder)
	if !ok || before == "" || strings.Contains(after, placeholder) {
		return Form{},
			fmt.Errorf("pattern: %q has to hold ID once, where the internal id stands, and something before it, as in {ID}",
				pattern)
	}
	end := regexp.QuoteMeta(after)
	if after == "" {
		end = `\b`
	}
	return Form{To: to, text: "pattern " + pattern, pattern: regexp.MustCompile(regexp.QuoteMeta(before) + anyID + end)}, nil
}

// Path makes the form of a JSON document that holds ids at a path such as
// $.when[*].assay_id (a part of RFC 9535: names, [*] and [number]).
func Path(to, path string) (Form, error) {
	steps, err := parsePath(path)
	return Form{To: to, text: "path " + path, path: steps}, err
}

// within reports whether a match is a part of something longer: a word that begins before
// it, or a number or id that goes on after it. To carry a part of that would change it.
func within(value string, start, end int) bool {
	word := func(c byte) bool {
		return c == '_' || '0' <= c && c <= '9' || 'a' <= c && c <= 'z' || 'A' <= c && c <= 'Z' || c >= 0x80
	}
	if start > 0 && word(value[start]) && (word(value[start-1]) || value[start-1] == '-' || value[start-1] == '.') {
		return true
	}
	if !word(value[end-1]) || end == len(value) {
		return false
	}
	return word(value[end]) || (value[end] == '-' || value[end] == '.') && end+1 < len(value) && word(value[end+1])
}

// Find gives the places of ids in a value. Where a form has a path, the value is
// canonical JSON.
func Find(forms []Form, value string) ([]Span, error) {
	var out []Span
	for i, form := range forms {
		add := func(start, end int) {
			if start < end {
				out = append(out, Span{Start: start, End: end, Form: i})
			}
		}
		switch {
		case form.separator != "":
			at := 0
			for item := range strings.SplitSeq(value, form.separator) {
				lead := len(item) - len(strings.TrimLeft(item, " \t\r\n"))
				add(at+lead, at+lead+len(strings.TrimSpace(item)))
				at += len(item) + len(form.separator)
			}
		case form.pattern != nil:
			for _, m := range form.pattern.FindAllStringSubmatchIndex(value, -1) {
				if !within(value, m[0], m[1]) {
					add(m[2], m[3])
				}
			}
		default:
			w := walker{in: value, found: add, path: form}
			if err := w.value(form.path); err != nil {
				return nil, err
			}
		}
	}
	slices.SortStableFunc(out, func(a, b Span) int { return cmp.Compare(a.Start, b.Start) })
	for i := 1; i < len(out); i++ {
		if out[i].Start < out[i-1].End {
			return nil, fmt.Errorf("%q is an id for two of its forms, %s and %s; make them different in the catalog",
				value[out[i].Start:out[i].End], forms[out[i-1].Form].text, forms[out[i].Form].text)
		}
	}
	return out, nil
}
