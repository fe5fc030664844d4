package flow

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/store/parcel"
)

// ExportRequest says what to export.
type ExportRequest struct {
	Environment string
	Selection   parcel.Selection
	Name        string // made from environment, date and time where empty
	Note        string
	AsFolder    bool
	Target      string // what it is to be matched with, where that is known
}

// ExportResult says what was exported.
type ExportResult struct {
	File     string
	Manifest parcel.Manifest
	Bytes    int64
	// Of an export by date: record types without stamps, which were taken whole, and parts
	// without stamps, which came along with their owners only.
	Unstamped, UnstampedParts []string
}

var parcelName = regexp.MustCompile(`^[\pL\pN][\pL\pN ._+-]*$`)

// Export copies records of an environment into a new parcel of the library.
func (s *Session) Export(ctx context.Context, r ExportRequest) (ExportResult, error) {
	var result ExportResult
	if _, err := s.Workspace.Environment(r.Environment); err != nil {
		return result, err
	}
	c, err := s.Workspace.Catalog()
	if err != nil {
		return result, err
	}
	if r.Selection.Since, err = s.since(ctx, r.Environment, r.Target, r.Selection.ChangedSince); err != nil {
		return result, err
	}
	chosen, err := selectTypes(c, r.Selection)
	if err != nil {
		return result, err
	}
	if len(chosen.types) == 0 {
		return result, usage("The selection leaves nothing of %s; no parcel was made", r.Environment)
	}
	result.Unstamped, result.UnstampedParts = chosen.unstamped, chosen.unstampedParts
	path, err := s.newParcelPath(&r)
	if err != nil {
		return result, err
	}
	env, err := s.openDescribed(ctx, r.Environment, c)
	if err != nil {
		return result, err
	}
	defer env.Close()
	if problems := env.problems(c, withParts(c, env, chosen)); len(problems) > 0 {
		return result, &CatalogError{Catalog: s.Workspace.CatalogName(), Environment: r.Environment, Problems: problems}
	}
	if err := chosen.compile(c, r.Environment, env.about.Places, r.Selection); err != nil {
		return result, err
	}
	scratch, err := s.Workspace.Scratch()
	if err != nil {
		return result, err
	}
	self, err := s.sideOf(ctx, env, c, r.Environment)
	if err != nil {
		return result, err
	}
	w, err := parcel.Create(scratch, parcel.Manifest{
		Release: self.release, Settings: self.settings, Name: r.Name, Note: r.Note, Source: r.Environment, ExportedBy: s.Who, Program: s.Program,
		ExportedAt: s.Now().UTC().Format("2006-01-02T15:04:05.000Z07:00"), Selection: r.Selection, Keys: env.fit.Shapes,
	}, c.Source)
	if err != nil {
		return result, err
	}
	defer w.Discard()
	model := &environment.Model{Environment: r.Environment, Catalog: c, Shapes: env.fit.Shapes}
	g, err := s.gather(ctx, env, model, chosen)
	if err != nil {
		return result, err
	}
	defer g.set.Close()
	ex := &exporting{gathering: g, writer: w, noFiles: r.Selection.NoFiles}
	for _, typ := range c.Names() {
		if err := ex.exportType(ctx, typ); err != nil {
			return result, err
		}
	}
	if err := g.missing(r.Environment); err != nil {
		return result, err
	}
	if err := ex.referred(ctx); err != nil {
		return result, err
	}
	if err := ctx.Err(); err != nil {
		return result, err
	}
	result.Manifest, err = w.Finish(path, r.AsFolder)
	result.File = path
	if err != nil {
		return result, err
	}
	s.exported = path
	result.Bytes, err = parcel.Size(path)
	return result, err
}

// withParts gives the chosen record types and those of the parts that may come along.
func withParts(c *catalog.Catalog, env described, chosen selection) []string {
	types := slices.Clone(chosen.types)
	if chosen.related == parcel.RelatedNone {
		return types
	}
	for more := true; more; {
		more = false
		for _, t := range c.Types {
			if !slices.Contains(types, t.Name) && slices.Contains(types, t.PartOf) && env.fit.Fields[t.Name] != nil {
				types, more = append(types, t.Name), true
			}
		}
	}
	return types
}

// exporting is one export at work, when it is known what belongs to it.
type exporting struct {
	*gathering
	writer  *parcel.Writer
	noFiles bool
}

