package flow

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"regexp"
	"strings"

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
}

// ExportResult says what was exported.
type ExportResult struct {
	File     string
	Manifest parcel.Manifest
	Bytes    int64
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
	chosen, err := selectTypes(c, r.Selection)
	if err != nil {
		return result, err
	}
	path, err := s.newParcelPath(&r)
	if err != nil {
		return result, err
	}
	env, err := s.openDescribed(ctx, r.Environment, c)
	if err != nil {
		return result, err
	}
	defer env.Close()
	if problems := env.problems(c, chosen.types); len(problems) > 0 {
		return result, &CatalogError{Catalog: s.Workspace.CatalogName(), Environment: r.Environment, Problems: problems}
	}
	scratch, err := s.Workspace.Scratch()
	if err != nil {
		return result, err
	}
	model := &environment.Model{Environment: r.Environment, Catalog: c, Shapes: env.fit.Shapes}
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
	hits := make([]int, len(chosen.patterns))
	for _, typ := range chosen.types {
		if err := s.exportType(ctx, env, model, w, chosen, typ, hits); err != nil {
			return result, err
		}
	}
	for i, n := range hits {
		if n == 0 {
			return result, fmt.Errorf("%s has no record %s; no parcel was made", r.Environment, chosen.patterns[i])
		}
	}
	if err := ctx.Err(); err != nil {
		return result, err
	}
	result.Manifest, err = w.Finish(path, r.AsFolder)
	result.File = path
	if err != nil {
		return result, err
	}
	result.Bytes, err = parcel.Size(path)
	return result, err
}

func (s *Session) exportType(ctx context.Context, env environment.Reader, model *environment.Model, w *parcel.Writer, chosen selection, typ string, hits []int) error {
	fields := env.(described).fit.Fields[typ]
	out := w.Type(typ, fields)
	defer out.Discard()
	s.Progress.Start(typ, 0)
	defer s.Progress.Done()
	for rec, err := range env.Read(ctx, model, environment.Reading{Type: typ, Fields: fields}) {
		if err != nil {
			return err
		}
		if len(chosen.patterns) > 0 {
			wanted, at := chosen.covers(typ, model.Catalog.Address(typ, rec.Key))
			if at >= 0 {
				hits[at]++
			}
			if !wanted {
				continue
			}
		}
		rec.Why = "chosen"
		if err := out.Add(rec); err != nil {
			return &environment.RecordError{Environment: model.Environment, Address: model.Catalog.Address(typ, rec.Key), Cause: err}
		}
		s.Progress.Add(1)
	}
	n, err := out.Finish()
	if err == nil && n == 0 && !chosen.whole[typ] {
		w.Drop(typ)
	}
	return err
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
