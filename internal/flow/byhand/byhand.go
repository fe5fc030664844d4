package byhand

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"anagram/internal/core/catalog"
	"anagram/internal/core/record"
	"anagram/internal/core/yamldoc"
	"anagram/internal/files/safe"
	"anagram/internal/files/sheet"
	"anagram/internal/files/spill"
	"anagram/internal/flow/choose"
	"anagram/internal/flow/export"
	"anagram/internal/flow/fit"
	"anagram/internal/flow/library"
	"anagram/internal/flow/session"
	"anagram/internal/store/parcel"
)

// Parcels that are edited or written by hand.

// Reseal checks an edited parcel as a whole and seals it again in its place. The note
// says why it was edited; it stays visible wherever the parcel is used.
func Reseal(ctx context.Context, s *session.Session, name, note string) (export.Result, error) {
	if strings.TrimSpace(note) == "" {
		return export.Result{},
			session.Usage("parcel reseal needs --note: why the parcel was edited; everybody who reviews it will see that")
	}
	path, err := library.Path(s, name)
	if err != nil {
		return export.Result{}, err
	}
	e, err := parcel.OpenEdited(path, nil, nil)
	if err != nil {
		return export.Result{}, err
	}
	defer e.Close()
	m := e.Manifest
	m.Resealed = append(m.Resealed, parcel.Reseal{At: s.Stamp(), By: s.Who, Note: note})
	info, err := os.Stat(path)
	if err != nil {
		return export.Result{}, err
	}
	scratch, err := s.Workspace.Scratch()
	if err != nil {
		return export.Result{}, err
	}
	folder, err := os.MkdirTemp(scratch, "sealed-")
	if err != nil {
		return export.Result{}, err
	}
	defer os.RemoveAll(folder)
	made := filepath.Join(folder, "parcel")
	result, err := seal(ctx, s, e, m, made, info.IsDir())
	if err != nil {
		return result, err
	}
	_ = e.Close()
	if err := parcel.Replace(path, made); err != nil {
		return result, err
	}
	result.File = path
	result.Bytes, err = parcel.Size(path)
	return result, err
}

// MakeRequest says what to make a parcel of.
type MakeRequest struct {
	Folder string
	// Like is the environment or parcel whose fields the records have, and whose release
	// and settings they are meant for.
	Like string
	Name string
	Note string
}

// Make makes a parcel of a folder that was written by hand: records/TYPE.jsonl, .csv or
// .xlsx, and attachments under files/.
func Make(ctx context.Context, s *session.Session, r MakeRequest) (export.Result, error) {
	if r.Like == "" {
		return export.Result{},
			session.Usage("parcel make needs --like: the environment or parcel that tells which fields the record types have")
	}
	about, source, err := like(ctx, s, r.Like)
	if err != nil {
		return export.Result{}, err
	}
	if r.Name == "" {
		r.Name = filepath.Base(filepath.Clean(r.Folder))
	}
	name, path, err := library.NewPath(s, r.Name, "", false)
	if err != nil {
		return export.Result{}, err
	}
	if parcel.Exists(filepath.Join(r.Folder, "parcel.json")) {
		return export.Result{}, session.Usage("%s is a parcel already; after editing it is sealed with: anagram parcel reseal", r.Folder)
	}
	e, err := parcel.OpenEdited(r.Folder, &about, source)
	if err != nil {
		return export.Result{}, err
	}
	defer e.Close()
	m := about
	m.Name, m.Note, m.Origin, m.Source, m.ExportedAt, m.ExportedBy, m.Program = name, r.Note, "hand", "hand", s.Stamp(), s.Who, s.Program
	m.Selection.Related = parcel.RelatedNone // what it does not hold, it says nothing about
	return seal(ctx, s, e, m, path, false)
}

// like gives the kinds of fields, as an environment or another parcel has them.
func like(ctx context.Context, s *session.Session, name string) (parcel.Manifest, []byte, error) {
	var m parcel.Manifest
	if _, err := s.Workspace.Environment(name); err != nil {
		p, pathErr := library.Open(s, name)
		if pathErr != nil {
			return m, nil, session.Usage("--like %q is neither an environment nor a parcel%s", name,
				yamldoc.Nearest(name, s.EnvironmentNames()))
		}
		defer p.Close()
		m.Keys, m.Release, m.Settings = p.Manifest.Keys, p.Manifest.Release, p.Manifest.Settings
		for _, t := range p.Manifest.Types {
			m.Types = append(m.Types, parcel.Type{Name: t.Name, Fields: t.Fields})
		}
		return m, p.Catalog.Source, nil
	}
	c, err := s.Workspace.Catalog()
	if err != nil {
		return m, nil, err
	}
	env, err := s.OpenDescribed(ctx, name, c)
	if err != nil {
		return m, nil, err
	}
	defer env.Close()
	self, err := fit.SideOf(ctx, s, fit.Of(env), c, name)
	if err != nil {
		return m, nil, err
	}
	m.Keys, m.Release, m.Settings = env.Fit.Shapes, self.Release, self.Settings
	for _, t := range c.Types {
		if fields := env.Fit.Fields[t.Name]; fields != nil {
			m.Types = append(m.Types, parcel.Type{Name: t.Name, Fields: fields})
		}
	}
	source, err := c.Travelling(name)
	return m, source, err
}

