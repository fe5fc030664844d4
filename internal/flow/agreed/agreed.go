package agreed

import (
	"context"
	"errors"
	"io/fs"
	"maps"
	"net/url"
	"os"
	"path/filepath"
	"slices"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
	"anagram/internal/flow/session"
	"anagram/internal/flow/sides"
	"anagram/internal/store/parcel"
)

// Agreed values: what two environments last had in common, kept for each pair in parcel
// form and replaced in one step after every match and import.

// agreedPath is where the agreed values of a pair are.
func agreedPath(s *session.Session, source, target string) (string, error) {
	dir, err := s.Workspace.Agreed()
	return filepath.Join(dir, url.PathEscape(source)+"--"+url.PathEscape(target)+parcel.Suffix), err
}

// openAgreed opens the agreed values of a pair, nil where there are none yet.
func Open(s *session.Session, source, target string) (*parcel.Reader, error) {
	path, err := agreedPath(s, source, target)
	if err != nil {
		return nil, err
	}
	if _, err := os.Lstat(path); errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	p, err := parcel.Open(path)
	if err != nil {
		return nil, session.Usage("The agreed values of %s and %s cannot be read (%v). Bring the file back, or remove it: then it is not known which side changed what since", source, target, err)
	}
	return p, nil
}

// agreedStream gives agreed records with other fields, of which only the keys are read until
// they are loaded; nil where nothing is known of the
// type, or its key was another one.
func Stream(ctx context.Context, p *parcel.Reader, typ string, shapes record.Shapes, fields []record.Field) record.Stream {
	if p == nil {
		return nil
	}
	t, ok := p.Manifest.Type(typ)
	if !ok || !sameShape(p.Manifest.Keys[typ], shapes[typ]) {
		return nil
	}
	return func(yield func(record.Record, error) bool) {
		for rec, err := range p.Heads(ctx, typ) {
			if err == nil {
				rec, err = lazily(t, rec, fields)
			}
			if !yield(rec, err) || err != nil {
				return
			}
		}
	}
}

// lazily is project for a record of which so far only the key may be there.
func lazily(t parcel.Type, rec record.Record, fields []record.Field) (record.Record, error) {
	load := rec.Load
	if load == nil {
		return sides.Project(t, rec, fields)
	}
	rec.Load = func(r *record.Record) error {
		err := load(r)
		if err == nil {
			*r, err = sides.Project(t, *r, fields)
		}
		return err
	}
	return rec, nil
}

// loaded completes a record.
func loaded(rec *record.Record) error {
	if rec == nil || rec.Load == nil {
		return nil
	}
	return rec.Load(rec)
}

func sameShape(a, b []record.Field) bool {
	return slices.EqualFunc(a, b, func(x, y record.Field) bool { return x.Name == y.Name && x.Kind == y.Kind && x.Refers == y.Refers })
}

// agreeing writes the agreed values of a pair anew.
type Writing struct {
	session *session.Session
	path    string
	Old     *parcel.Reader // nil where there are none
	Writer  *parcel.Writer
	Done    map[string]bool
	upTo    map[string]string // see parcel.Manifest
}

// took notes that agreed values of a type are taken from a parcel.
func (a *Writing) Took(typ, exportedAt string) { a.upTo[typ] = max(a.upTo[typ], exportedAt) }

// agree begins to write agreed values anew; old is what they were.
func Begin(s *session.Session, source, target string, old *parcel.Reader, keys record.Shapes, catalogSource []byte) (*Writing, error) {
	path, err := agreedPath(s, source, target)
	if err != nil {
		return nil, err
	}
	scratch, err := s.Workspace.Scratch()
	if err != nil {
		return nil, err
	}
	upTo := map[string]string{}
	if old != nil {
		maps.Copy(upTo, old.Manifest.UpTo)
	}
	w, err := parcel.Create(scratch, parcel.Manifest{UpTo: upTo, Name: "agreed", Note: "what " + source + " and " + target + " last had in common", Source: source,
		ExportedAt: s.Stamp(), ExportedBy: s.Who, Program: s.Program, Keys: keys}, catalogSource)
	if err != nil {
		return nil, err
	}
	w.LeaveFilesOut()
	return &Writing{session: s, path: path, Old: old, Writer: w, Done: map[string]bool{}, upTo: upTo}, nil
}

// fields gives the fields that are kept of a type: those compared now, and others of
// which something was known.
func (a *Writing) Fields(typ string, shapes record.Shapes, compared []record.Field) []record.Field {
	out := slices.Clone(compared)
	if a.Old == nil || !sameShape(a.Old.Manifest.Keys[typ], shapes[typ]) {
		return out
	}
	t, _ := a.Old.Manifest.Type(typ)
	for _, field := range t.Fields {
		if record.FieldAt(out, field.Name) < 0 {
			out = append(out, field)
		}
	}
	return out
}

// finish copies the types that were not touched, and replaces what there was.
func (a *Writing) Finish(ctx context.Context, c *catalog.Catalog, keys record.Shapes) error {
	defer a.Writer.Discard()
	if a.Old != nil {
		for _, t := range a.Old.Manifest.Types {
			if _, known := c.Type(t.Name); !known || a.Done[t.Name] || !sameShape(a.Old.Manifest.Keys[t.Name], keys[t.Name]) {
				continue
			}
			out := a.Writer.Type(t.Name, t.Fields)
			for rec, err := range a.Old.Records(ctx, t.Name) {
				if err == nil {
					err = out.Add(rec)
				}
				if err != nil {
					out.Discard()
					return err
				}
			}
			if _, err := out.Finish(false); err != nil {
				return err
			}
		}
	}
	scratch, err := a.session.Workspace.Scratch()
	if err != nil {
		return err
	}
	folder, err := os.MkdirTemp(scratch, "agreed-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(folder)
	made := filepath.Join(folder, "agreed"+parcel.Suffix)
	if _, err := a.Writer.Finish(made, false); err != nil {
		return err
	}
	return os.Rename(made, a.path)
}
