package export

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
	"anagram/internal/core/show"
	"anagram/internal/environment"
	"anagram/internal/flow/choose"
	"anagram/internal/flow/fit"
	"anagram/internal/flow/library"
	"anagram/internal/flow/session"
	"anagram/internal/store/parcel"
	"anagram/internal/store/register"
)

// Request says what to export.
type Request struct {
	Environment string
	Selection   parcel.Selection
	Name        string // made from environment, date and time where empty
	Note        string
	AsFolder    bool
	Target      string // what it is to be matched with, where that is known
	// Aside is a path for a parcel that is only looked at and thrown away; "" keeps it in the
	// library.
	Aside string
}

// Result says what was exported.
type Result struct {
	File     string
	Manifest parcel.Manifest
	Bytes    int64
	// Of an export by date: record types without stamps, which were taken whole, and parts
	// without stamps, which came along with their owners only.
	Unstamped, UnstampedParts []string
	// Of one since the last import: types that were in none, which were taken whole.
	NeverBrought []string
	// Earlier are records that were chosen as earlier dockets had them and no import brought them.
	Earlier int
	// LeftNothing are patterns of what was to be left out that no record fits.
	LeftNothing []string
	// Unread are records that hold values which cannot be read, the first of them named by address,
	// field and why.
	Unread Unread
}

// Unread counts records that hold values which cannot be read.
type Unread struct {
	Records int
	Named   []string
}

// mostUnread is how many of them are named.
const mostUnread = 5

// Export copies records of an environment into a new parcel of the library.
func Export(ctx context.Context, s *session.Session, r Request) (Result, error) {
	var result Result
	if _, err := s.Workspace.Environment(r.Environment); err != nil {
		return result, err
	}
	c, err := s.Workspace.Catalog()
	if err != nil {
		return result, err
	}
	chosen, err := selected(ctx, s, c, &r)
	if err != nil {
		return result, err
	}
	result.Unstamped, result.UnstampedParts, result.NeverBrought = chosen.Unstamped, chosen.UnstampedParts, chosen.NeverBrought
	name, path := "aside", r.Aside
	if r.Aside == "" {
		if name, path, err = library.NewPath(s, r.Name, r.Environment, r.AsFolder); err != nil {
			return result, err
		}
	}
	env, err := s.OpenDescribed(ctx, r.Environment, c)
	if err != nil {
		return result, err
	}
	defer env.Close()
	if problems := env.Problems(c, withParts(c, env, chosen)); len(problems) > 0 {
		return result, &session.CatalogError{Catalog: s.Workspace.CatalogName(), Environment: r.Environment, Problems: problems}
	}
	if err := chosen.Compile(c, r.Environment, env.About, r.Selection); err != nil {
		return result, err
	}
	scratch, err := s.Workspace.Scratch()
	if err != nil {
		return result, err
	}
	self, err := fit.SideOf(ctx, s, fit.Of(env), c, r.Environment)
	if err != nil {
		return result, err
	}
	travelling, err := c.Travelling(r.Environment)
	if err != nil {
		return result, err
	}
	w, err := parcel.Create(scratch, parcel.Manifest{
		Release: self.Release, Settings: self.Settings, Name: name, Note: r.Note, Source: r.Environment, ExportedBy: s.Who,
		Program:    s.Program,
		ExportedAt: s.Now().UTC().Format("2006-01-02T15:04:05.000Z07:00"), Selection: r.Selection, Keys: env.Fit.Shapes,
	}, travelling)
	if err != nil {
		return result, err
	}
	defer w.Discard()
	model := &environment.Model{Environment: r.Environment, Catalog: c, Shapes: env.Fit.Shapes, Here: s.Zone(r.Environment)}
	g, err := choose.Gather(ctx, s, env, model, chosen)
	if err != nil {
		return result, allOf(err, r.Environment)
	}
	defer g.Close()
	ex := &exporting{Related: g, writer: w, noFiles: r.Selection.NoFiles}
	if err := ex.all(ctx, r.Environment); err != nil {
		return result, err
	}
	result.Earlier, result.Unread = g.Earlier, ex.unread
	if result.LeftNothing = chosen.LeftNothing(c); w.Records() == 0 {
		if err := nothing(chosen, r); err != nil {
			return result, err
		}
	}
	result.Manifest, err = w.Finish(path, r.AsFolder)
	result.File = path
	if err != nil || r.Aside != "" {
		return result, err
	}
	if err := register.AddExport(s.Workspace, result.Manifest.Name, register.Export{Seal: result.Manifest.Seal,
		Source: result.Manifest.Source, At: result.Manifest.ExportedAt}); err != nil {
		return result, err
	}
	result.Bytes, err = parcel.Size(path)
	return result, err
}

// selected makes the selection of a request ready, and says in it from when on what changed is
// taken.
func selected(ctx context.Context, s *session.Session, c *catalog.Catalog, r *Request) (choose.Chosen, error) {
	var err error
	if r.Selection.Since, r.Selection.SinceBy, err = choose.Since(ctx, s, r.Environment, r.Target, r.Selection.ChangedSince); err != nil {
		return choose.Chosen{}, err
	}
	chosen, err := choose.SelectTypes(c, r.Selection)
	if err == nil {
		err = chosen.WithWaiting(ctx, s, r.Selection, r.Environment, r.Target)
	}
	if err == nil && len(chosen.Types) == 0 {
		err = session.Usage("The selection leaves nothing of %s; no parcel was made", r.Environment)
	}
	return chosen, err
}

