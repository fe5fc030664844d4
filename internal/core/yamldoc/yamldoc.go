// Package yamldoc reads YAML into Go values and keeps the line of everything, so
// that a mistake in a configuration can be named with its place and mend.
package yamldoc

import (
	"bytes"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"github.com/agnivade/levenshtein"
	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"anagram/internal/core/limit"
)

// Error is a mistake in a YAML file.
type Error struct {
	File    string
	Line    int // from 1; 0 where it is about the whole file
	Message string
}

// Error gives file, line and message.
func (e *Error) Error() string {
	if e.Line == 0 {
		return fmt.Sprintf("%s: %s", e.File, e.Message)
	}
	return fmt.Sprintf("%s line %d: %s", e.File, e.Line, e.Message)
}

// Document is a YAML file in memory.
type Document struct {
	name   string
	source []byte
	root   ast.Node
}

// Parse reads the text; the name is for messages.
func Parse(name string, source []byte) (*Document, error) {
	d := &Document{name: name, source: source}
	if err := d.withinLimits(); err != nil {
		return nil, err
	}
	file, err := parser.ParseBytes(source, 0)
	if err != nil {
		return nil, d.wrap(err, nil)
	}
	if len(file.Docs) > 1 {
		return nil, &Error{File: name, Message: "it holds several documents; keep one"}
	}
	if len(file.Docs) > 0 {
		d.root = file.Docs[0].Body
	}
	return d, nil
}

// Decode fills a pointer to a struct; a key that it does not have is an error.
func (d *Document) Decode(into any) error {
	decoder := yaml.NewDecoder(bytes.NewReader(d.source), yaml.Strict())
	if err := decoder.Decode(into); err != nil && d.root != nil {
		return d.wrap(err, reflect.TypeOf(into))
	}
	return nil
}

func (d *Document) wrap(err error, into reflect.Type) error {
	out := &Error{File: d.name, Message: err.Error()}
	var unknown *yaml.UnknownFieldError
	var yamlError yaml.Error
	if errors.As(err, &yamlError) {
		out.Message = yamlError.GetMessage()
		if token := yamlError.GetToken(); token != nil {
			out.Line = token.Position.Line
		}
	}
	var kind *yaml.TypeError
	if errors.As(err, &kind) {
		out.Message = fmt.Sprintf("%s stands where %s is expected", said(kind.SrcType), said(kind.DstType))
	}
	if errors.As(err, &unknown) {
		var known []string
		if path, ok := pathTo(d.root, unknown.Token.Position.Line, unknown.Token.Position.Column); ok {
			known = keysAt(into, path)
		}
		out.Message = fmt.Sprintf("the key %q is not known here%s", unknown.Token.Value, Nearest(unknown.Token.Value, known))
	}
	return out
}

// keysAt gives the keys that a mapping may have which stands at a path within a value of a type;
// nil where that cannot be told.
func keysAt(t reflect.Type, path []string) (keys []string) {
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	switch {
	case len(path) > 0 && (t.Kind() == reflect.Map || t.Kind() == reflect.Slice):
		return keysAt(t.Elem(), path[1:])
	case t.Kind() != reflect.Struct:
		return nil
	}
	for field := range t.Fields() {
		name, options, _ := strings.Cut(field.Tag.Get("yaml"), ",")
		switch {
		case strings.Contains(options, "inline"):
			keys = append(keys, keysAt(field.Type, path)...)
		case len(path) > 0 && name == path[0]:
			return keysAt(field.Type, path[1:])
		case len(path) == 0 && name != "" && name != "-":
			keys = append(keys, name)
		}
	}
	return keys
}

// pathTo gives the names (indexes in lists) of what is around a key at a place of the text.
func pathTo(node ast.Node, line, column int) (path []string, found bool) {
	switch n := node.(type) {
	case *ast.MappingNode:
		for _, v := range n.Values {
			if at := v.Key.GetToken().Position; at.Line == line && at.Column == column {
				return nil, true
			}
			if rest, ok := pathTo(v.Value, line, column); ok {
				return append([]string{keyText(v)}, rest...), true
			}
		}
	case *ast.SequenceNode:
		for i, v := range n.Values {
			if rest, ok := pathTo(v, line, column); ok {
				return append([]string{strconv.Itoa(i)}, rest...), true
			}
		}
	}
	return nil, false
}