// sealing checks the records of an edited parcel while it writes them anew.
type sealing struct {
	session *session.Session
	edited  *parcel.Edited
	writer  *parcel.Writer
	set     *spill.Picked
	whole   map[string]bool
}

func seal(ctx context.Context, s *session.Session, e *parcel.Edited, m parcel.Manifest, path string, asFolder bool) (export.Result, error) {
	var result export.Result
	types, err := e.Types()
	if err != nil {
		return result, err
	}
	if len(types) == 0 {
		return result, session.Usage("%s holds no records: they are in records/TYPE.jsonl, .csv or .xlsx", e.Path())
	}
	if err := keysAsDescribed(e.Catalog, m.Keys); err != nil {
		return result, err
	}
	scratch, err := s.Workspace.Scratch()
	if err != nil {
		return result, err
	}
	set, err := spill.NewPicked(scratch)
	if err != nil {
		return result, err
	}
	defer set.Close()
	outside := m.Outside
	m.Types, m.Files, m.Referred, m.Outside = nil, nil, nil, nil
	w, err := parcel.Create(scratch, m, e.Catalog.Source)
	if err != nil {
		return result, err
	}
	defer w.Discard()
	sl := &sealing{session: s, edited: e, writer: w, set: set, whole: map[string]bool{}}
	for _, t := range types {
		sl.whole[t.Name] = t.Whole
		if err := sl.records(ctx, scratch, t); err != nil {
			return result, err
		}
	}
	if err := sl.references(); err != nil {
		return result, err
	}
	for _, o := range outside {
		if err := sl.outside(ctx, o.Name); err != nil {
			return result, err
		}
	}
	result.Manifest, err = w.Finish(path, asFolder)
	result.File = path
	if err == nil {
		result.Bytes, err = parcel.Size(path)
	}
	return result, err
}

// keysAsDescribed refuses a catalog whose keys are no longer those of the records.
func keysAsDescribed(c *catalog.Catalog, keys record.Shapes) error {
	for _, t := range c.Types {
		if shape, ok := keys[t.Name]; ok && len(shape) > 0 {
			for i, field := range shape {
				if i >= len(t.Key) || t.Key[i] != field.Name || len(shape) != len(t.Key) {
					return session.Usage("catalog.yaml of the parcel says the key of %s is %v, parcel.json says otherwise; only records are edited by hand", t.Name, t.Key)
				}
			}
		}
	}
	return nil
}

// records checks and writes the records of a type.
func (sl *sealing) records(ctx context.Context, scratch string, t parcel.Type) error {
	out := sl.writer.Type(t.Name, t.Fields)
	defer out.Discard()
	seen := spill.NewSorter(scratch)
	defer seen.Close()
	sl.session.Progress.Start(t.Name, 0)
	defer sl.session.Progress.Done()
	err := sl.edited.EditedRecords(ctx, t, func(line int, rec record.Record) error {
		address := sl.edited.Catalog.Address(t.Name, rec.Key)
		if rec.Why == "" {
			rec.Why = parcel.WhyChosen
		}
		if err := seen.Add(spill.Entry{Order: rec.Key.Order(), Payload: append(binary.BigEndian.AppendUint64(nil, uint64(line)),
			address...)}); err != nil {
			return err
		}
		if err := sl.set.Pick(spill.Pick{Type: t.Name, Order: rec.Key.Order(), Key: string(record.AppendKey(nil, rec.Key))},
			0); err != nil {
			return err
		}
		shape := sl.edited.Manifest.Keys[t.Name]
		for i, part := range rec.Key.Parts() {
			if err := sl.refer(part, spill.Pick{From: t.Name, Line: line, Through: address + " " + shape[i].Name}); err != nil {
				return err
			}
		}
		for i, v := range rec.Values {
			if err := sl.refer(v, spill.Pick{From: t.Name, Line: line, Through: address + " " + t.Fields[i].Name}); err != nil {
				return err
			}
		}
		sl.session.Progress.Add(1)
		return out.Add(rec)
	})
	if err != nil {
		return err
	}
	last := spill.Entry{}
	for entry, err := range seen.Sorted() {
		if err != nil {
			return err
		}
		if last.Payload != nil && entry.Order == last.Order {
			before, at := binary.BigEndian.Uint64(last.Payload), binary.BigEndian.Uint64(entry.Payload)
			return sl.edited.Place(t.Name, int(at), fmt.Sprintf("%s stands in line %d already; a key may occur once",
				entry.Payload[8:], before))
		}
		last = entry
	}
	_, err = out.Finish(t.Whole)
	return err
}

