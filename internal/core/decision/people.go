package decision

import (
	"slices"
	"strings"

	"golang.org/x/text/unicode/norm"

	"anagram/internal/core/catalog"
)

// Name tells people apart: a name is the same however its letters are written.
func Name(who string) string { return strings.ToLower(norm.NFC.String(strings.TrimSpace(who))) }

// Word is one entry of a log about one finding.
type Word struct {
	Decision Decision
	Field    string // "" is the record
	At       string // when it was said, in a form that sorts by time
}

// Person is what one person said of one finding.
type Person struct {
	record  Word
	stopped int // the last word on the record that was no approval
	fields  map[string]onField
}

type onField struct {
	decision Decision
	seq      int
	at       string
}

// Hear takes a word of the log, which is the seq-th. What was said elsewhere comes later into
// the log than it was said: the latest word counts.
func (p *Person) Hear(w Word, seq int) {
	if w.Field != "" {
		if p.fields == nil {
			p.fields = map[string]onField{}
		}
		if old, ok := p.fields[w.Field]; !ok || w.At >= old.at {
			p.fields[w.Field] = onField{w.Decision, seq, w.At}
		}
		return
	}
	if w.At < p.record.At {
		return
	}
	p.record = w
	if w.Decision != Approved {
		p.stopped = seq
	}
}

// approves reports whether the person wants a field written, or with "" the record as such.
func (p *Person) approves(field string, proposed bool) bool {
	if own, ok := p.fields[field]; ok && field != "" && own.decision != Reopened {
		return own.decision == Approved && own.seq > p.stopped
	}
	return p.record.Decision == Approved && proposed
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
		if !p.approves("", true) {
			return false
		}
		for field, own := range p.fields { // who wants a field of it left out wants another record
			if own.decision != Approved && own.decision != Reopened && w.Writes(field) {
				return false
			}
		}
		return true
	}
	for _, field := range w.Fields {
		if !p.approves(field, slices.Contains(w.Proposed, field)) {
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
