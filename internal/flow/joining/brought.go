package joining

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"anagram/internal/core/answers"
	"anagram/internal/core/decision"
	"anagram/internal/core/limit"
	"anagram/internal/core/show"
	"anagram/internal/files/safe"
	"anagram/internal/files/sheet"
	"anagram/internal/files/sshsig"
	"anagram/internal/flow/decide"
	"anagram/internal/flow/session"
	"anagram/internal/flow/shown"
	"anagram/internal/flow/standing"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/run"
)

// brought is what one file brings into a docket.
type brought struct {
	ofOthers   []decide.Other // that were to be opened again and that only others decided
	entries    []docket.LogEntry
	comments   []docket.Comment
	signatures []docket.Signature
}

// reading is a docket into which files are read.
type reading struct {
	s         *session.Session
	d         *docket.Docket
	digest    string
	own       []docket.LogEntry
	*findings // what answers can be about
}

// findings are those of a docket, which are read when they are first asked for: not before a file
// is read that takes much memory itself.
type findings struct {
	byID      map[int64]docket.Finding
	byAddress map[string]int64
}

func newReading(ctx context.Context, s *session.Session, d *docket.Docket) (reading, error) {
	r := reading{s: s, d: d, findings: &findings{}}
	var err error
	if r.digest, err = d.Digest(ctx); err != nil {
		return r, err
	}
	if r.own, err = d.Log(ctx); err != nil {
		return r, err
	}
	return r, nil
}

// look reads the findings, unless they were read.
func (r reading) look(ctx context.Context) error {
	if r.byID != nil {
		return nil
	}
	byID, byAddress := map[int64]docket.Finding{}, map[string]int64{}
	for f, err := range r.d.Found.Outlines(ctx) {
		if err != nil {
			return err
		}
		byID[f.ID] = f
		byAddress[sheet.Address(f.Address)] = f.ID
	}
	for id, f := range byID {
		byAddress[f.Address] = id // as it is comes before how another is written
	}
	r.byID, r.byAddress = byID, byAddress
	return nil
}

// file reads what a file brings, by its form.
func (r reading) file(ctx context.Context, path string) (brought, error) {
	if _, err := os.Stat(path); errors.Is(err, fs.ErrNotExist) {
		return brought{}, session.Usage("There is no file %s. Nothing was read in", path)
	}
	switch strings.ToLower(filepath.Ext(path)) {
	case ".json":
		return r.answersFile(ctx, path)
	case ".xlsx":
		return r.workbook(ctx, path)
	case ".csv":
		return r.csv(ctx, path)
	default:
		if err := r.look(ctx); err != nil {
			return brought{}, err
		}
		entries, comments, signatures, err := readCopy(ctx, r.d, r.s.Now(), path, r.byID)
		return brought{entries: entries, comments: comments, signatures: signatures}, err
	}
}

// answersFile reads a file of answers, and the signature that lies beside it.
func (r reading) answersFile(ctx context.Context, path string) (brought, error) {
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
		return out,
			session.Usage("%s holds answers about another docket, or about an earlier match than docket %d. Nothing was read in", path, r.d.Header.Number)
	}
	if err := r.look(ctx); err != nil {
		return out, err
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
		return out,
			session.Usage("%s.sig is no signature of %s: %v. Nothing was read in; take it away to read the answers in unsigned",
				path, filepath.Base(path), err)
	}
	out.signatures = []docket.Signature{{Who: file.Person, Text: string(text), Signature: string(signature)}}
	return out, nil
}

