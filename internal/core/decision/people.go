package decision

import (
	"fmt"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"

	"anagram/internal/core/catalog"
	"anagram/internal/core/limit"
	"anagram/internal/core/match"
	"anagram/internal/core/show"
)

// Name tells people apart: a name is the same however its letters are written.
func Name(who string) string { return strings.ToLower(norm.NFC.String(strings.TrimSpace(who))) }

// Unfit says why a text is no name of a person, "" where it is one: a sign that cannot be seen, or
// a letter that only looks like another, would make a second person of the first.
func Unfit(who string) string {
	switch name := norm.NFC.String(strings.TrimSpace(who)); {
	case name == "":
		return "it is empty"
	case utf8.RuneCountInString(name) > limit.Name:
		return fmt.Sprintf("it has more than %d characters", limit.Name)
	case !utf8.ValidString(name):
		return "it is not text in UTF-8"
	case Name(name) == "me" || Name(name) == "others":
		return "it is a word that stands for people in filters"
	case strings.ContainsFunc(name, show.Unseen):
		return "it has a sign that cannot be seen: " + show.Harmless(name)
	default:
		if one, other := scripts(name); other != "" {
			return fmt.Sprintf("it mixes letters of %s and %s, which can look alike", one, other)
		}
	}
	return ""
}

// scripts gives the first two scripts of which letters look alike and are mixed in one word.
func scripts(name string) (one, other string) {
	alike := []struct {
		name  string
		table *unicode.RangeTable
	}{{"Latin", unicode.Latin}, {"Cyrillic", unicode.Cyrillic}, {"Greek", unicode.Greek}, {"Armenian", unicode.Armenian},
		{"Cherokee", unicode.Cherokee}}
	for _, word := range strings.FieldsFunc(name, func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsMark(r) }) {
		first := ""
		for _, r := range word {
			for _, script := range alike {
				switch {
				case !unicode.Is(script.table, r):
				case first == "":
					first = script.name
				case first != script.name:
					return first, script.name
				}
			}
		}
	}
	return "", ""
}

// Person is what one person said of one finding.
type Person struct{ voice voice }

// Hear takes a word of the log, which is the seq-th. What was said elsewhere comes later into
// the log than it was said: the latest word counts.
func (p *Person) Hear(w Word, seq int) {
	w.Seq = int64(seq)
	p.voice.hear(w)
}

// Writing is what is going to be written of a finding.
type Writing struct {
	Whole    bool     // the record is added or removed
	Fields   []string // else those that are written
	Proposed []string // of these: those that the finding proposes by itself
	// Writes reports whether a field of a whole record is written.
	Writes func(field string) bool
}

// Wants reports whether the person approves all that is going to be written.
func (p *Person) Wants(w Writing) bool {
	if w.Whole {
		if p.voice.record == nil || p.voice.record.Decision != Approved {
			return false
		}
		for field := range p.voice.fields { // who wants a field of it left out wants another record
			if own := p.voice.own(field); own != nil && own.Decision != Approved && w.Writes(field) {
				return false
			}
		}
		return true
	}
	for _, field := range w.Fields {
		proposes := match.Choose // what is not proposed needs a word of its own
		if slices.Contains(w.Proposed, field) {
			proposes = match.Write
		}
		if says, _ := p.voice.on(field, proposes); says != Approved {
			return false
		}
	}
	return len(w.Fields) > 0
}

// MayApprove gives who may approve records of a type: those named for the type, else those
// for the areas it is in, else those for everything.
func MayApprove(approvers map[string][]string, c *catalog.Catalog, typ string) []string {
	if people, ok := approvers[typ]; ok {
		return people
	}
	var out []string
	inArea := false
	for _, area := range c.Areas {
		if people, ok := approvers[area.Name]; ok && slices.Contains(area.Types, typ) {
			inArea = true
			out = append(out, people...)
		}
	}
	if inArea {
		return out
	}
	return approvers["*"]
}
