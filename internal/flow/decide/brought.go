package decide

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"anagram/internal/core/answers"
	"anagram/internal/core/limit"
	"anagram/internal/files/safe"
	"anagram/internal/files/sheet"
	"anagram/internal/files/sshsig"
	"anagram/internal/flow/session"
	"anagram/internal/flow/standing"
	"anagram/internal/store/docket"
)

// brought is what one file brings into a docket.
type brought struct {
	entries    []docket.LogEntry
	comments   []docket.Comment
	signatures []docket.Signature
}

// reading is a docket into which files are read.
type reading struct {
	s         *session.Session
	d         *docket.Docket
	digest    string
	findings  map[int64]docket.Finding
	byAddress map[string]int64
	own       []docket.LogEntry
}

// newReading reads what answers can be about.
func newReading(ctx context.Context, s *session.Session, d *docket.Docket) (reading, error) {
	r := reading{s: s, d: d, findings: map[int64]docket.Finding{}, byAddress: map[string]int64{}}
	var err error
	if r.digest, err = d.Digest(ctx); err != nil {
		return r, err
	}
	if r.own, err = d.Log(ctx); err != nil {
		return r, err
	}
	for f, err := range d.Findings(ctx, docket.Filter{}) {
		if err != nil {
			return r, err
		}
		f.Source, f.Target = "", ""
		r.findings[f.ID] = f
		r.byAddress[sheet.Address(f.Address)] = f.ID
	}
	for id, f := range r.findings {
		r.byAddress[f.Address] = id // as it is comes before how another is written
	}
	return r, nil
}

// file reads what a file brings, by its form.
func (r reading) file(ctx context.Context, path string) (brought, error) {
	if _, err := os.Stat(path); errors.Is(err, fs.ErrNotExist) {
		return brought{}, session.Usage("There is no file %s. Nothing was read in", path)
	}
	switch strings.ToLower(filepath.Ext(path)) {
	case ".json":
		return r.answersFile(path)
	case ".xlsx":
		return r.workbook(path)
	case ".csv":
		return r.csv(path)
	default:
		entries, comments, signatures, err := readCopy(ctx, r.d, path, r.findings)
		return brought{entries, comments, signatures}, err
	}
}

// answersFile reads a file of answers, and the signature that lies beside it.
func (r reading) answersFile(path string) (brought, error) {
	var out brought
	text, err := safe.ReadSmall(path, limit.Answers)
	if err != nil {
		return out, session.Usage("%v. Nothing was read in", err)
	}
	file, err := answers.Read(text)
	if err != nil {
		return out, session.Usage("%s: %v. Nothing was read in", path, err)
	}
	if file.Digest != r.digest {
		return out, session.Usage("%s holds answers about another docket, or about an earlier match than docket %d. Nothing was read in", path, r.d.Header.Number)
	}
	var wrong problems
	for i, a := range file.Answers {
		wrong.add(fmt.Sprintf("answer %d", i+1), r.take(&out, file.Person, a))
	}
	if err := wrong.error(path); err != nil {
		return out, err
	}
	signature, err := safe.ReadSmall(path+".sig", limit.Configuration)
	if errors.Is(err, fs.ErrNotExist) {
		return out, nil
	}
	if err != nil {
		return out, session.Usage("%v. Nothing was read in", err)
	}
	if _, err := sshsig.Verify(signature, text, standing.Namespace); err != nil {
		return out, session.Usage("%s.sig is no signature of %s: %v. Nothing was read in; take it away to read the answers in unsigned", path, filepath.Base(path), err)
	}
	out.signatures = []docket.Signature{{Who: file.Person, Text: string(text), Signature: string(signature)}}
	return out, nil
}

// take adds what an answer says.
func (r reading) take(out *brought, person string, a answers.Answer) error {
	id, ok := r.byAddress[a.Address]
	if !ok {
		return fmt.Errorf("docket %d has no finding of %.200q", r.d.Header.Number, a.Address)
	}
	f := r.findings[id]
	if a.Comment != "" {
		out.comments = append(out.comments, docket.Comment{At: a.At, Who: person, Finding: id, Text: a.Comment})
	}
	if a.Decision == "" {
		return nil
	}
	if a.Field != "" && !slices.ContainsFunc(f.Fields, func(have docket.Field) bool { return have.Field == a.Field }) {
		return fmt.Errorf("%s has no field %.100q that differs", f.Address, a.Field)
	}
	decision, _ := standing.DecisionOf(a.Decision, a.Take)
	request := Request{Decision: decision, Field: a.Field, Take: a.Take}
	if decision == docket.TargetKept {
		request.Decision = docket.Approved
	}
	verdicts, ok := verdictsOn(f, request)
	switch {
	case !ok && (f.Hopeless() || f.Status == "target-only" && !f.Removes()):
		return fmt.Errorf("%s cannot be approved: it is %s", f.Address, f.Status)
	case !ok && f.Removes():
		return fmt.Errorf("%s would be removed: say take source to have that, or take target to keep it", f.Address)
	case !ok:
		return fmt.Errorf("%s is a %s: say whose values are right, take source or target", f.Address, f.Status)
	}
	for _, v := range verdicts {
		out.entries = append(out.entries, docket.LogEntry{At: a.At, Who: person, Finding: id, Field: v.Field, Decision: v.Decision, Note: a.Note})
	}
	return nil
}