// nothing refuses an export of nothing, where that is not what an empty type or a quiet month
// comes to.
func nothing(chosen choose.Chosen, r Request) error {
	if len(chosen.Whole) > 0 || r.Selection.Dated() {
		return nil
	}
	return session.Usage("No record of %s fits what was asked for; no parcel was made", r.Environment)
}

// withParts gives the chosen record types and those of the parts that may come along.
func withParts(c *catalog.Catalog, env session.Described, chosen choose.Chosen) []string {
	types := slices.Clone(chosen.Types)
	if chosen.Related == parcel.RelatedNone {
		return types
	}
	for more := true; more; {
		more = false
		for _, t := range c.Types {
			if !slices.Contains(types, t.Name) && slices.Contains(types, t.PartOf) && env.Fit.Fields[t.Name] != nil {
				types, more = append(types, t.Name), true
			}
		}
	}
	return types
}

// exporting is one export at work, when it is known what belongs to it.
type exporting struct {
	*choose.Related
	writer  *parcel.Writer
	noFiles bool
	unread  Unread
}

// allOf says beside what is wrong with one record how to see what is wrong with any.
func allOf(err error, name string) error {
	var one *environment.RecordError
	if !errors.As(err, &one) {
		return err
	}
	return fmt.Errorf("%w. Whatever else stands in the way is listed by: anagram catalog check %s", err, show.Arg(name))
}

// all writes every type, and what is only referred to.
func (ex *exporting) all(ctx context.Context, environment string) error {
	for _, typ := range ex.Model.Catalog.Names() {
		if err := ex.exportType(ctx, typ); err != nil {
			return allOf(err, environment)
		}
	}
	if err := ex.Missing(ctx, environment); err != nil {
		return err
	}
	if err := ex.referred(ctx); err != nil {
		return err
	}
	return ctx.Err()
}

func (ex *exporting) exportType(ctx context.Context, typ string) error {
	n, err := ex.Set.Count(typ)
	if err != nil {
		return err
	}
	t, _ := ex.Model.Catalog.Type(typ)
	_, named := ex.Chosen.Where[typ]
	// A part that no owner has is told, too: the target may have some that went away here.
	part := t.PartOf != "" && ex.Chosen.Related != parcel.RelatedNone && ex.Env.Fit.Fields[typ] != nil && !ex.Chosen.LeavesOutType(typ)
	if part && !ex.Whole(t.PartOf) {
		owners, err := ex.Set.Count(t.PartOf)
		if err != nil {
			return err
		}
		part = owners > 0
	}
	if !ex.Whole(typ) && n == 0 && !named && !part {
		return nil
	}
	fields := slices.Clone(ex.Env.Fit.Fields[typ])
	if ex.noFiles {
		fields = slices.DeleteFunc(fields, func(f record.Field) bool { return f.Kind == record.Bytes })
	}
	out := ex.writer.Type(typ, fields)
	defer func() { out.Discard() }()
	what := "reading " + typ
	if ex.Whole(typ) {
		t, _ := ex.Model.Catalog.Type(typ)
		n = ex.Session.Total(ctx, ex.Env, t.Place(ex.Model.Environment))
	}
	ex.Session.Progress.Start(what, n)
	defer ex.Session.Progress.Done()
	if ex.Whole(typ) {
		err = ex.writeWhole(ctx, out, typ, fields)
	} else {
		var one *environment.RecordError
		if err = ex.writePicked(ctx, out, typ, fields, n); n > streamFrom && errors.As(err, &one) {
			// One that is not picked may be what cannot be told.
			out.Discard()
			out = ex.writer.Type(typ, fields)
			err = ex.writeByKeys(ctx, out, typ, fields)
		}
	}
	if err != nil {
		return err
	}
	ex.Session.Progress.Start("sorting and writing "+typ, 0)
	_, err = out.Finish(ex.Whole(typ))
	return err
}

func (ex *exporting) add(out *parcel.TypeWriter, typ string, rec record.Record) error {
	if err := out.Add(rec); err != nil {
		return &environment.RecordError{Environment: ex.Model.Environment, Address: ex.Model.Catalog.Address(typ, rec.Key), Cause: err}
	}
	ex.noteUnread(typ, out.Fields(), rec)
	ex.Session.Progress.Add(1)
	return nil
}

// noteUnread counts a record with values that cannot be read.
func (ex *exporting) noteUnread(typ string, fields []record.Field, rec record.Record) {
	values := rec.Values
	if values == nil && record.AnyUnreadable(rec.Line) { // it was kept as a line
		if full, err := record.ParseLine(rec.Line, typ, fields, ex.Model.Shapes); err == nil {
			values, rec.Key = full.Values, full.Key
		}
	}
	found := false
	for i, v := range values {
		why, unreadable := v.Unreadable()
		if !unreadable {
			continue
		}
		if !found {
			ex.unread.Records++
		}
		if found = true; len(ex.unread.Named) < mostUnread {
			ex.unread.Named = append(ex.unread.Named, fmt.Sprintf("%s, field %s: %s", ex.Model.Catalog.Address(typ, rec.Key),
				fields[i].Name, why))
		}
	}
}

