package decide

import (
	"fmt"
	"slices"
	"strings"

	"anagram/internal/core/answers"
	"anagram/internal/core/group"
	"anagram/internal/core/match"
	"anagram/internal/core/show"
	"anagram/internal/files/sheet"
	"anagram/internal/store/docket"
)

// A review as a table that is handed round: a row for each record and, below it, one for each
// differing field. Whoever decides fills in the last cells of a row; all others are only
// looked at. Table says what is in the cells, for those who write them and who read them.

// Columns of such a table.
const (
	ColAddress = iota
	ColTitle
	ColStatus
	ColField
	ColSource
	ColTarget
	ColAgreed
	ColMoved
	ColChecks
	ColStands
	ColDecision
	ColTake
	ColNote
	ColDocket
	columns
)

var columnNames = [columns]string{"address", "title", "status", "field", "source", "target", "agreed", "moved", "checks", "stands", "decision", "take", "note", "docket"}

// Table is the table of one docket.
type Table struct {
	header docket.Header
	digest string
}

// TableOf gives the table of a docket with a digest.
func TableOf(h docket.Header, digest string) Table { return Table{h, digest} }

// Mark is what each row says of the docket that it is about.
func (t Table) Mark() string { return fmt.Sprintf("%d:%s", t.header.Number, t.digest[:16]) }

// Header gives the first row.
func (t Table) Header() []string {
	out := slices.Clone(columnNames[:])
	out[ColSource] += " (" + sheet.Shown(t.header.Source) + ")"
	out[ColTarget] += " (" + sheet.Shown(t.header.Target) + ")"
	return out
}

// mostShown is how long a value may be before only the part that differs is shown.
const mostShown = 200

// Rows gives the rows of a finding: that of the record first.
func (t Table) Rows(r Reviewed) [][]string {
	status := StatusText(r.Finding)
	row := func() []string {
		cells := make([]string, columns)
		cells[ColAddress], cells[ColTitle], cells[ColStatus], cells[ColDocket] = sheet.Address(r.Address), sheet.Shown(show.Harmless(r.Title)), status, t.Mark()
		return cells
	}
	first := row()
	first[ColChecks], first[ColStands] = sheet.Shown(t.checksText(r)), sheet.Shown(StandsText(r))
	out := [][]string{first}
	for _, f := range r.Fields {
		texts := []*string{f.Source, f.Target}
		if f.AgreedKnown {
			texts = append(texts, f.Agreed)
		}
		texts = show.Differing(texts, mostShown)
		cells := row()
		cells[ColField], cells[ColMoved], cells[ColStands] = sheet.Shown(f.Field), f.Moved, f.Decision
		if r.Status != match.TargetOnly {
			cells[ColSource] = sheet.Shown(show.Readable(texts[0]))
		}
		if !r.Adds() {
			cells[ColTarget] = sheet.Shown(show.Readable(texts[1]))
		}
		if f.AgreedKnown {
			cells[ColAgreed] = sheet.Shown(show.Readable(texts[2]))
		}
		out = append(out, cells)
	}
	return out
}

func (t Table) checksText(r Reviewed) string {
	var parts []string
	if removal := RemovalText(t.header, r.Finding); removal != "" {
		parts = append(parts, removal)
	}
	for _, c := range r.Checks {
		parts = append(parts, fmt.Sprintf("%s %s: %s %s", c.Level, c.Code, show.Harmless(c.Message), show.Harmless(c.Mend)))
	}
	return strings.Join(parts, " / ")
}

// StandsText says how a finding stands and by whom, for cells.
func StandsText(r Reviewed) string {
	text := string(r.Stand())
	if r.Stand() == docket.Undecided {
		if r.Before.Docket != 0 {
			text += fmt.Sprintf("; approved before by %s in docket %d, as it still is", show.Harmless(r.Before.Who), r.Before.Docket)
		}
		return text
	}
	switch {
	case r.ByRule:
		text += " by a standing rule"
	case len(r.Approvers) > 1 && r.Decision == docket.Approved:
		text += " by " + show.Harmless(strings.Join(r.Approvers, ", "))
	case r.DecidedBy != "":
		text += " by " + show.Harmless(r.DecidedBy)
	}
	if r.Note != "" {
		text += ": " + show.Harmless(r.Note)
	}
	return text
}

// Decided reads a table that came back.
type Decided struct {
	table Table
	place map[string]int // name -> column
}

