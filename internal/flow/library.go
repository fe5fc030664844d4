package flow

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"anagram/internal/core/record"
	"anagram/internal/core/yamldoc"
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
