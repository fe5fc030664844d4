package flow

import (
	"bytes"
	"context"
	"errors"
	"io/fs"
	"iter"
	"maps"
	"net/url"
	"os"
	"path/filepath"
	"slices"

	"anagram/internal/core/catalog"
	"anagram/internal/core/pairing"
	"anagram/internal/core/record"
	"anagram/internal/store/docket"
	"anagram/internal/store/parcel"
	"anagram/internal/store/sorting"
)

// Agreed values: what two environments last had in common, kept for each pair in parcel
// form and replaced in one step after every match and import.

// agreedPath is where the agreed values of a pair are.
func (s *Session) agreedPath(source, target string) (string, error) {
	dir, err := s.Workspace.Agreed()
	return filepath.Join(dir, url.PathEscape(source)+"--"+url.PathEscape(target)+parcel.Suffix), err
}

// openAgreed opens the agreed values of a pair, nil where there are none yet.
func (s *Session) openAgreed(source, target string) (*parcel.Reader, error) {
	path, err := s.agreedPath(source, target)
	if err != nil {
		return nil, err
	}
	if _, err := os.Lstat(path); errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	p, err := parcel.Open(path)
	if err != nil {
		return nil, usage("The agreed values of %s and %s cannot be read (%v). Bring the file back, or remove it: then it is not known which side changed what since", source, target, err)
	}
	return p, nil
}

// agreedStream gives agreed records with other fields, of which only the keys are read until
// they are loaded; nil where nothing is known of the
// type, or its key was another one.
func agreedStream(ctx context.Context, p *parcel.Reader, typ string, shapes record.Shapes, fields []record.Field) record.Stream {
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
		return project(t, rec, fields)
	}
	rec.Load = func(r *record.Record) error {
		err := load(r)
		if err == nil {
			*r, err = project(t, *r, fields)
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
type agreeing struct {
	session *Session
	path    string
	old     *parcel.Reader // nil where there are none
	writer  *parcel.Writer
	done    map[string]bool
	upTo    map[string]string // see parcel.Manifest
}

// took notes that agreed values of a type are taken from a parcel.
func (a *agreeing) took(typ, exportedAt string) { a.upTo[typ] = max(a.upTo[typ], exportedAt) }

// agree begins to write agreed values anew; old is what they were.
func (s *Session) agree(source, target string, old *parcel.Reader, keys record.Shapes, catalogSource []byte) (*agreeing, error) {
	path, err := s.agreedPath(source, target)
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
		ExportedAt: s.stamp(), ExportedBy: s.Who, Program: s.Program, Keys: keys}, catalogSource)
	if err != nil {
		return nil, err
	}
	w.LeaveFilesOut()
	return &agreeing{session: s, path: path, old: old, writer: w, done: map[string]bool{}, upTo: upTo}, nil
}

// fields gives the fields that are kept of a type: those compared now, and others of
// which something was known.
func (a *agreeing) fields(typ string, shapes record.Shapes, compared []record.Field) []record.Field {
	out := slices.Clone(compared)
	if a.old == nil || !sameShape(a.old.Manifest.Keys[typ], shapes[typ]) {
		return out
	}
	t, _ := a.old.Manifest.Type(typ)
	for _, field := range t.Fields {
		if fieldAt(out, field.Name) < 0 {
			out = append(out, field)
		}
	}
	return out
}

