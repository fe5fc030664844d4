package matching

import (
	"bytes"
	"context"
	"fmt"
	"path/filepath"
	"strings"

	"anagram/internal/core/catalog"
	"anagram/internal/core/check"
	"anagram/internal/core/match"
	"anagram/internal/core/pairing"
	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/flow/agreed"
	"anagram/internal/flow/choose"
	"anagram/internal/flow/decide"
	"anagram/internal/flow/library"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
	"anagram/internal/store/parcel"
	"anagram/internal/store/sorting"
)

// MatchResult says what a match found.
type Result struct {
	Header   docket.Header
	Types    []docket.Type
	Blockers int
	Cautions int
	Docket   []check.Check // on the whole docket
	Carried  int           // findings decided as in an earlier docket
}

// MatchRequest says what to match with what.
type Request struct {
	Parcel  string
	Against string // an environment or another parcel
	// Agreed is a parcel with what both sides last had in common; "" takes what was
	// remembered.
	Agreed string
	// Fresh says that the parcel was exported just now, so that the source need not be asked
	// whether it went on.
	Fresh bool
}

// Match compares a parcel with an environment and makes a docket of what differs.
func Match(ctx context.Context, s *session.Session, r Request) (Result, error) {
	var result Result
	parcelName, target := r.Parcel, r.Against
	p, err := library.Verified(ctx, s, parcelName)
	if err != nil {
		return result, err
	}
	defer p.Close()
	name := library.LibraryName(s, p)
	if p.Manifest.Source == target && p.Manifest.Origin == "" {
		return result, session.Usage("Parcel %s was exported from %s itself; name another environment with --against", name, target)
	}
	c, err := s.Workspace.Catalog()
	if err != nil {
		return result, err
	}
	if err := SameKeys(p, c, s.Workspace.CatalogName()); err != nil {
		return result, err
	}
	against, err := OpenTarget(ctx, s, target, c)
	if err != nil {
		return result, err
	}
	defer against.Close()
	env, target := against.Described, against.Name
	scratch, err := s.Workspace.Scratch()
	if err != nil {
		return result, err
	}
	b, err := docket.Create(ctx, scratch)
	if err != nil {
		return result, err
	}
	defer b.Discard()
	m := &matching{
		session: s, parcel: p, env: env, builder: b, scratch: scratch, target: target, catalog: c, against: against.Parcel,
		model:     &environment.Model{Environment: target, Catalog: c, Shapes: p.Manifest.Keys},
		ambiguous: map[string]map[string]bool{},
	}
	if err := m.openAgreed(ctx, r.Agreed); err != nil {
		return result, err
	}
	defer m.closeAgreed()
	if m.selection, err = choose.SelectTypes(p.Catalog, p.Manifest.Selection); err != nil {
		return result, err
	}
	if err := m.fits(); err != nil {
		return result, err
	}
	if err := m.selection.Compile(c, target, env.About.Places, p.Manifest.Selection); err != nil {
		return result, err
	}
	if err := m.checkFit(ctx); err != nil {
		return result, err
	}
	if err := m.checkTimes(ctx, r.Fresh); err != nil {
		return result, err
	}
	if err := m.checkAgreed(ctx); err != nil {
		return result, err
	}
	m.likely = pairing.New(c, m.model.Shapes)
	if err := m.readPairs(ctx); err != nil {
		return result, err
	}
	for _, t := range c.Types {
		if pt, ok := p.Manifest.Type(t.Name); ok {
			if err := m.matchType(ctx, t, pt); err != nil {
				return result, err
			}
		}
	}
	if err := m.oneSided(ctx); err != nil {
		return result, err
	}
	dockets, err := s.Workspace.Dockets()
	if err != nil {
		return result, err
	}
	numbers, err := s.Workspace.DocketNumbers()
	if err != nil {
		return result, err
	}
	m.number = 1
	if len(numbers) > 0 {
		m.number = numbers[len(numbers)-1] + 1
	}
	if m.against == nil { // with a parcel nothing will be imported
		if err := m.taken(ctx); err != nil {
			return result, err
		}
		if err := m.resolveNeeds(ctx); err != nil {
			return result, err
		}
		if err := m.referredDiffers(ctx); err != nil {
			return result, err
		}
	}
	file, err := filepath.Abs(p.Path())
	if err != nil {
		return result, err
	}
	header := docket.Header{
		Number: m.number, Parcel: name, ParcelFile: file, ParcelSeal: p.Manifest.Seal, Source: p.Manifest.Source,
		ExportedAt: p.Manifest.ExportedAt, ExportedBy: p.Manifest.ExportedBy, Target: target, TargetAddress: env.About.Address,
		MatchedAt: docket.Stamp(s.Now()), MatchedBy: s.Who, Keys: p.Manifest.Keys, NotCompared: m.notCompared, Program: s.Program,
		Paired: m.pairs, Resealed: p.Manifest.Resealed, ByHand: p.Manifest.Origin != "",
	}
	if t := against.Parcel; t != nil {
		header.TargetParcel, header.TargetExportedAt, header.TargetExportedBy = library.LibraryName(s, t), t.Manifest.ExportedAt, t.Manifest.ExportedBy
	}
	taken, err := b.Finish(ctx, filepath.Join(dockets, fmt.Sprintf("%04d.docket", m.number)), header, c.Source)
	if err != nil {
		return result, err
	}
	if taken { // another match finished in between; checks name the docket, so this one is done again
		return Match(ctx, s, r)
	}
	if err := m.keepAgreed(ctx); err != nil {
		return result, err
	}
	result = Result{Header: header, Types: m.types, Blockers: m.blockers, Cautions: m.cautions, Docket: m.whole}
	result.Carried, err = decide.Carry(ctx, s, s.Workspace.DocketPath(m.number), header)
	return result, err
}