func (ex *exporting) exportType(ctx context.Context, typ string) error {
	n, err := ex.set.Count(typ)
	if err != nil {
		return err
	}
	t, _ := ex.model.Catalog.Type(typ)
	_, named := ex.chosen.where[typ]
	// A part that no owner has is told, too: the target may have some that went away here.
	part := t.PartOf != "" && ex.chosen.related != parcel.RelatedNone && ex.env.fit.Fields[typ] != nil && !ex.chosen.leavesOutType(typ)
	if part && !ex.whole(t.PartOf) {
		owners, err := ex.set.Count(t.PartOf)
		if err != nil {
			return err
		}
		part = owners > 0
	}
	if !ex.whole(typ) && n == 0 && !named && !part {
		return nil
	}
	fields := slices.Clone(ex.env.fit.Fields[typ])
	if ex.noFiles {
		fields = slices.DeleteFunc(fields, func(f record.Field) bool { return f.Kind == record.Bytes })
	}
	out := ex.writer.Type(typ, fields)
	defer out.Discard()
	ex.session.Progress.Start(typ, n)
	defer ex.session.Progress.Done()
	if ex.whole(typ) {
		err = ex.writeWhole(ctx, out, typ, fields)
	} else {
		err = ex.writePicked(ctx, out, typ, fields, n)
	}
	if err != nil {
		return err
	}
	_, err = out.Finish(ex.whole(typ))
	return err
}

func (ex *exporting) add(out *parcel.TypeWriter, typ string, rec record.Record) error {
	if err := out.Add(rec); err != nil {
		return &environment.RecordError{Environment: ex.model.Environment, Address: ex.model.Catalog.Address(typ, rec.Key), Cause: err}
	}
	ex.session.Progress.Add(1)
	return nil
}

func (ex *exporting) writeWhole(ctx context.Context, out *parcel.TypeWriter, typ string, fields []record.Field) error {
	t, _ := ex.model.Catalog.Type(typ)
	for rec, err := range ex.env.Read(ctx, ex.model, environment.Reading{Type: typ, Fields: fields}) {
		if err != nil {
			return err
		}
		if ex.chosen.leavesOut(ex.model.Catalog, typ, rec.Key) {
			continue
		}
		if len(ex.chosen.patterns) > 0 {
			if at := ex.chosen.matches(ex.model.Catalog.Address(typ, rec.Key)); at >= 0 {
				ex.found[at] = true
			}
		}
		rec.Why = "chosen"
		if !ex.chosen.whole[typ] {
			rec.Why, rec.Through = "along", "part of its "+t.PartOf
		}
		if err := ex.add(out, typ, rec); err != nil {
			return err
		}
	}
	return nil
}

// streamFrom is from how many picked records on the whole type is read instead of
// these by their keys.
const streamFrom = 20_000

func (ex *exporting) writePicked(ctx context.Context, out *parcel.TypeWriter, typ string, fields []record.Field, n int) error {
	write := func(rec record.Record) error {
		along, through, ok, err := ex.set.Why(typ, rec.Key.Order())
		if err != nil || !ok {
			return err
		}
		if rec.Why = "chosen"; along {
			rec.Why, rec.Through = "along", through
		}
		return ex.add(out, typ, rec)
	}
	if n > streamFrom {
		for rec, err := range ex.env.Read(ctx, ex.model, environment.Reading{Type: typ, Fields: fields}) {
			if err == nil {
				err = write(rec)
			}
			if err != nil {
				return err
			}
		}
		return nil
	}
	for after := ""; ; {
		batch, err := ex.set.Batch(typ, -1, after, gatherBatch)
		if err != nil || len(batch) == 0 {
			return err
		}
		after = batch[len(batch)-1].Order
		keys := make([]record.Key, len(batch))
		for i, r := range batch {
			if keys[i], err = ex.model.Shapes.ParseKey([]byte(r.Key), typ); err != nil {
				return err
			}
		}
		for rec, err := range ex.env.Read(ctx, ex.model, environment.Reading{Type: typ, Fields: fields, Keys: keys}) {
			if err == nil {
				err = write(rec)
			}
			if err != nil {
				return err
			}
		}
	}
}

// newParcelPath settles the name of a new parcel; what is there is never replaced.
func (s *Session) newParcelPath(r *ExportRequest) (string, error) {
	library, err := s.Workspace.Parcels()
	if err != nil {
		return "", err
	}
	place := func(name string) (string, error) {
		for _, suffix := range []string{parcel.Suffix, ""} {
			if parcel.Exists(filepath.Join(library, name+suffix)) {
				return "", &parcel.ExistsError{Path: filepath.Join(library, name+suffix)}
			}
		}
		if r.AsFolder {
			return filepath.Join(library, name), nil
		}
		return filepath.Join(library, name+parcel.Suffix), nil
	}
	if r.Name != "" {
		r.Name = strings.TrimSuffix(r.Name, parcel.Suffix)
		if !parcelName.MatchString(r.Name) || len(r.Name) > 100 {
			return "", usage("%q cannot be a parcel's name: letters, digits, spaces and . _ + -, beginning with a letter or digit, at most 100 bytes", r.Name)
		}
		return place(r.Name)
	}
	base := r.Environment + "-" + s.Now().Format("20060102-150405")
	for n := 1; ; n++ {
		r.Name = base
		if n > 1 {
			r.Name = fmt.Sprintf("%s-%d", base, n)
		}
		path, err := place(r.Name)
		var exists *parcel.ExistsError
		if !errors.As(err, &exists) {
			return path, err
		}
	}
}