// finish copies the types that were not touched, and replaces what there was.
func (a *agreeing) finish(ctx context.Context, c *catalog.Catalog, keys record.Shapes) error {
	defer a.writer.Discard()
	if a.old != nil {
		for _, t := range a.old.Manifest.Types {
			if _, known := c.Type(t.Name); !known || a.done[t.Name] || !sameShape(a.old.Manifest.Keys[t.Name], keys[t.Name]) {
				continue
			}
			out := a.writer.Type(t.Name, t.Fields)
			for rec, err := range a.old.Records(ctx, t.Name) {
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
	if _, err := a.writer.Finish(made, false); err != nil {
		return err
	}
	return os.Rename(made, a.path)
}

// remembered works out what is agreed on a key after a match; nil is nothing. The fields
// are those compared first, then others that are kept.
func remembered(fields []record.Field, compared int, whole bool, source, target, agreed *record.Record) *record.Record {
	switch {
	case source == nil && target == nil && whole:
		return nil // neither side has it any more
	case (source == nil || target == nil) && agreed == nil:
		return nil
	case source == nil || target == nil:
		kept := *agreed
		kept.Key = agreed.Stands()
		return &kept
	}
	key := source.Key
	if target.Was != nil { // they do not agree on the key yet
		if key = *target.Was; agreed != nil {
			key = agreed.Stands()
		}
	}
	out := record.Record{Key: key, Values: make([]record.Value, len(fields))}
	known := false
	for i, field := range fields {
		out.Values[i] = record.AbsentValue()
		if agreed != nil {
			out.Values[i] = agreed.Values[i]
		}
		if i < compared && !source.Values[i].IsAbsent() && !target.Values[i].IsAbsent() && field.Same(source.Values[i], target.Values[i]) {
			out.Values[i] = source.Values[i]
		}
		known = known || !out.Values[i].IsAbsent()
	}
	if !known && len(fields) > 0 {
		return nil
	}
	return &out
}

// rememberImport notes that both sides now have what was imported.
func (im *importing) rememberImport(ctx context.Context) error {
	s, h := im.session, im.docket.Header
	if h.ByHand {
		return nil
	}
	old, err := s.openAgreed(h.Source, h.Target)
	if err != nil {
		return err
	}
	names, err := pairsOf(im.docket) // as they were, not as they are now
	if err != nil {
		return err
	}
	if old != nil {
		defer old.Close()
	}
	a, err := s.agree(h.Source, h.Target, old, h.Keys, im.docket.Catalog.Source)
	if err != nil {
		return err
	}
	defer a.writer.Discard()
	scratch, err := s.Workspace.Scratch()
	if err != nil {
		return err
	}
	sorters := map[string]*sorting.Sorter{}
	defer func() {
		for _, sorter := range sorters {
			sorter.Close()
		}
	}()
	for batch := range slices.Chunk(im.standing.approved, importBatch) {
		var ids []int64
		for _, one := range batch {
			if im.left[one.id] == nil {
				ids = append(ids, one.id)
			}
		}
		lines, err := im.docket.Lines(ctx, ids)
		if err != nil {
			return err
		}
		for _, one := range batch {
			if im.left[one.id] != nil {
				continue
			}
			t, _ := im.docket.Type(one.typ)
			rec, err := record.ParseLine([]byte(lines[one.id].Source), one.typ, t.Fields, h.Keys)
			if err != nil {
				return err
			}
			for i, field := range t.Fields {
				if !one.writes(field.Name) {
					rec.Values[i] = record.AbsentValue()
				}
			}
			if sorters[one.typ] == nil {
				sorters[one.typ] = sorting.New(scratch)
			}
			stands := rec.Key
			if names.Paired(one.typ, rec.Key) && !one.rekeys(im.model.Catalog) {
				was, err := record.ParseLine([]byte(lines[one.id].Target), one.typ, t.Fields, h.Keys)
				if err != nil {
					return err
				}
				stands = was.Key
			}
			payload := append(record.AppendKey(nil, stands), 0)
			if err := sorters[one.typ].Add(sorting.Entry{Order: rec.Key.Order(), Payload: record.AppendLine(payload, t.Fields, rec)}); err != nil {
				return err
			}
		}
	}
	for typ, sorter := range sorters {
		t, _ := im.docket.Type(typ)
		if err := a.overlay(ctx, t, h.Keys, names, h.ExportedAt, sorter); err != nil {
			return err
		}
	}
	return a.finish(ctx, im.docket.Catalog, h.Keys)
}

// overlay writes a type with what was imported over what was agreed before.
func (a *agreeing) overlay(ctx context.Context, t docket.Type, shapes record.Shapes, names *pairing.Names, exportedAt string, sorter *sorting.Sorter) error {
	scratch, err := a.session.Workspace.Scratch()
	if err != nil {
		return err
	}
	a.done[t.Name] = true
	a.took(t.Name, exportedAt)
	fields := a.fields(t.Name, shapes, t.Fields)
	out := a.writer.Type(t.Name, fields)
	defer out.Discard()
	add, finish := out.Add, func() error { return nil }
	stream := agreedStream(ctx, a.old, t.Name, shapes, fields)
	if names.Touches(t.Name) {
		keyed := &rekeyed{sorter: sorting.New(scratch), typ: t.Name, fields: fields, shapes: shapes}
		defer keyed.sorter.Close()
		add, finish = keyed.add, func() error { return keyed.into(out) }
		stream = bySource(scratch, stream, names, t.Name, fields, shapes)
	}
	if stream == nil {
		stream = func(func(record.Record, error) bool) {}
	}
	next, stop := iter.Pull2(stream)
	defer stop()
	old, err, more := next()
	keep := func() error { // what was agreed before
		if err := loaded(&old); err != nil {
			return err
		}
		old.Key, old.Was = old.Stands(), nil
		if err := add(old); err != nil {
			return err
		}
		old, err, more = next()
		return err
	}
	for entry, sortErr := range sorter.Sorted() {
		if sortErr != nil {
			return sortErr
		}
		stands, line, _ := bytes.Cut(entry.Payload, []byte{0})
		fresh, parseErr := record.ParseLine(line, t.Name, fields, shapes)
		if parseErr != nil {
			return parseErr
		}
		for more && err == nil && old.Key.Compare(fresh.Key) < 0 {
			if err := keep(); err != nil {
				return err
			}
		}
		if err != nil {
			return err
		}
		if more && old.Key.Compare(fresh.Key) == 0 {
			if err := loaded(&old); err != nil {
				return err
			}
			for i := range fresh.Values {
				if fresh.Values[i].IsAbsent() {
					fresh.Values[i] = old.Values[i]
				}
			}
			old, err, more = next()
		}
		if fresh.Key, parseErr = shapes.ParseKey(stands, t.Name); parseErr != nil {
			return parseErr
		}
		if err := add(fresh); err != nil {
			return err
		}
	}
	for more && err == nil {
		if err := keep(); err != nil {
			return err
		}
	}
	if err == nil {
		err = finish()
	}
	if err != nil {
		return err
	}
	_, err = out.Finish(false)
	return err
}
