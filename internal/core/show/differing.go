package show

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"unicode"
)

// Of long values only the part is shown in which they differ.

// Marks stand around the part in which long texts differ, so that it is seen without colour.
const (
	MarkFrom = ">>"
	MarkTo   = "<<"
)

// beside is how many signs of what is the same are shown on both sides of what differs.
const beside = 24

// Differing shortens texts of which one is longer than most signs to the part in which they
// differ, in marks, with a little of what is the same around it. Nil stays nil. Texts that
// are all short, or of which fewer than two are there, stay as they are.
func Differing(texts []*string, most int) []*string {
	var there [][]rune
	long := false
	for _, text := range texts {
		if text != nil {
			runes := []rune(*text)
			there = append(there, runes)
			long = long || len(runes) > most
		}
	}
	if !long || len(there) < 2 {
		return texts
	}
	from, to := common(there)
	out := make([]*string, len(texts))
	for i, text := range texts {
		if text == nil {
			continue
		}
		runes := []rune(*text)
		part := MarkFrom + string(runes[from:len(runes)-to]) + MarkTo
		head, tail := runes[:from], runes[len(runes)-to:]
		if len(head) > beside+1 {
			head = head[len(head)-beside:] // from a whole word on, where there is one
			head = append([]rune("…"), head[max(0, slices.IndexFunc(head, unicode.IsSpace)):]...)
		}
		if len(tail) > beside+1 {
			end := strings.LastIndexFunc(string(tail[:beside]), unicode.IsSpace)
			if end <= 0 {
				end = len(string(tail[:beside]))
			}
			tail = append([]rune(string(tail[:beside])[:end]), []rune(" …")...)
		}
		short := string(head) + part + string(tail)
		out[i] = &short
	}
	return out
}

// Common gives how many signs at the beginning and at the end are the same in all texts that
// are there, without taking words and signs apart that belong together; none where fewer than
// two are.
func Common(texts []*string) (from, to int) {
	var there [][]rune
	for _, text := range texts {
		if text != nil {
			there = append(there, []rune(*text))
		}
	}
	if len(there) < 2 {
		return 0, 0
	}
	return common(there)
}

// common gives how many signs at the beginning and at the end are the same in all texts,
// without taking words and signs apart that belong together.
func common(texts [][]rune) (from, to int) {
	first := texts[0]
	least := len(first)
	for _, text := range texts {
		least = min(least, len(text))
	}
	same := func(at func([]rune) rune) bool {
		return !slices.ContainsFunc(texts, func(text []rune) bool { return at(text) != at(first) })
	}
	for from < least && same(func(text []rune) rune { return text[from] }) {
		from++
	}
	for to < least-from && same(func(text []rune) rune { return text[len(text)-1-to] }) {
		to++
	}
	// A word that differs is shown whole, unless it is very long.
	for back := 0; from > 0 && back < beside && (!unicode.IsSpace(first[from-1]) || from < len(first) &&
		unicode.Is(unicode.M, first[from])); back++ {
		from--
	}
	for back := 0; to > 0 && back < beside && !unicode.IsSpace(first[len(first)-to]); back++ {
		to--
	}
	return from, to
}

// Place is one place in JSON values, and what stands there in each; nil where nothing does.
type Place struct {
	Path   string // names after points, numbers in brackets; "" is the value as a whole
	Values []*string
}

// JSONPlaces gives the places in which JSON texts differ, in the order of their paths. Ok is
// false where a text is none, or is nil.
func JSONPlaces(texts []*string) (places []Place, ok bool) {
	values := make([]any, len(texts))
	for i, text := range texts {
		if text == nil {
			return nil, false
		}
		decoder := json.NewDecoder(strings.NewReader(*text))
		decoder.UseNumber()
		if decoder.Decode(&values[i]) != nil {
			return nil, false
		}
	}
	return differing("", values), true
}

// nowhere is what stands at a place that a value does not have.
type nowhere struct{}

func differing(path string, values []any) []Place {
	shown := make([]*string, len(values))
	same, objects, lists := true, true, true
	for i, v := range values {
		if _, none := v.(nowhere); !none {
			text := compact(v)
			shown[i] = &text
		}
		same = same && (shown[i] == nil) == (shown[0] == nil) && (shown[i] == nil || *shown[i] == *shown[0])
		_, object := v.(map[string]any)
		_, list := v.([]any)
		objects, lists = objects && object, lists && list
	}
	switch {
	case same:
		return nil
	case objects:
		var names []string
		for _, v := range values {
			for name := range v.(map[string]any) {
				names = append(names, name)
			}
		}
		slices.Sort(names)
		var out []Place
		for _, name := range slices.Compact(names) {
			out = append(out, differing(strings.TrimPrefix(path+"."+name, "."), each(values, func(v any) (any, bool) {
				inner, there := v.(map[string]any)[name]
				return inner, there
			}))...)
		}
		return out
	case lists:
		longest := 0
		for _, v := range values {
			longest = max(longest, len(v.([]any)))
		}
		var out []Place
		for n := range longest {
			out = append(out, differing(fmt.Sprintf("%s[%d]", path, n+1), each(values, func(v any) (any, bool) {
				if list := v.([]any); n < len(list) {
					return list[n], true
				}
				return nil, false
			}))...)
		}
		return out
	}
	return []Place{{path, shown}}
}

func each(values []any, get func(any) (any, bool)) []any {
	out := make([]any, len(values))
	for i, v := range values {
		out[i] = nowhere{}
		if inner, there := get(v); there {
			out[i] = inner
		}
	}
	return out
}

func compact(v any) string {
	var out bytes.Buffer
	encoder := json.NewEncoder(&out)
	encoder.SetEscapeHTML(false)
	_ = encoder.Encode(v)
	return strings.TrimSuffix(out.String(), "\n")
}