// take adds what an answer says.
func (r reading) take(out *brought, person string, a answers.Answer) error {
	if ahead(a.At, r.s.Now()) {
		return fmt.Errorf("%.200s is answered at %s, which is in the future", a.Address, a.At)
	}
	if at, err := time.Parse(time.RFC3339, a.At); err == nil {
		a.At = run.Stamp(at) // times are compared as texts
	}
	id, ok := r.byAddress[a.Address]
	if !ok {
		return fmt.Errorf("docket %d has no finding of %.200q", r.d.Header.Number, a.Address)
	}
	f := r.byID[id]
	if a.Comment != "" {
		out.comments = append(out.comments, docket.Comment{At: a.At, Who: person, Finding: id, Text: a.Comment})
	}
	if a.Decision == "" {
		return nil
	}
	if a.Field != "" && !slices.ContainsFunc(f.Fields, func(have docket.Field) bool { return have.Field == a.Field }) {
		return fmt.Errorf("%s has no field %.100q that differs", f.Address, a.Field)
	}
	what, _ := standing.DecisionOf(a.Decision, a.Take)
	request := decide.Request{Decision: what, Field: a.Field, Take: a.Take}.Of(person, true)
	if what == decision.TargetKept {
		request.Decision = decision.Approved
	}
	verdicts, ok := decide.Verdicts(f, request)
	switch {
	case !ok && (f.Hopeless() || f.Status == "target-only" && !f.Removes()):
		return fmt.Errorf("%s cannot be approved: it is %s", f.Address, f.Status)
	case !ok && f.Removes():
		return fmt.Errorf("%s would be removed: say take source to have that, or take target to keep it", f.Address)
	case !ok:
		return fmt.Errorf("%s is a %s: say whose values are right, take source or target", f.Address, f.Status)
	}
	if len(verdicts) == 0 && f.Touched() {
		out.ofOthers = append(out.ofOthers, decide.OtherOf(f))
	}
	for _, v := range verdicts {
		out.entries = append(out.entries, docket.LogEntry{At: a.At, Who: person, Finding: id, Field: v.Field, Decision: v.Decision,
			Note: a.Note})
	}
	return nil
}

// csv reads a table of a review that came back as CSV.
func (r reading) csv(ctx context.Context, path string) (brought, error) {
	var out brought
	in, err := safe.OpenPlain(path)
	if err != nil {
		return out, session.Usage("%v. Nothing was read in", err)
	}
	defer in.Close()
	t := r.tableReading(r.s.Who)
	err = sheet.ReadCSV(in, func(line int, cells []string) error { return t.row(fmt.Sprintf("line %d", line), cells) })
	if err != nil {
		return out, session.Usage("%s: %v. Nothing was read in", path, err)
	}
	wrong, err := t.take(ctx, &out)
	if err != nil {
		return out, err
	}
	return out, wrong.error(path)
}

// workbook reads a table of a review that came back as a workbook: every sheet that is one.
func (r reading) workbook(ctx context.Context, path string) (brought, error) {
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
			case shown.SummaryDigest:
				digest = strings.TrimSpace(cells[1])
			case shown.SummaryBy:
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
		return out, session.Usage("%s is about another docket, or about an earlier match than docket %d. Nothing was read in", path,
			r.d.Header.Number)
	}
	if why := decision.Unfit(person); why != "" {
		return out, session.Usage("%s: the name under %q cannot be used: %s. Nothing was read in", path, shown.SummaryBy, why)
	}
	var tables []*tableReading
	for _, name := range names[1:] {
		t := r.tableReading(person)
		tables = append(tables, t)
		err := book.Texts(name, func(number int, cells []string) error {
			return t.row(fmt.Sprintf("sheet %s, row %d", name, number), cells)
		})
		if err != nil {
			return out, session.Usage("%s: sheet %s: %v. Nothing was read in", path, name, err)
		}
	}
	_ = book.Close()
	var wrong problems
	for _, t := range tables {
		more, err := t.take(ctx, &out)
		if err != nil {
			return out, err
		}
		wrong = append(wrong, more...)
	}
	return out, wrong.error(path)
}

// tableReading is a table that is being read.
type tableReading struct {
	reading
	table  shown.Table
	person string // whose answers are that no name stands beside
	begun  *shown.Decided
	rows   []answered
	said   map[saidOn]docket.LogEntry // each person's last word
}

// answered is a row of a table that says something, or is not understood.
type answered struct {
	where  string
	who    string
	answer answers.Answer
	cells  []string
	wrong  error
}

type saidOn struct {
	who     string
	finding int64
	field   string
}

func (r reading) tableReading(person string) *tableReading {
	t := &tableReading{reading: r, table: shown.TableOf(r.d.Header, r.digest, ""), person: person, said: map[saidOn]docket.LogEntry{}}
	for _, e := range r.own {
		if !e.Rule {
			t.said[saidOn{decision.Name(e.Who), e.Finding, e.Field}] = e
		}
	}
	return t
}

