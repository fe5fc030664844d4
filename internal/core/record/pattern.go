package record

import (
	"fmt"
	"strings"

	"golang.org/x/text/unicode/norm"
)

// Pattern selects addresses: * stands for anything within a part, a trailing /*
// for all parts below, and * alone for everything.
type Pattern struct {
	text  string
	parts []patternPart
	below bool // ends in /*
	all   bool
}

type patternPart struct {
	nulls    string   // the part itself, where it is one of nulls
	literals []string // texts between the stars; one literal is no star
}

// ParsePattern reads a pattern of addresses.
func ParsePattern(s string) (Pattern, error) {
	p := Pattern{text: s}
	if s == "*" {
		p.all = true
		return p, nil
	}
	if s == "" {
		return p, fmt.Errorf("the pattern is empty; * alone stands for everything")
	}
	if strings.Contains(s, "?") {
		return p, fmt.Errorf("pattern %q holds a question mark; in an address it is written %%3F", s)
	}
	raw := strings.Split(s, "/")
	if len(raw) > 1 && raw[len(raw)-1] == "*" {
		p.below = true
		raw = raw[:len(raw)-1]
	}
	for _, part := range raw {
		parsed := patternPart{}
		if Nulls(part) {
			parsed.nulls = part
		}
		for _, literal := range strings.Split(part, "*") {
			text, err := DecodePart(literal)
			if err != nil {
				return p, fmt.Errorf("pattern %w", err)
			}
			parsed.literals = append(parsed.literals, norm.NFC.String(text))
		}
		p.parts = append(p.parts, parsed)
	}
	return p, nil
}

// HasStar reports whether a text stands for several.
func HasStar(s string) bool { return strings.Contains(s, "*") }

// String gives the pattern as it was written.
func (p Pattern) String() string { return p.text }

// Type gives the record type that the pattern names, or "" where it has a star in it.
func (p Pattern) Type() string {
	if p.all || len(p.parts[0].literals) > 1 {
		return ""
	}
	return p.parts[0].literals[0]
}

// Exact reports whether the pattern is one record's address, without a star.
func (p Pattern) Exact() bool {
	for _, part := range p.parts {
		if len(part.literals) > 1 {
			return false
		}
	}
	return !p.all && !p.below
}

// WholeType reports whether the pattern covers every record of the type.
func (p Pattern) WholeType(typ string) bool {
	return p.all || p.below && len(p.parts) == 1 && p.parts[0].match(typ)
}

// Match reports whether the address is selected. Addresses come from this package
// and are never malformed.
func (p Pattern) Match(address string) bool {
	if p.all {
		return true
	}
	rest := address
	for i, part := range p.parts {
		var have string
		var more bool
		have, rest, more = strings.Cut(rest, "/")
		if !part.match(have) {
			return false
		}
		if i == len(p.parts)-1 {
			return more == p.below
		}
		if !more {
			return false
		}
	}
	return false
}

func (p patternPart) match(part string) bool {
	if p.nulls != "" || Nulls(part) {
		return p.nulls == part || p.nulls == "" && len(p.literals) > 1 && strings.Join(p.literals, "") == ""
	}
	text, err := DecodePart(part)
	if err != nil {
		return false
	}
	text = norm.NFC.String(text)
	last := len(p.literals) - 1
	if last == 0 {
		return text == p.literals[0]
	}
	if !strings.HasPrefix(text, p.literals[0]) {
		return false
	}
	text = text[len(p.literals[0]):]
	for _, literal := range p.literals[1:last] {
		i := strings.Index(text, literal)
		if i < 0 {
			return false
		}
		text = text[i+len(literal):]
	}
	return strings.HasSuffix(text, p.literals[last])
}