// TextOr reads a value that may be written as a text instead of in full, for
// UnmarshalYAML: the text goes to text, anything else to full, a pointer to a type
// without an UnmarshalYAML of its own.
func TextOr(decode func(any) error, text *string, full any) error {
	if err := decode(text); err == nil {
		return nil
	}
	*text = ""
	return decode(full)
}

// find walks down the names (indexes in lists) as far as they exist and gives the
// last node, and that of its name.
func (d *Document) find(path []string) (node, name ast.Node) {
	node = d.root
	for _, step := range path {
		switch n := node.(type) {
		case *ast.MappingNode:
			i := slices.IndexFunc(n.Values, func(v *ast.MappingValueNode) bool { return keyText(v) == step })
			if i < 0 {
				return node, name
			}
			node, name = n.Values[i].Value, n.Values[i].Key
		case *ast.SequenceNode:
			var i int
			if _, err := fmt.Sscan(step, &i); err != nil || i >= len(n.Values) {
				return node, name
			}
			node, name = n.Values[i], n.Values[i]
		default:
			return node, name
		}
	}
	return node, name
}

func keyText(v *ast.MappingValueNode) string { return v.Key.GetToken().Value }

// Line gives the line of what the path leads to, or of the nearest thing above it.
func (d *Document) Line(path ...string) int {
	_, name := d.find(path)
	if name == nil {
		return 0
	}
	return name.GetToken().Position.Line
}

// Names lists the names in a mapping, in the file's order.
func (d *Document) Names(path ...string) []string {
	node, _ := d.find(path)
	if len(path) > 0 && d.Line(path...) == 0 {
		return nil
	}
	mapping, ok := node.(*ast.MappingNode)
	if !ok {
		return nil
	}
	names := make([]string, len(mapping.Values))
	for i, value := range mapping.Values {
		names[i] = keyText(value)
	}
	return names
}

// Errorf makes an error about what the path leads to.
func (d *Document) Errorf(path []string, format string, args ...any) error {
	return &Error{File: d.name, Line: d.Line(path...), Message: fmt.Sprintf(format, args...)}
}

// Unknown makes the error for a word that should be one of those known.
func (d *Document) Unknown(path []string, what, word string, known []string) error {
	return d.Errorf(path, "the %s %q is not known%s", what, word, Nearest(word, known))
}

// Nearest gives "; did you mean …?" with the known word that is most like this one, where none
// is near the known ones, as far as they can be listed.
func Nearest(word string, known []string) string {
	if len(word) > limit.Name || len(known) > limit.Types { // nobody meant one of these
		return ""
	}
	if like := Likest(word, known); like != "" {
		return like
	}
	sorted := slices.Compact(slices.Sorted(slices.Values(known)))
	const most, long = 60, 900
	if text := strings.Join(sorted, ", "); len(sorted) > 0 && len(sorted) <= most && len(text) <= long {
		return "; known: " + text
	}
	return ""
}

// Likest gives "; did you mean …?" with the known word that is most like this one, or nothing
// where none is near.
func Likest(word string, known []string) string {
	if len(word) > limit.Name {
		return ""
	}
	best, least := "", len(word)/2+1
	sorted := slices.Clone(known)
	slices.Sort(sorted)
	for _, candidate := range sorted {
		if candidate == "" || len(candidate) > limit.Name {
			continue
		}
		distance := levenshtein.ComputeDistance(strings.ToLower(word), strings.ToLower(candidate))
		if distance < least {
			best, least = candidate, distance
		}
	}
	if best == "" {
		return ""
	}
	return fmt.Sprintf("; did you mean %q?", best)
}

// said names a kind of value for people.
func said(kind reflect.Type) string {
	switch kind.Kind() {
	case reflect.String:
		return "a text"
	case reflect.Bool:
		return "true or false"
	case reflect.Float32, reflect.Float64:
		return "a number"
	case reflect.Slice, reflect.Array:
		return "a list"
	case reflect.Map, reflect.Struct, reflect.Pointer:
		return "a list of keys and values"
	}
	if kind.Kind() >= reflect.Int && kind.Kind() <= reflect.Uint64 {
		return "a whole number"
	}
	return "something else"
}
