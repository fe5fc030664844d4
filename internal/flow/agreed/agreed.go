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
	"time"

	"anagram/internal/core/catalog"
	"anagram/internal/core/known"
	"anagram/internal/core/record"
	"anagram/internal/flow/session"
	"anagram/internal/flow/sides"
	"anagram/internal/store/parcel"
)

// agreedPath is where the agreed values of a pair are, whichever of them is the source: what
// two have in common they have in both directions.
func agreedPath(s *session.Session, source, target string) (string, error) {
	dir, err := s.Workspace.Agreed()
	at := func(a, b string) string {
		return filepath.Join(dir, url.PathEscape(a)+"--"+url.PathEscape(b)+parcel.Suffix)
	}
	path, other := at(source, target), at(target, source)
	if source > target {
		path, other = other, path
	}
	if _, missing := os.Lstat(path); missing != nil { // one direction alone, from an earlier program
		if _, there := os.Lstat(other); there == nil {
			path = other
		}
	}
	return path, err
}

// Open opens the agreed values of a pair, nil where there are none yet.
func Open(s *session.Session, source, target string) (*parcel.Reader, error) {
	path, err := agreedPath(s, source, target)
	if err != nil {
		return nil, err
	}
	if of, copied := s.Workspace.CopiedAt(source, target); copied {
		if err := of.Ahead(s.Now()); err != nil {
			return nil, err
		}
	}
	if _, err := os.Lstat(path); errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	p, err := parcel.Open(path)
	if err != nil {
		return nil,
			session.Usage("The agreed values of %s and %s cannot be read (%v). Bring the file back, or remove it: then it is not known which side changed what since", source, target, err)
	}
	if of, copied := s.Workspace.CopiedAt(source, target); copied {
		forgetBefore(p, source, target, of.At)
	}
	return p, nil
}