// row reads a row.
func (t *tableReading) row(where string, cells []string) error {
	if t.begun == nil {
		begun, err := t.table.Begin(cells)
		t.begun = &begun
		return err
	}
	a, ok, err := t.begun.Row(cells)
	one := answered{where: where, who: t.person, answer: a}
	if err == nil && ok {
		one.cells = slices.Clone(cells)
		if by := t.begun.By(cells); by != "" {
			one.who = by
		}
		one.answer.At, err = t.saidAt(cells)
		if why := decision.Unfit(one.who); err == nil && why != "" {
			err = fmt.Errorf("the name %s cannot be used: %s", show.Harmless(one.who), why)
		}
		if err == nil {
			err = decide.Words("the note", a.Note)
		}
	}
	if one.wrong = err; err != nil || ok {
		t.rows = append(t.rows, one)
	}
	return nil
}

// saidAt is when the answers of a table were given: it is of the time at which it was made, so that
// an old table does not come before what was decided since.
func (t *tableReading) saidAt(cells []string) (string, error) {
	made := t.begun.Made(cells)
	if made == "" {
		return run.Stamp(t.s.Now()), nil
	}
	at, err := time.Parse(time.RFC3339, made)
	switch {
	case err != nil:
		return "", fmt.Errorf("when the table was made, %.40q, is no time", made)
	case ahead(made, t.s.Now()):
		return "", fmt.Errorf("the table was made at %s, which is in the future", made)
	}
	return run.Stamp(at), nil
}

// take adds what the rows say, once all of them are read. What the person said before with the
// same note is not said again, so that a table can be read in twice.
func (t *tableReading) take(ctx context.Context, out *brought) (wrong problems, err error) {
	if err := t.look(ctx); err != nil {
		return nil, err
	}
	if err := t.compare(ctx); err != nil {
		return nil, err
	}
	for _, row := range t.rows {
		var one brought
		if row.wrong == nil {
			row.wrong = t.reading.take(&one, row.who, row.answer)
		}
		wrong.add(row.where, row.wrong)
		if row.wrong != nil {
			continue
		}
		out.ofOthers = append(out.ofOthers, one.ofOthers...)
		for _, e := range one.entries {
			last, known := t.said[saidOn{decision.Name(row.who), e.Finding, e.Field}]
			if !known || last.Decision != e.Decision || last.Note != e.Note {
				out.entries = append(out.entries, e)
			}
		}
	}
	return wrong, nil
}

// compare holds what the answered rows show against the docket: an answer beside a record that is
// shown otherwise is one to something else.
func (t *tableReading) compare(ctx context.Context) error {
	byID := map[int64][]int{}
	var ids []int64
	for i, row := range t.rows {
		id, known := t.byAddress[row.answer.Address]
		if row.wrong != nil || !known {
			continue
		}
		if byID[id] == nil {
			ids = append(ids, id)
		}
		byID[id] = append(byID[id], i)
	}
	for batch := range slices.Chunk(ids, mostAtOnce) {
		for f, err := range t.d.Found.Findings(ctx, docket.Filter{IDs: batch}) {
			if err != nil {
				return err
			}
			rows := t.table.Rows(shown.Of(t.d, decide.Reviewed{Finding: f}))
			for _, i := range byID[f.ID] {
				row := &t.rows[i]
				at := slices.IndexFunc(rows, func(cells []string) bool { return cells[shown.ColField] == sheet.Shown(row.answer.Field) })
				if at < 0 {
					continue // said when it is taken
				}
				if differs := t.begun.Differs(row.cells, rows[at]); differs != "" {
					row.wrong = fmt.Errorf("%s: %s. Take the answer out of an unaltered table", row.answer.Address, differs)
				}
			}
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

// skew is how far the clock of another machine may be ahead.
const skew = 10 * time.Minute

// ahead reports whether a time is in the future.
func ahead(stamp string, now time.Time) bool {
	at, err := time.Parse(time.RFC3339, stamp)
	return err != nil || at.After(now.Add(skew))
}
