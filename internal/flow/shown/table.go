package shown

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"anagram/internal/core/answers"
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
	ColBy      // whose the answers of the row are; filled in
	ColMade    // when the table was made, UTC, RFC 3339
	ColChanged // last, on either side
	columns
)

var columnNames = [columns]string{"address", "title", "status", "field", "source", "target", "agreed", "moved", "checks", "stands",
	"decision", "take", "note", "docket", "by", "made", "changed"}

// Labels of the summary sheet that are read again.
const (
	SummaryDigest = "digest"
	SummaryBy     = "decided by"
)

// Table is the table of one docket.
type Table struct {
	header docket.Header
	digest string
	made   string
}

// TableOf gives the table of a docket with a digest, made at a time (UTC, RFC 3339).
func TableOf(h docket.Header, digest, made string) Table { return Table{h, digest, made} }

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
func (t Table) Rows(f Finding) [][]string {
	row := func() []string {
		cells := make([]string, columns)
		cells[ColMade] = t.made
		cells[ColAddress], cells[ColTitle], cells[ColStatus], cells[ColDocket] = sheet.Address(f.Key), sheet.Shown(f.Title), f.StatusText,
			t.Mark()
		return cells
	}
	first := row()
	first[ColChanged] = sheet.Shown(f.ChangedText())
	first[ColChecks], first[ColStands] = sheet.Shown(checksText(f)), sheet.Shown(standsCell(f))
	out := [][]string{first}
	for _, field := range f.Fields {
		line := field.Line(mostShown)
		cells := row()
		cells[ColField], cells[ColMoved], cells[ColStands] = sheet.Shown(field.Key), field.Moved, field.Decision
		if f.InSource {
			cells[ColSource] = sheet.Shown(line.Source)
		}
		if f.InTarget {
			cells[ColTarget] = sheet.Shown(line.Target)
		}
		if field.Known {
			cells[ColAgreed] = sheet.Shown(line.Agreed)
		}
		out = append(out, cells)
	}
	return out
}

// standsCell is how a finding stands, with everybody's word.
func standsCell(f Finding) string {
	parts := []string{f.StandsText}
	for _, w := range f.Words {
		parts = append(parts, w.Text())
	}
	return strings.Join(parts, " / ")
}

func checksText(f Finding) string {
	var parts []string
	if f.Removal != "" {
		parts = append(parts, f.Removal)
	}
	for _, c := range f.Checks {
		parts = append(parts, fmt.Sprintf("%s %s: %s %s", c.Level, c.Code, c.Message, c.Mend))
	}
	return strings.Join(parts, " / ")
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
		if _, twice := d.place[name]; twice && slices.Contains(columnNames[:], name) {
			return d, fmt.Errorf("there are two columns %q, and it cannot be told which of them counts. Take one away", name)
		}
		d.place[name] = i
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
	at := func(column int) string { return d.cell(cells, column) }
	a = answers.Answer{Address: at(ColAddress), Field: at(ColField), Decision: strings.ToLower(at(ColDecision)),
		Take: strings.ToLower(at(ColTake)), Note: at(ColNote)}
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

// cell gives what stands in a column of a row, "" where it has none.
func (d Decided) cell(cells []string, column int) string {
	if i, there := d.place[columnNames[column]]; there && i < len(cells) {
		return strings.TrimSpace(cells[i])
	}
	return ""
}

// By gives the name that stands in a row, "" for none.
func (d Decided) By(cells []string) string { return d.cell(cells, ColBy) }

// Made gives when the table was made that a row stands in, "" where it does not say.
func (d Decided) Made(cells []string) string { return d.cell(cells, ColMade) }

// Differs says in which column a row shows something else than the docket does, "" where it shows
// the same: then the row was altered, or its answer stands beside another record.
func (d Decided) Differs(cells, docket []string) string {
	for _, column := range []int{ColTitle, ColStatus, ColSource, ColTarget, ColAgreed} {
		if _, there := d.place[columnNames[column]]; !there {
			continue
		}
		if have := d.cell(cells, column); !alike(have, docket[column]) {
			return fmt.Sprintf("it shows %.60q under %s, where the docket has %.60q", have, columnNames[column], docket[column])
		}
	}
	return ""
}

// alike reports whether two cells say the same, as far as a spreadsheet program leaves it: blanks,
// the case of true and false, and the way in which numbers and dates are written may change.
func alike(a, b string) bool {
	a, b = strings.Join(strings.Fields(a), " "), strings.Join(strings.Fields(b), " ")
	if strings.EqualFold(a, b) {
		return a == b || strings.EqualFold(a, "true") || strings.EqualFold(a, "false")
	}
	one, errA := strconv.ParseFloat(strings.ReplaceAll(a, ",", "."), 64)
	other, errB := strconv.ParseFloat(strings.ReplaceAll(b, ",", "."), 64)
	if errA == nil && errB == nil {
		return one == other
	}
	return slices.Equal(digits(a), digits(b))
}

// digits gives the groups of digits of a date or time, in order of their size; nil where a text
// has anything else in it.
func digits(text string) []string {
	if strings.ContainsFunc(text, func(r rune) bool { return unicode.IsLetter(r) && r != 'T' && r != 'Z' }) {
		return []string{text}
	}
	var out []string
	for _, group := range strings.FieldsFunc(text, func(r rune) bool { return r < '0' || r > '9' }) {
		out = append(out, strings.TrimLeft(group, "0"))
	}
	if len(out) < 3 {
		return []string{text}
	}
	slices.Sort(out)
	return slices.DeleteFunc(out, func(group string) bool { return group == "" })
}
