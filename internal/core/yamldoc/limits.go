package yamldoc

import (
	"fmt"
	"strings"
	"unicode/utf8"

	"github.com/goccy/go-yaml/lexer"
	"github.com/goccy/go-yaml/token"

	"anagram/internal/core/limit"
)

// withinLimits refuses a file before it is taken apart: what is too large, nested too deep,
// or unfolds when it is read.
func (d *Document) withinLimits() error {
	bad := func(line int, format string, args ...any) error {
		return &Error{File: d.name, Line: line, Message: fmt.Sprintf(format, args...)}
	}
	if len(d.source) > limit.Configuration {
		return bad(0, "it has %d bytes, and at most %d are read", len(d.source), limit.Configuration)
	}
	if !utf8.Valid(d.source) {
		return bad(0, "it is not UTF-8")
	}
	// Each of these signs can be a token of its own, which takes a hundred times its place.
	if n := signs(d.source); n > limit.Signs {
		return bad(0, "it has %d signs of structure (brackets, colons, line ends), and at most %d are read", n, limit.Signs)
	}
	depth := nesting{}
	for _, t := range lexer.Tokenize(string(d.source)) {
		line := t.Position.Line
		if depth.take(t) > limit.Depth {
			return bad(line, "it is nested deeper than %d levels", limit.Depth)
		}
		switch t.Type {
		case token.AnchorType, token.AliasType, token.MergeKeyType:
			return bad(line, "anchors and aliases (& and *) are not read here; write it out, or put quotes around a text that begins so")
		case token.TagType:
			return bad(line, "tags (!) are not read here; put quotes around a text that begins so")
		}
		most := limit.Text
		if t.Next != nil && t.Next.Type == token.MappingValueType {
			most = limit.Name
		}
		if n := utf8.RuneCountInString(t.Value); n > most {
			return bad(line, "a text has %d characters, and at most %d are read", n, most)
		}
	}
	return nil
}

// signs counts the signs that make up the structure of a file.
func signs(source []byte) int {
	n := 0
	for _, c := range source {
		if strings.IndexByte("[]{},:-?&*!|>%\n", c) >= 0 {
			n++
		}
	}
	return n
}

// nesting tells how deep tokens stand within each other: in brackets, and by how far lines
// are indented.
type nesting struct {
	brackets, line int
	columns        []int
}

func (n *nesting) take(t *token.Token) int {
	switch t.Type {
	case token.SequenceStartType, token.MappingStartType:
		n.brackets++
	case token.SequenceEndType, token.MappingEndType:
		n.brackets = max(0, n.brackets-1)
	}
	entry := t.Type == token.SequenceEntryType || t.Type == token.MappingKeyType
	if n.brackets == 0 && (t.Position.Line != n.line || entry) {
		for len(n.columns) > 0 && n.columns[len(n.columns)-1] >= t.Position.Column {
			n.columns = n.columns[:len(n.columns)-1]
		}
		n.columns = append(n.columns, t.Position.Column)
	}
	n.line = t.Position.Line
	return n.brackets + len(n.columns)
}
