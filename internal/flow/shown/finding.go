// Package shown is what people see of a finding, whatever they see it on: text, the interactive
// review, the page, a table that is handed round.
//
// The contract: in goes a finding with what is known about it, out come texts that are harmless
// wherever they stand. What is short for one surface and long for another says so itself (Lines,
// Line). Nothing is decided here. A table that comes back is read by the same room that says what
// stood in it.
package shown

import (
	"slices"
	"strings"

	"github.com/charmbracelet/x/ansi"

	"anagram/internal/core/check"
	"anagram/internal/core/decision"
	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/core/show"
	"anagram/internal/flow/decide"
	"anagram/internal/store/docket"
)

// Finding is a finding as people see it. Texts are harmless; Key is the address as it stands.
type Finding struct {
	ID         int64
	Key        string
	Address    string
	Was        string // the address that the target has it under, "" where it is the same
	Title      string
	Type       string
	Status     match.Status
	StatusText string // with its reasons
	Reasons    string
	Stands     decision.Decision
	Asks       bool     // somebody's word would bring it on, as long as it is not settled
	Spoke      []string // whose word counts, as names compare
	StandsText string   // with who said so, when and why
	InSource   bool
	InTarget   bool
	Known      bool // of some field what both last agreed on is known
	Fields     []Field
	Removal    string    // what becomes of a record that an import made; "" of any other
	Changed    []Changed // last on either side, where it is known
	Filled     string    // what the import gives a new record beside what the source brings
	Checks     []check.Check
	Words      []Word // what everybody said last, beside what StandsText says
	Said       []Said
}

// Word is what one person said last, of the record or of one field.
type Word struct{ Who, What, At, Note string }

// Field is a differing field, or one of a record that one side has.
type Field struct {
	Key      string // as it stands in the catalog
	Name     string
	Kind     record.Kind // Null where it is not known
	Source   *string     // nil is null
	Target   *string
	Agreed   *string
	Known    bool // Agreed is what both last had in common
	Moved    string
	Decision string // where it differs from the record's
}

// Said is what somebody asked or answered about a finding.
type Said struct{ Who, At, Text string }

// Of gives a finding of a docket as it is shown.
func Of(d *docket.Docket, r decide.Reviewed) Finding {
	h := d.Header
	out := Finding{
		ID: r.ID, Key: r.Address, Address: show.Harmless(r.Address), Was: show.Harmless(r.Was), Title: show.Harmless(r.Title),
		Type: r.Type, Status: r.Status, StatusText: StatusText(r.Finding), Reasons: reasonsText(r.Reasons),
		Stands: r.Stands(), Asks: r.Asks() && !r.Hopeless(), Spoke: spoke(r), StandsText: show.Harmless(standsText(h, r)),
		InSource: r.Status != match.TargetOnly, InTarget: !r.Adds(),
		Removal: RemovalText(h, r.Finding), Changed: changedOf(h, r.Finding), Filled: FilledText(h, r.Finding), Checks: Harmless(r.Checks),
	}
	t, _ := d.Type(r.Type)
	for _, f := range r.Fields {
		one := Field{Key: f.Field, Name: show.Harmless(f.Field), Source: f.Source, Target: f.Target, Agreed: f.Agreed,
			Known: f.AgreedKnown, Moved: f.Moved, Decision: f.Decision}
		if at := record.FieldAt(t.Fields, f.Field); at >= 0 {
			one.Kind = t.Fields[at].Kind
		}
		out.Known = out.Known || f.AgreedKnown
		out.Fields = append(out.Fields, one)
	}
	out.Words = wordsOf(r)
	for _, c := range r.Said {
		who := show.Harmless(c.Who)
		if c.To != "" {
			who += " to " + show.Harmless(c.To)
		}
		out.Said = append(out.Said, Said{who, c.At, show.Harmless(c.Text)})
	}
	return out
}

// spoke lists who said something that counts.
func spoke(r decide.Reviewed) []string {
	var out []string
	for _, w := range r.Finding.Said() {
		if name := decision.Name(w.Who); !slices.Contains(out, name) {
			out = append(out, name)
		}
	}
	return out
}

// Harmless gives checks whose texts can stand anywhere.
func Harmless(checks []check.Check) []check.Check {
	out := make([]check.Check, len(checks))
	for i, c := range checks {
		out[i] = c
		out[i].Message, out[i].Mend = show.Harmless(c.Message), show.Harmless(c.Mend)
	}
	return out
}

// Line is what one line says of a field, or of a place in it.
type Line struct{ Name, Source, Target, Agreed string }

func (f Field) texts() []*string {
	if f.Known {
		return []*string{f.Source, f.Target, f.Agreed}
	}
	return []*string{f.Source, f.Target}
}

func (f Field) line(name string, texts []*string) Line {
	out := Line{Name: name, Source: show.Readable(texts[0]), Target: show.Readable(texts[1]), Agreed: "not known"}
	if f.Known {
		out.Agreed = show.Readable(texts[2])
	}
	return out
}

// Line gives a field in one line; of values that are longer than room only what differs.
func (f Field) Line(room int) Line { return f.line(f.Name, show.Differing(f.texts(), room)) }

// mostPlaces is in how many places JSON values may differ to be shown place by place.
const mostPlaces = 30

// Lines gives a field in one line or more: JSON that is wider than room by the places in which it
// differs, other long texts by what differs of them.
func (f Field) Lines(room int) []Line {
	texts := f.texts()
	if !slices.ContainsFunc(texts, func(text *string) bool { return text != nil && ansi.StringWidth(*text) > room }) {
		return []Line{f.line(f.Name, texts)}
	}
	places, ok := show.JSONPlaces(texts)
	if !ok || f.Kind != record.JSON || len(places) > mostPlaces {
		return []Line{f.Line(room)}
	}
	var out []Line
	missing := "(not there)"
	for _, p := range places {
		values := slices.Clone(p.Values)
		for i, v := range values {
			if v == nil {
				values[i] = &missing
			}
		}
		out = append(out, f.line(strings.TrimSuffix(f.Name+"."+p.Path, "."), values))
	}
	return out
}