func (ex *exporting) writeWhole(ctx context.Context, out *parcel.TypeWriter, typ string, fields []record.Field) error {
	t, _ := ex.Model.Catalog.Type(typ)
	left := ex.writer.Outside(typ)
	defer left.Discard()
	reading := environment.Reading{Type: typ, Fields: fields, Sums: true, Unkeyed: out.Unkeyed}
	if t.Only != "" {
		reading.Left = left.Add
	}
	// Where nothing looks at keys and values, the lines will do.
	reading.Lines = len(ex.Chosen.LeaveOut)+len(ex.Chosen.Patterns) == 0
	for rec, err := range ex.Env.Read(ctx, ex.Model, reading) {
		if err != nil {
			return err
		}
		if ex.Chosen.LeavesOut(ex.Model.Catalog, typ, rec.Key) {
			out.Saw(rec.ChangedAt)
			continue
		}
		if len(ex.Chosen.Patterns) > 0 {
			address := ex.Model.Catalog.Address(typ, rec.Key)
			for i, p := range ex.Chosen.Patterns {
				ex.Found[i] = ex.Found[i] || p.Match(address)
			}
		}
		rec.Why = parcel.WhyChosen
		if !ex.Chosen.Whole[typ] {
			rec.Why, rec.Through = parcel.WhyAlong, "part of its "+t.PartOf
		}
		if err := ex.add(out, typ, rec); err != nil {
			return err
		}
	}
	return left.Finish()
}

// streamFrom is from how many picked records on the whole type is read instead of
// these by their keys.
const streamFrom = 20_000

// writeBatch is how many picked records are read by their keys at a time.
const writeBatch = 1000

func (ex *exporting) writePicked(ctx context.Context, out *parcel.TypeWriter, typ string, fields []record.Field, n int) error {
	if kept, ok := ex.Kept(typ); ok {
		return ex.writeThose(out, typ, kept)
	}
	if n > streamFrom {
		picked, err := ex.Set.Among(typ, -1, n)
		if err != nil {
			return err
		}
		all := record.Ahead(ex.Env.Read(ctx, ex.Model, environment.Reading{Type: typ, Fields: fields, Sums: true, Lines: true}))
		return ex.writeThose(out, typ, func(yield func(record.Record, error) bool) {
			for rec, err := range all {
				if (err != nil || picked(rec.Key.Order())) && !yield(rec, err) {
					return
				}
			}
		})
	}
	return ex.writeByKeys(ctx, out, typ, fields)
}

// writeByKeys reads what was picked by its keys.
func (ex *exporting) writeByKeys(ctx context.Context, out *parcel.TypeWriter, typ string, fields []record.Field) error {
	for after := ""; ; {
		batch, err := ex.Set.Batch(typ, -1, after, writeBatch)
		if err != nil || len(batch) == 0 {
			return err
		}
		after = batch[len(batch)-1].Order
		keys := make([]record.Key, len(batch))
		for i, r := range batch {
			if keys[i], err = ex.Model.Shapes.ParseKey([]byte(r.Key), typ); err != nil {
				return err
			}
		}
		if err := ex.writeThose(out, typ, record.Ahead(ex.Env.Read(ctx, ex.Model,
			environment.Reading{Type: typ, Fields: fields, Keys: keys, Sums: true}))); err != nil {
			return err
		}
	}
}

// writeThose writes those of some records that were picked, and why.
func (ex *exporting) writeThose(out *parcel.TypeWriter, typ string, records record.Stream) error {
	for rec, err := range records {
		if err != nil {
			return err
		}
		why, ok, err := ex.Set.Why(typ, rec.Key.Order())
		switch {
		case err != nil:
			return err
		case !ok:
			continue
		case !why.Along:
			rec.Why = parcel.WhyChosen
		case why.OwnerOnly:
			rec.Why, rec.Through = parcel.WhyOwner, why.Through
		default:
			rec.Why, rec.Through = parcel.WhyAlong, why.Through
		}
		if err := ex.add(out, typ, rec); err != nil {
			return err
		}
	}
	return nil
}

// Again repeats the export of a parcel, with the same selection, under a new name; r says where and how.
func Again(ctx context.Context, s *session.Session, name string, r Request) (Result, error) {
	p, err := library.Open(s, name)
	if err != nil {
		return Result{}, err
	}
	m := p.Manifest
	_ = p.Close()
	if m.Origin != "" {
		return Result{}, session.Usage("Parcel %s was not exported but made by hand; there is nothing to repeat", name)
	}
	m.Selection.Since, m.Selection.SinceBy = "", nil
	if r.Note == "" {
		r.Note = m.Note
	}
	r.Environment, r.Selection = m.Source, m.Selection
	return Export(ctx, s, r)
}