// matching is one match at work.
type matching struct {
	session     *session.Session
	parcel      *parcel.Reader
	env         session.Described
	builder     *docket.Builder
	scratch     string
	target      string
	catalog     *catalog.Catalog
	model       *environment.Model
	selection   choose.Chosen
	number      int
	against     *parcel.Reader  // nil where the target is an environment
	agreed      *parcel.Reader  // nil where nothing is known of what both last agreed on
	agreeing    *agreed.Writing // nil where nothing is remembered
	renames     *renames        // of the type at work; nil where none are looked for
	names       *pairing.Names  // of the target's records; nil where nothing is paired
	agreedNames *pairing.Names
	likely      *pairing.Names  // what looks paired so far
	pairs       []docket.Paired // those that are in use
	adding      bool            // the finding at work is new
	address     string          // of the finding at work
	ruling      *ruling         // of the type at work; nil where the target has no rules
	claims      *claiming       // of the type at work; nil where nothing is unique beside the key

	ambiguous   map[string]map[string]bool // type -> key order
	types       []docket.Type
	notCompared []string
	whole       []check.Check
	blockers    int
	cautions    int
}

// fits refuses a target in which the catalog does not hold, unless it is just that a
// whole type is not there: then the type is not compared, and that is said.
func (m *matching) fits() error {
	var names []string
	for _, t := range m.parcel.Manifest.Types {
		names = append(names, t.Name)
	}
	var bad []catalog.Problem
	for _, p := range m.env.Problems(m.catalog, names) {
		if !p.Missing {
			bad = append(bad, p)
		}
	}
	if len(bad) > 0 {
		return &session.CatalogError{Catalog: m.session.Workspace.CatalogName(), Environment: m.target, Problems: bad}
	}
	return nil
}

func (m *matching) caution(ctx context.Context, what, message, mend string) error {
	c := check.Check{Code: check.NotOnBothSides, Level: check.Caution, Message: message, Mend: mend}
	m.notCompared = append(m.notCompared, what)
	m.whole = append(m.whole, c)
	m.cautions++
	return m.builder.Check(ctx, 0, docket.Check{Check: c})
}

// fields gives the fields that both sides have, and where each stands in the
// parcel's records.
func (m *matching) fields(ctx context.Context, t *catalog.Type, pt parcel.Type) (fields []record.Field, at []int, err error) {
	there := m.env.Fit.Fields[t.Name]
	for i, field := range pt.Fields {
		j := record.FieldAt(there, field.Name)
		if j < 0 {
			if err := m.caution(ctx, t.Name+"."+field.Name,
				fmt.Sprintf("Field %s of %s is in %s but not in %s; it was not compared and will not be written.", field.Name, t.Name, m.parcel.Manifest.Source, m.target),
				"Put it under ignore: in the catalog if that is as it should be."); err != nil {
				return nil, nil, err
			}
			continue
		}
		field.Required = there[j].Required
		field.Rule = t.Rules[field.Name]
		fields, at = append(fields, field), append(at, i)
	}
	for _, field := range there {
		if without := m.parcel.Manifest.Selection.NoFiles && field.Kind == record.Bytes; !without && record.FieldAt(pt.Fields, field.Name) < 0 {
			if err := m.caution(ctx, t.Name+"."+field.Name,
				fmt.Sprintf("Field %s of %s is in %s but not in the parcel; it was not compared and will not be written.", field.Name, t.Name, m.target),
				"Put it under ignore: in the catalog if that is as it should be."); err != nil {
				return nil, nil, err
			}
		}
	}
	return fields, at, nil
}