// Begin reads a first row.
func (t Table) Begin(header []string) (Decided, error) {
	d := Decided{table: t, place: map[string]int{}}
	for i, name := range header {
		name, _, _ = strings.Cut(strings.ToLower(strings.TrimSpace(name)), " (")
		if _, twice := d.place[name]; !twice {
			d.place[name] = i
		}
	}
	for _, want := range []int{ColAddress, ColField, ColDecision, ColTake, ColNote, ColDocket} {
		if _, ok := d.place[columnNames[want]]; !ok {
			return d, fmt.Errorf("there is no column %q, so this is no table of a review", columnNames[want])
		}
	}
	return d, nil
}

// Row reads a row; ok is false where nothing is decided in it. The time of the answer is not
// filled in.
func (d Decided) Row(cells []string) (a answers.Answer, ok bool, err error) {
	at := func(column int) string {
		if i := d.place[columnNames[column]]; i < len(cells) {
			return strings.TrimSpace(cells[i])
		}
		return ""
	}
	a = answers.Answer{Address: at(ColAddress), Field: at(ColField), Decision: strings.ToLower(at(ColDecision)), Take: strings.ToLower(at(ColTake)), Note: at(ColNote)}
	if mark := at(ColDocket); mark != d.table.Mark() && (mark != "" || a.Address != "") {
		return a, false, fmt.Errorf("it is about another docket or an earlier match (%.60q instead of %q)", mark, d.table.Mark())
	}
	for _, side := range []struct{ word, name string }{{"source", d.table.header.Source}, {"target", d.table.header.Target}} {
		if strings.EqualFold(a.Take, side.name) {
			a.Take = side.word
		}
	}
	switch {
	case a.Decision == "" && a.Take == "" && a.Note == "":
		return a, false, nil
	case a.Address == "":
		return a, false, fmt.Errorf("something is decided, but of no record")
	case a.Decision == "" && a.Take != "":
		a.Decision = "approve" // a side is only taken by approving
	case a.Decision == "":
		return a, false, fmt.Errorf("there is a note but no decision")
	}
	if !slices.Contains(answers.Decisions(), a.Decision) {
		return a, false, fmt.Errorf("the decision %.60q is not known; it is approve, decline, hold or reopen", a.Decision)
	}
	if a.Take != "" && (a.Decision != "approve" || a.Take != "source" && a.Take != "target") {
		return a, false, fmt.Errorf("take is source or target, and goes with approve; it is %.60q", a.Take)
	}
	return a, true, nil
}

// CauseText says what holds a group together.
func CauseText(g docket.Group, target string) string {
	switch g.Cause {
	case group.Awaiting:
		return "is neither in " + target + " nor in this docket; all of these wait for it"
	case group.OfOwner:
		return "parts of it"
	default:
		return "with its parts and what waits for it"
	}
}

// StatusText says the status of a finding with its reasons.
func StatusText(f docket.Finding) string {
	if len(f.Reasons) == 0 {
		return string(f.Status)
	}
	words := make([]string, len(f.Reasons))
	for i, reason := range f.Reasons {
		words[i] = string(reason)
	}
	return string(f.Status) + " (" + strings.Join(words, ", ") + ")"
}

// RemovalText says what becomes of a record that an import made, where that is taken back; "" of
// any other finding.
func RemovalText(h docket.Header, f docket.Finding) string {
	if !f.Removes() {
		return ""
	}
	return fmt.Sprintf("the import of docket %d made it; approved, it is removed", h.Restores)
}

// FilledText says what an import gives a new record beside what the source brings; "" for
// nothing.
func FilledText(h docket.Header, f docket.Finding) string {
	if !f.Adds() || f.Hopeless() {
		return ""
	}
	words := map[string]string{"time": "the time of the import", "person": "who imports"}
	var parts []string
	for _, of := range h.Fills[f.Type].New {
		what, ok := words[of.What]
		if !ok {
			what = show.Readable(&of.Value)
		}
		parts = append(parts, show.Harmless(of.Field)+": "+what)
	}
	return strings.Join(parts, "; ")
}

// AroundTexts says what an import of a docket runs, and reminds people of; nil for nothing.
func AroundTexts(h docket.Header) []string {
	if h.Around == nil {
		return nil
	}
	var out []string
	for _, of := range []struct {
		what string
		list []string
	}{{"before the import, run", h.Around.Before}, {"before the import, to do", h.Around.RemindBefore}, {"after the import, run", h.Around.After}, {"after the import, to do", h.Around.RemindAfter}} {
		for _, text := range of.list {
			out = append(out, of.what+": "+show.Harmless(text))
		}
	}
	return out
}