// Forget removes what two environments had in common.
func Forget(s *session.Session, a, b string) error {
	path, err := agreedPath(s, a, b)
	if err == nil {
		err = os.Remove(path)
	}
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// forgetBefore takes the types out of what was remembered that nothing was remembered of since one
// environment was copied from the other.
func forgetBefore(p *parcel.Reader, source, target string, at time.Time) {
	since := func(of string) bool {
		t, err := time.Parse(time.RFC3339, of)
		return err == nil && t.After(at)
	}
	p.Manifest.Types = slices.DeleteFunc(p.Manifest.Types, func(t parcel.Type) bool {
		if since(UpTo(p, source, t.Name)) || since(UpTo(p, target, t.Name)) {
			return false
		}
		delete(p.Manifest.Covered, t.Name)
		p.Manifest.Outside = slices.DeleteFunc(p.Manifest.Outside, func(o parcel.Outside) bool { return o.Name == t.Name })
		return true
	})
}

// UpTo tells when the newest parcel of a source was exported from which it is known what is
// agreed on a type; "" where it is not known.
func UpTo(p *parcel.Reader, source, typ string) string {
	if p == nil {
		return ""
	}
	of, ok := p.Manifest.UpTo[source+"/"+typ]
	if !ok && p.Manifest.Source == source { // by an earlier program
		of = p.Manifest.UpTo[typ]
	}
	return of
}

// stream gives agreed records with other fields, of which only the keys are read until
// they are loaded; nil where nothing is known of the type, or its key was another one.
func stream(ctx context.Context, p *parcel.Reader, typ string, shapes record.Shapes, fields []record.Field, zones Zones,
	named bool) record.Stream {
	if p == nil {
		return nil
	}
	t, ok := p.Manifest.Type(typ)
	if !ok || !sameShape(p.Manifest.Keys[typ], shapes[typ]) {
		return nil
	}
	return func(yield func(record.Record, error) bool) {
		records := p.Lines
		if named { // then keys are looked into
			records = p.Heads
		}
		for rec, err := range records(ctx, typ) {
			if err == nil {
				rec = lazily(t, rec, fields, zones)
			}
			if !yield(rec, err) || err != nil {
				return
			}
		}
	}
}

// Zones are those of times without zone of the target and of the source, nil where they are
// not known.
type Zones struct{ Here, There *time.Location }

// lazily is sides.Known for a record of which so far only the key may be there.
func lazily(t parcel.Type, rec record.Record, fields []record.Field, zones Zones) record.Record {
	if !slices.EqualFunc(t.Fields, fields, func(a, b record.Field) bool { return a.Name == b.Name && a.Kind == b.Kind }) {
		// Its line has other fields: it is read, and says nothing by itself.
		line, complete := rec.Line, rec.Load
		rec.Line = nil
		if complete != nil {
			rec.Load = func(r *record.Record) error {
				r.Line = line
				err := complete(r)
				r.Line = nil
				return err
			}
		}
	}
	load := rec.Load
	if load == nil {
		return sides.Known(t, rec, fields, zones.Here, zones.There)
	}
	rec.Load = func(r *record.Record) error {
		err := load(r)
		if err == nil {
			*r = sides.Known(t, *r, fields, zones.Here, zones.There)
		}
		return err
	}
	return rec
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

// Writing makes the agreed values of a pair anew. Those of a type that nothing is said
// about stay as they were.
type Writing struct {
	session *session.Session
	path    string
	old     *parcel.Reader // nil where there are none
	out     *parcel.Writer
	shapes  record.Shapes
	catalog *catalog.Catalog
	done    map[string]bool
	source  string
	upTo    map[string]string // see parcel.Manifest
	covered map[string]known.Coverage
	shared  Shared
}

// Begin begins to write the agreed values of a pair anew; old is what they were, nil
// where there were none. It stays the caller's to close, after Finish or Discard.
func Begin(s *session.Session, source, target string, old *parcel.Reader, shapes record.Shapes, c *catalog.Catalog) (*Writing, error) {
	path, err := agreedPath(s, source, target)
	if err != nil {
		return nil, err
	}
	scratch, err := s.Workspace.Scratch()
	if err != nil {
		return nil, err
	}
	upTo, covered := map[string]string{}, map[string]known.Coverage{}
	shapes = maps.Clone(shapes)
	if old != nil {
		maps.Copy(upTo, old.Manifest.UpTo)
		// Types that nothing is said about now keep the keys that they have.
		for name, shape := range old.Manifest.Keys {
			now, ok := c.Type(name)
			was, described := old.Catalog.Type(name)
			if _, said := shapes[name]; !said && ok && described && now.MeansOther(was, "before") == nil {
				shapes[name] = shape
			}
			if of, ok := old.Manifest.Covered[name]; ok && sameShape(shape, shapes[name]) {
				covered[name] = of
			}
		}
	}
	out, err := parcel.Create(scratch, parcel.Manifest{UpTo: upTo, Covered: covered, Name: "agreed",
		Note: "what " + source + " and " + target + " last had in common", Source: source,
		ExportedAt: s.Stamp(), ExportedBy: s.Who, Program: s.Program, Keys: shapes}, c.Source)
	if err != nil {
		return nil, err
	}
	out.LeaveFilesOut()
	return &Writing{session: s, source: source, path: path, old: old, out: out, shapes: shapes, catalog: c, done: map[string]bool{},
		upTo: upTo, covered: covered}, nil
}

// covers notes that a type is matched whole.
func (w *Writing) covers(c Compared) {
	if had, ok := w.covered[c.Type]; ok && had.Only == c.Only {
		return
	}
	w.covered[c.Type] = known.Coverage{Docket: c.Docket, At: c.ExportedAt, Only: c.Only}
}

// begin notes that the agreed values of a type are being taken from a parcel, and gives
// the fields that are kept: those compared now, and others of which something was known.
func (w *Writing) begin(typ, exportedAt string, compared []record.Field) []record.Field {
	w.done[typ] = true
	of := w.source + "/" + typ
	w.upTo[of] = max(w.upTo[of], exportedAt)
	out := slices.Clone(compared)
	if w.old == nil || !sameShape(w.old.Manifest.Keys[typ], w.shapes[typ]) {
		return out
	}
	t, _ := w.old.Manifest.Type(typ)
	for _, field := range t.Fields {
		if record.FieldAt(out, field.Name) < 0 {
			out = append(out, field)
		}
	}
	return out
}

// Discard forgets what was written; after Finish it does nothing.
func (w *Writing) Discard() {
	if w != nil {
		w.out.Discard()
	}
}

// Finish copies the types that nothing was said about, and replaces what there was in one
// step.
func (w *Writing) Finish(ctx context.Context) error {
	defer w.out.Discard()
	if w.old != nil {
		for _, t := range w.old.Manifest.Types {
			if _, known := w.catalog.Type(t.Name); !known || w.done[t.Name] || !sameShape(w.old.Manifest.Keys[t.Name], w.shapes[t.Name]) {
				continue
			}
			if err := w.copy(ctx, t); err != nil {
				return err
			}
		}
	}
	scratch, err := w.session.Workspace.Scratch()
	if err != nil {
		return err
	}
	folder, err := os.MkdirTemp(scratch, "agreed-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(folder)
	made := filepath.Join(folder, "agreed"+parcel.Suffix)
	if _, err := w.out.Finish(made, false); err != nil {
		return err
	}
	return os.Rename(made, w.path)
}

func (w *Writing) copy(ctx context.Context, t parcel.Type) error {
	out, err := w.out.InOrder(t.Name, t.Fields)
	if err != nil {
		return err
	}
	defer out.Discard()
	for rec, err := range w.old.Lines(ctx, t.Name) {
		if err == nil {
			err = out.Add(rec)
		}
		if err != nil {
			return err
		}
	}
	if _, err = out.Finish(false); err != nil {
		return err
	}
	return w.copySeen(ctx, t.Name)
}

// copySeen keeps the keys of a type that were seen.
func (w *Writing) copySeen(ctx context.Context, typ string) error {
	if w.old == nil {
		return nil
	}
	seen := w.out.Outside(typ)
	defer seen.Discard()
	for key, err := range w.old.Outside(ctx, typ) {
		if err == nil {
			err = seen.Add(key)
		}
		if err != nil {
			return err
		}
	}
	return seen.Finish()
}