// refer notes what a value refers to, and where it stands.
func (sl *sealing) refer(v record.Value, at spill.Pick) error {
	for _, ref := range v.References() {
		at.Type, at.Order, at.Key = ref.Refers(), ref.Key().Order(), string(record.AppendKey(nil, ref.Key()))
		if err := sl.set.Refer(at); err != nil {
			return err
		}
	}
	return nil
}

// references checks what the records refer to: a record of a type that is here whole has
// to be here; others are listed as only referred to.
func (sl *sealing) references() error {
	return sl.writer.Referred(choose.Mentions(sl.set, func([]spill.Pick) error { return nil }, func(r spill.Pick) (parcel.Mention, error) {
		key, err := sl.edited.Manifest.Keys.ParseKey([]byte(r.Key), r.Type)
		if err != nil {
			return parcel.Mention{}, err
		}
		address := sl.edited.Catalog.Address(r.Type, key)
		if sl.whole[r.Type] {
			return parcel.Mention{}, sl.edited.Place(r.From, r.Line,
				fmt.Sprintf("%s refers to %s, which is not in the parcel, though all of %s is", r.Through, address, r.Type))
		}
		return parcel.Mention{Address: address, Through: r.Through}, nil
	}))
}

// WriteTable writes the records of one type of a parcel as a CSV file or a spreadsheet,
// by the ending of the file's name. What is there already is never overwritten.
func WriteTable(ctx context.Context, s *session.Session, name, typ, path string) (int, error) {
	p, err := library.Open(s, name)
	if err != nil {
		return 0, err
	}
	defer p.Close()
	t, ok := p.Manifest.Type(typ)
	if !ok {
		var names []string
		for _, t := range p.Manifest.Types {
			names = append(names, t.Name)
		}
		return 0, session.Usage("Parcel %s holds no records of %q%s", name, typ, yamldoc.Nearest(typ, names))
	}
	form := strings.ToLower(filepath.Ext(path))
	if form != ".csv" && form != ".xlsx" {
		return 0, session.Usage("--out %s: the name ends in .csv or .xlsx", path)
	}
	n := 0
	err = safe.WriteNew(path, func(out io.Writer) (err error) {
		n, err = writeTable(ctx, p, t, out, form)
		return err
	})
	if errors.Is(err, fs.ErrExist) {
		return 0, session.Usage("%s already exists; name another file with --out", path)
	}
	return n, err
}

func writeTable(ctx context.Context, p *parcel.Reader, t parcel.Type, f io.Writer, form string) (int, error) {
	var w sheet.Writer
	var err error
	if w = sheet.NewCSV(f); form == ".xlsx" {
		if w, err = sheet.NewXLSX(f, t.Name); err != nil {
			return 0, err
		}
	}
	table := sheet.Table{Catalog: p.Catalog, Shapes: p.Manifest.Keys, Type: t.Name, Fields: t.Fields}
	if err := w.Row(table.Header()); err != nil {
		return 0, err
	}
	n := 0
	for rec, err := range p.Records(ctx, t.Name) {
		if err != nil {
			return n, err
		}
		cells, err := table.Row(rec)
		if err == nil {
			err = w.Row(cells)
		}
		if err != nil {
			return n, fmt.Errorf("%s: %w", p.Catalog.Address(t.Name, rec.Key), err)
		}
		n++
	}
	return n, w.Close()
}

// outside takes over the keys that the source leaves out of a type.
func (sl *sealing) outside(ctx context.Context, typ string) error {
	list := sl.writer.Outside(typ)
	defer list.Discard()
	for key, err := range sl.edited.Outside(ctx, typ) {
		if err == nil {
			err = list.Add(key)
		}
		if err != nil {
			return err
		}
	}
	return list.Finish()
}
