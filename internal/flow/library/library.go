package library

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"anagram/internal/core/record"
	"anagram/internal/files/safe"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket/run"
	"anagram/internal/store/parcel"
)

// Entry is one parcel of the library. Err is set where it cannot be read.
type Entry struct {
	Name     string
	File     string
	Manifest parcel.Manifest
	Bytes    int64
	Err      error
}

// List lists the parcels of the workspace, newest first.
func List(s *session.Session) ([]Entry, error) {
	dir, err := s.Workspace.Parcels()
	if err != nil {
		return nil, err
	}
	entries, err := os.ReadDir(dir)
	if err != nil {
		return nil, err
	}
	var out []Entry
	for _, entry := range entries {
		if strings.HasPrefix(entry.Name(), ".") || !entry.IsDir() && !strings.HasSuffix(entry.Name(), parcel.Suffix) {
			continue
		}
		e := Entry{Name: strings.TrimSuffix(entry.Name(), parcel.Suffix), File: filepath.Join(dir, entry.Name())}
		r, err := parcel.Open(e.File)
		if err == nil {
			e.Manifest = r.Manifest
			_ = r.Close()
			e.Bytes, err = parcel.Size(e.File)
		}
		e.Err = err
		out = append(out, e)
	}
	slices.SortFunc(out, func(a, b Entry) int {
		if c := strings.Compare(b.Manifest.ExportedAt, a.Manifest.ExportedAt); c != 0 {
			return c
		}
		return strings.Compare(b.Name, a.Name)
	})
	return out, nil
}

// Open opens a parcel by its name in the library or by a path.
func Open(s *session.Session, name string) (*parcel.Reader, error) {
	path, err := Path(s, name)
	if err != nil {
		return nil, err
	}
	return parcel.Open(path)
}

// Record is one record of a parcel with its address.
type Record struct {
	Address string
	Type    parcel.Type
	record.Record
}

// Records gives the records of a parcel that a pattern selects, in order.
func Records(ctx context.Context, r *parcel.Reader, patterns []record.Pattern, give func(Record) error) error {
	for _, t := range r.Manifest.Types {
		for rec, err := range r.Records(ctx, t.Name) {
			if err != nil {
				return err
			}
			address := r.Catalog.Address(t.Name, rec.Key)
			if !slices.ContainsFunc(patterns, func(p record.Pattern) bool { return p.Match(address) }) {
				continue
			}
			if err := give(Record{Address: address, Type: t, Record: rec}); err != nil {
				return err
			}
		}
	}
	return nil
}

// Rename gives a parcel of the library another name.
func Rename(s *session.Session, name, newName string) (string, error) {
	from, err := inLibrary(s, name)
	if err != nil {
		return "", err
	}
	_, to, err := NewPath(s, newName, "", filepath.Ext(from) != parcel.Suffix)
	if err != nil {
		return "", err
	}
	return to, os.Rename(from, to)
}

// Remove takes a parcel out of the library for good. One with which a docket was made
// that is not imported yet is kept, unless anyway is set.
func Remove(ctx context.Context, s *session.Session, name string, anyway bool) (string, error) {
	path, err := inLibrary(s, name)
	if err != nil {
		return "", err
	}
	if !anyway {
		summaries, err := s.Pasts(ctx)
		if err != nil {
			return "", err
		}
		for _, d := range summaries {
			done := slices.ContainsFunc(d.Runs, run.Run.Done)
			if d.Err == nil && d.Header.ParcelFile == path && !done {
				return "",
					session.Usage("Docket %d was made with parcel %s and is not imported yet. --anyway removes the parcel all the same; the docket can still be reviewed and imported, but the parcel's seal can no longer be checked", d.Header.Number, name)
			}
		}
	}
	return path, os.RemoveAll(path)
}

// Receive keeps a parcel that comes as a stream in the library, under the name it was
// given when it was made, and gives the name it has now.
func Receive(ctx context.Context, s *session.Session, in io.Reader) (string, error) {
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
		_, path, err := NewPath(s, name, "", false)
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
			if err := safe.Publish(f.Name(), path); !errors.Is(err, fs.ErrExist) {
				return name, err
			} // somebody took the name just now
		}
	}
}

// Verified opens a parcel whose bytes are what was sealed.
func Verified(ctx context.Context, s *session.Session, name string) (*parcel.Reader, error) {
	p, err := Open(s, name)
	if err != nil {
		return nil, err
	}
	s.Progress.Start("verifying the parcel", 0)
	err = p.Verify(ctx)
	s.Progress.Done()
	if err != nil {
		_ = p.Close()
		return nil, err
	}
	return p, nil
}