// csv reads a table of a review that came back as CSV.
func (r reading) csv(path string) (brought, error) {
	var out brought
	in, err := safe.OpenPlain(path)
	if err != nil {
		return out, session.Usage("%v. Nothing was read in", err)
	}
	defer in.Close()
	t := r.tableReading(r.s.Who)
	err = sheet.ReadCSV(in, func(line int, cells []string) error { return t.row(&out, fmt.Sprintf("line %d", line), cells) })
	if err != nil {
		return out, session.Usage("%s: %v. Nothing was read in", path, err)
	}
	return out, t.wrong.error(path)
}

// workbook reads a table of a review that came back as a workbook: every sheet that is one.
func (r reading) workbook(path string) (brought, error) {
	var out brought
	in, err := safe.OpenPlain(path)
	if err != nil {
		return out, session.Usage("%v. Nothing was read in", err)
	}
	defer in.Close()
	book, err := sheet.OpenBook(in)
	if err != nil {
		return out, session.Usage("%s: %v. Nothing was read in", path, err)
	}
	defer book.Close()
	names := book.Sheets()
	if len(names) == 0 {
		return out, session.Usage("%s has no sheet. Nothing was read in", path)
	}
	digest, person := "", r.s.Who
	err = book.Texts(names[0], func(_ int, cells []string) error {
		if len(cells) > 1 {
			switch cells[0] {
			case SummaryDigest:
				digest = strings.TrimSpace(cells[1])
			case SummaryBy:
				if name := strings.TrimSpace(cells[1]); name != "" {
					person = name
				}
			}
		}
		return nil
	})
	if err != nil {
		return out, session.Usage("%s: sheet %s: %v. Nothing was read in", path, names[0], err)
	}
	if digest != r.digest {
		return out, session.Usage("%s is about another docket, or about an earlier match than docket %d. Nothing was read in", path, r.d.Header.Number)
	}
	if err := words("the name", person); err != nil || len(person) > limit.Name {
		return out, session.Usage("%s: the name under %q is too long. Nothing was read in", path, SummaryBy)
	}
	var wrong problems
	for _, name := range names[1:] {
		t := r.tableReading(person)
		err := book.Texts(name, func(number int, cells []string) error {
			return t.row(&out, fmt.Sprintf("sheet %s, row %d", name, number), cells)
		})
		if err != nil {
			return out, session.Usage("%s: sheet %s: %v. Nothing was read in", path, name, err)
		}
		wrong = append(wrong, t.wrong...)
	}
	return out, wrong.error(path)
}

// Labels of the summary sheet that are read again.
const (
	SummaryDigest = "digest"
	SummaryBy     = "decided by"
)

// tableReading is a table that is being read.
type tableReading struct {
	reading
	table  Table
	person string
	begun  *Decided
	wrong  problems
	said   map[saidOn]docket.LogEntry // the person's last word
}

type saidOn struct {
	finding int64
	field   string
}

func (r reading) tableReading(person string) *tableReading {
	t := &tableReading{reading: r, table: TableOf(r.d.Header, r.digest), person: person, said: map[saidOn]docket.LogEntry{}}
	for _, e := range r.own {
		if e.Who == person && !e.Rule {
			t.said[saidOn{e.Finding, e.Field}] = e
		}
	}
	return t
}

// row takes a row. What the person said before with the same note is not said again, so that
// a table can be read in twice.
func (t *tableReading) row(out *brought, where string, cells []string) error {
	if t.begun == nil {
		begun, err := t.table.Begin(cells)
		t.begun = &begun
		return err
	}
	a, ok, err := t.begun.Row(cells)
	if err != nil || !ok {
		t.wrong.add(where, err)
		return nil
	}
	a.At = docket.Stamp(t.s.Now())
	if err := words("the note", a.Note); err != nil {
		t.wrong.add(where, err)
		return nil
	}
	var one brought
	if err := t.take(&one, t.person, a); err != nil {
		t.wrong.add(where, err)
		return nil
	}
	for _, e := range one.entries {
		if last, known := t.said[saidOn{e.Finding, e.Field}]; !known || last.Decision != e.Decision || last.Note != e.Note {
			out.entries = append(out.entries, e)
		}
	}
	return nil
}

// problems are what was not understood, with its place.
type problems []string

func (p *problems) add(where string, err error) {
	if err != nil {
		*p = append(*p, where+": "+err.Error())
	}
}

// error names all that was not understood; nothing of the file is read in then.
func (p problems) error(path string) error {
	if len(p) == 0 {
		return nil
	}
	const most = 100
	text := strings.Join(p[:min(len(p), most)], "; ")
	if len(p) > most {
		text += fmt.Sprintf("; and %d more", len(p)-most)
	}
	return session.Usage("%s: nothing was read in, as this is not understood: %s", path, text)
}