func (m *matching) matchType(ctx context.Context, t *catalog.Type, pt parcel.Type) error {
	there, ok := m.env.Fit.Fields[t.Name]
	if !ok || there == nil {
		message, mend := fmt.Sprintf("%s is not compared: %s has nothing called %q.", t.Name, m.target, t.Place(m.target)), "Correct at: in the catalog, or create it in "+m.target+" and match again."
		if m.against != nil {
			message, mend = fmt.Sprintf("%s is not compared: %s does not hold that record type.", t.Name, m.target), "Export it there, too, and match again."
		}
		err := m.caution(ctx, t.Name, message, mend)
		m.types = append(m.types, docket.Type{Name: t.Name, Fields: pt.Fields, Counts: map[match.Status]int{}, NotCompared: pt.Records})
		if err != nil {
			return err
		}
		return m.builder.Type(ctx, m.types[len(m.types)-1])
	}
	fields, at, err := m.fields(ctx, t, pt)
	if err != nil {
		return err
	}
	m.session.Progress.Start(t.Name, 0)
	defer m.session.Progress.Done()
	target, err := m.readTarget(ctx, t, pt, fields)
	if err != nil {
		return err
	}
	defer target.sorter.Close()
	known, remember, err := m.agreedOn(ctx, t, pt, fields)
	defer remember.Discard()
	if err != nil {
		return err
	}
	m.renames = nil
	if !t.Link() {
		m.renames = &renames{typ: t.Name, addresses: map[int64]string{}, keys: map[int64]record.Key{}}
	}
	m.startClaims(t, fields)
	m.startRules(t, fields)
	counts, err := match.Join(match.Input{
		Fields: fields, Keys: m.model.Shapes[t.Name], Agreed: known, AgreedLater: m.agreedLater(t.Name), Remember: remember.Note, Retired: retired(t, fields),
		Source: m.project(m.parcel.Records(ctx, t.Name), t.Name, fields, at),
		Target: m.sorted(ctx, target.sorter, t.Name, fields),
		// Of the target only what is in scope was read.
		InScope:   func(record.Key) bool { return true },
		Unknown:   m.unknownInTarget(t.Name),
		Ambiguous: func(key record.Key) bool { return m.ambiguousWithin(key) },
	}, func(f match.Finding) error { return m.found(ctx, t, fields, f) })
	if err != nil {
		return err
	}
	if err := remember.Finish(); err != nil {
		return err
	}
	if err := m.likelyRenames(ctx); err != nil {
		return err
	}
	if err := m.flushClaims(ctx); err != nil {
		return err
	}
	if err := m.flushRules(ctx); err != nil {
		return err
	}
	m.types = append(m.types, docket.Type{Name: t.Name, Fields: fields, Required: m.required(t, fields), Counts: counts.By, NotCompared: target.notCompared + counts.NotCompared})
	return m.builder.Type(ctx, m.types[len(m.types)-1])
}

// packTarget writes a record for sorting: where it was read from, internal id, stamps and the key there
// if it is another one, then the line of key
// and values, which stands alone so that it can be compared with the source's.
func packTarget(fields []record.Field, rec record.Record, source byte) []byte {
	head := string(source)
	for _, text := range []string{rec.ID, rec.ChangedAt, rec.ChangedBy} { // an id of bytes may hold a zero
		head += strings.ReplaceAll(text, "\x00", "\ufffd") + "\x00"
	}
	if rec.Was != nil {
		head += string(record.AppendKey(nil, *rec.Was))
	}
	head += "\x00"
	rec.ChangedAt, rec.ChangedBy = "", ""
	return record.AppendLine([]byte(head), fields, rec)
}

// unpackTarget gives the record back; its key and values are read only when asked for.
func unpackTarget(entry sorting.Entry, typ string, fields []record.Field, shapes record.Shapes) (record.Record, error) {
	parts := bytes.SplitN(entry.Payload, []byte{0}, 5)
	out := record.Record{
		Key: record.KeyByOrder(entry.Order), ID: string(parts[0]), ChangedAt: string(parts[1]), ChangedBy: string(parts[2]), Line: parts[4],
		Load: func(r *record.Record) error {
			full, err := record.ParseLine(r.Line, typ, fields, shapes)
			r.Key, r.Values, r.Load = full.Key, full.Values, nil
			return err
		},
	}
	if len(parts[3]) == 0 {
		return out, nil
	}
	was, err := shapes.ParseKey(parts[3], typ)
	out.Was = &was
	return out, err
}

// project keeps the compared fields of the parcel's records. A parcel has no internal
// ids; where a key occurs twice, the spelling of each tells the records apart.
func (m *matching) project(in record.Stream, typ string, fields []record.Field, at []int) record.Stream {
	return func(yield func(record.Record, error) bool) {
		for rec, err := range in {
			if err == nil {
				values := make([]record.Value, len(at))
				for i, from := range at {
					values[i] = rec.Values[from]
				}
				rec.Values, rec.ID = values, m.catalog.Address(typ, rec.Key)
				rec.Line = record.AppendLine(nil, fields, record.Record{Key: rec.Key, Values: values})
				m.session.Progress.Add(1)
			}
			if !yield(rec, err) {
				return
			}
		}
	}
}
