package flow

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"anagram/internal/core/record"
	"anagram/internal/core/yamldoc"
	"anagram/internal/store/docket"
	"anagram/internal/store/parcel"
)

// LibraryEntry is one parcel of the library. Err is set where it cannot be read.
type LibraryEntry struct {
	Name     string
	File     string
	Manifest parcel.Manifest
	Bytes    int64
	Err      error
}

// Library lists the parcels of the workspace, newest first.
func (s *Session) Library() ([]LibraryEntry, error) {
	dir, err := s.Workspace.Parcels()
	if err != nil {
		return nil, err
	}
	entries, err := os.ReadDir(dir)
	if err != nil {
		return nil, err
	}
	var out []LibraryEntry
	for _, entry := range entries {
		if strings.HasPrefix(entry.Name(), ".") || !entry.IsDir() && !strings.HasSuffix(entry.Name(), parcel.Suffix) {
			continue
		}
		e := LibraryEntry{Name: strings.TrimSuffix(entry.Name(), parcel.Suffix), File: filepath.Join(dir, entry.Name())}
		r, err := parcel.Open(e.File)
		if err == nil {
			e.Manifest = r.Manifest
			_ = r.Close()
			e.Bytes, err = parcel.Size(e.File)
		}
		e.Err = err
		out = append(out, e)
	}
	slices.SortFunc(out, func(a, b LibraryEntry) int {
		if c := strings.Compare(b.Manifest.ExportedAt, a.Manifest.ExportedAt); c != 0 {
			return c
		}
		return strings.Compare(b.Name, a.Name)
	})
	return out, nil
}

// OpenParcel opens a parcel by its name in the library or by a path.
func (s *Session) OpenParcel(name string) (*parcel.Reader, error) {
	path, err := s.parcelPath(name)
	if err != nil {
		return nil, err
	}
	return parcel.Open(path)
}

func (s *Session) parcelPath(name string) (string, error) {
	library := filepath.Join(s.Workspace.Dir, "parcels")
	for _, path := range []string{filepath.Join(library, name+parcel.Suffix), filepath.Join(library, name), name} {
		if name != "" && parcel.Exists(path) {
			return path, nil
		}
	}
	var names []string
	entries, _ := os.ReadDir(library)
	for _, entry := range entries {
		names = append(names, strings.TrimSuffix(entry.Name(), parcel.Suffix))
	}
	return "", usage("There is no parcel %q, neither in the library nor as a path%s", name, yamldoc.Nearest(name, names))
}

// libraryName is a parcel's name as the library has it: that of its file.
func (s *Session) libraryName(p *parcel.Reader) string {
	return strings.TrimSuffix(filepath.Base(p.Path()), parcel.Suffix)
}

// ParcelRecord is one record of a parcel with its address.
type ParcelRecord struct {
	Address string
	Type    parcel.Type
	record.Record
}

// ParcelRecords gives the records of a parcel that a pattern selects, in order.
func (s *Session) ParcelRecords(ctx context.Context, r *parcel.Reader, patterns []record.Pattern, give func(ParcelRecord) error) error {
	for _, t := range r.Manifest.Types {
		for rec, err := range r.Records(ctx, t.Name) {
			if err != nil {
				return err
			}
			address := r.Catalog.Address(t.Name, rec.Key)
			if !slices.ContainsFunc(patterns, func(p record.Pattern) bool { return p.Match(address) }) {
				continue
			}
			if err := give(ParcelRecord{Address: address, Type: t, Record: rec}); err != nil {
				return err
			}
		}
	}
	return nil
}

// Again repeats the export of a parcel, with the same selection, under a new name.
func (s *Session) Again(ctx context.Context, name, newName, note string, asFolder bool) (ExportResult, error) {
	p, err := s.OpenParcel(name)
	if err != nil {
		return ExportResult{}, err
	}
	m := p.Manifest
	_ = p.Close()
	if m.Origin != "" {
		return ExportResult{}, usage("Parcel %s was not exported but made by hand; there is nothing to repeat", name)
	}
	m.Selection.Since = ""
	if note == "" {
		note = m.Note
	}
	return s.Export(ctx, ExportRequest{Environment: m.Source, Selection: m.Selection, Name: newName, Note: note, AsFolder: asFolder})
}

// Rename gives a parcel of the library another name.
func (s *Session) Rename(name, newName string) (string, error) {
	from, err := s.inLibrary(name)
	if err != nil {
		return "", err
	}
	r := ExportRequest{Name: newName, AsFolder: filepath.Ext(from) != parcel.Suffix}
	to, err := s.newParcelPath(&r)
	if err != nil {
		return "", err
	}
	return to, os.Rename(from, to)
}

// Remove takes a parcel out of the library for good. One with which a docket was made
// that is not imported yet is kept, unless anyway is set.
func (s *Session) Remove(ctx context.Context, name string, anyway bool) (string, error) {
	path, err := s.inLibrary(name)
	if err != nil {
		return "", err
	}
	if !anyway {
		summaries, err := s.Summaries(ctx)
		if err != nil {
			return "", err
		}
		for _, d := range summaries {
			done := slices.ContainsFunc(d.Runs, docket.Run.Done)
			if d.Err == nil && d.Header.ParcelFile == path && !done {
				return "", usage("Docket %d was made with parcel %s and is not imported yet. --anyway removes the parcel all the same; the docket can still be reviewed and imported, but the parcel's seal can no longer be checked", d.Header.Number, name)
			}
		}
	}
	return path, os.RemoveAll(path)
}

// inLibrary gives the file of a parcel that is in the library itself.
func (s *Session) inLibrary(name string) (string, error) {
	path, err := s.parcelPath(name)
	if err != nil {
		return "", err
	}
	library, err := s.Workspace.Parcels()
	if err != nil {
		return "", err
	}
	if path, err = filepath.Abs(path); err != nil {
		return "", err
	}
	if library, err = filepath.Abs(library); err != nil {
		return "", err
	}
	if filepath.Dir(path) != library {
		return "", usage("%s is not in the library; only parcels of the library are renamed and removed", name)
	}
	return path, nil
}

// Receive keeps a parcel that comes as a stream in the library, under the name it was
// given when it was made, and gives the name it has now.
func (s *Session) Receive(ctx context.Context, in io.Reader) (string, error) {
	scratch, err := s.Workspace.Scratch()
	if err != nil {
		return "", err
	}
	f, err := os.CreateTemp(scratch, "received-*"+parcel.Suffix)
	if err != nil {
		return "", err
	}
	defer os.Remove(f.Name())
	_, err = io.Copy(f, in)
	if closeErr := f.Close(); err == nil {
		err = closeErr
	}
	if err == nil {
		err = ctx.Err()
	}
	if err != nil {
		return "", err
	}
	p, err := parcel.Open(f.Name())
	if err != nil {
		var bad *parcel.Error
		if errors.As(err, &bad) {
			bad.Parcel = "standard input"
		}
		return "", err
	}
	m := p.Manifest
	_ = p.Close()
	name := m.Name
	for n := 2; ; n++ {
		r := ExportRequest{Name: name}
		path, err := s.newParcelPath(&r)
		var taken *parcel.ExistsError
		switch {
		case errors.As(err, &taken):
			if have, openErr := parcel.Open(taken.Path); openErr == nil {
				same := have.Manifest.Seal == m.Seal
				_ = have.Close()
				if same { // it was received before
					return name, nil
				}
			}
			name = fmt.Sprintf("%s-%d", m.Name, n)
		case err != nil:
			return "", err
		default:
			return name, os.Rename(f.Name(), path)
		}
	}
}
