package importing

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize/english"

	"anagram/internal/core/match"
	"anagram/internal/core/record"
	"anagram/internal/core/sequence"
	"anagram/internal/core/sheet"
	"anagram/internal/core/show"
	"anagram/internal/environment"
	"anagram/internal/flow/session"
	"anagram/internal/flow/sides"
	"anagram/internal/flow/standing"
	"anagram/internal/store/docket"
)

// Load files: what is approved, as files for somebody else to load.

// LoadForms lists the forms of load files.
func LoadForms() []string { return []string{"csv", "jsonl", "sql"} }

// onlyRead lets an environment stand where a unit of work reads; nothing is written.
type onlyRead struct{ environment.Environment }

func (onlyRead) Write(context.Context, *environment.Model, []environment.Change) ([]error, error) {
	return nil, errors.New("nothing is written here")
}

func (onlyRead) Commit(context.Context) error { return nil }

func (onlyRead) Rollback() error { return nil }

// WriteLoadFiles writes the approved records and fields of a docket into a new folder,
// in import order. The target is only read.
func WriteLoadFiles(ctx context.Context, s *session.Session, d *docket.Docket, dir, form string) (Result, error) {
	start := time.Now()
	im, err := newImporting(s, d)
	if err != nil {
		return im.result, err
	}
	if !slices.Contains(LoadForms(), form) {
		return im.result, session.Usage("--form is csv, jsonl or sql, not %q", form)
	}
	if info, err := os.Lstat(dir); err == nil {
		entries, _ := os.ReadDir(dir)
		if !info.IsDir() || len(entries) > 0 {
			return im.result, session.Usage("%s is there already and is no empty folder; name a new one with --into-files", dir)
		}
	}
	err = im.writeOut(ctx, dir, form)
	im.finish(start)
	return im.result, err
}

func (im *importing) writeOut(ctx context.Context, dir, form string) error {
	s, d := im.session, im.docket
	ready, err := im.prepare(ctx, docket.WrittenOut)
	if err != nil || !ready {
		return err
	}
	env, err := s.Open(ctx, d.Header.Target, true)
	if err != nil {
		return err
	}
	defer env.Close()
	im.work = sides.PairedInto(onlyRead{env}, im.names)
	if im.run, err = d.StartRun(ctx, docket.FilesRun, s.Who, s.Now()); err != nil {
		return err
	}
	writes, err := im.standAgain(ctx)
	if err == nil {
		err = im.loadFiles(ctx, env, dir, form, writes)
	}
	switch {
	case err != nil && ctx.Err() != nil:
		im.result.Outcome, err = docket.Interrupted, ctx.Err()
	case err != nil:
		im.result.Outcome = docket.Failed
	default:
		im.result.Outcome = docket.WrittenOut
	}
	return errors.Join(err, im.end(context.WithoutCancel(ctx), err))
}

// loadFiles writes into a folder beside the wanted one, which it becomes at the end.
func (im *importing) loadFiles(ctx context.Context, env environment.Environment, dir, form string, writes []sequence.Write) error {
	if err := os.MkdirAll(filepath.Dir(dir), 0o755); err != nil {
		return err
	}
	made, err := os.MkdirTemp(filepath.Dir(dir), ".load-files-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(made)
	l := &loadWriter{im: im, dir: made, form: form}
	if form == "sql" {
		scripter, ok := env.(environment.Scripter)
		if !ok {
			return session.Usage("%s takes no SQL; write the files as csv or jsonl", im.docket.Header.Target)
		}
		l.scripter = scripter
	}
	if err := l.write(ctx, writes); err != nil {
		return err
	}
	if err := os.Chmod(made, 0o755); err != nil {
		return err
	}
	_ = os.Remove(dir) // an empty folder
	return os.Rename(made, dir)
}

// loadWriter writes the files. Each holds changes of one type and one kind that follow
// each other; their numbers give the order.
type loadWriter struct {
	im       *importing
	dir      string
	form     string
	scripter environment.Scripter

	names  []string
	group  string // what the open file holds
	file   *os.File
	out    *bufio.Writer
	table  sheet.Writer
	counts []int
}

func (l *loadWriter) write(ctx context.Context, writes []sequence.Write) error {
	im := l.im
	byID := map[int64]*standing.Approval{}
	for _, a := range im.standing.Approved {
		byID[a.Id] = a
	}
	im.session.Progress.Start("writing load files", len(writes))
	defer im.session.Progress.Done()
	defer func() { _ = l.close() }()
	for batch := range slices.Chunk(writes, importBatch) {
		ids := make([]int64, len(batch))
		for i, w := range batch {
			ids[i] = w.ID
		}
		lines, err := im.docket.Lines(ctx, ids)
		if err != nil {
			return err
		}
		for _, w := range batch {
			change, err := im.change(byID[w.ID], w, lines[w.ID])
			if err != nil {
				return err
			}
			source := change.Key
			change = sides.Named(im.names, change)
			if err := l.change(ctx, change); err != nil {
				return err
			}
			if change.Was != nil {
				im.names.Written(change.Type, source)
			}
			switch {
			case len(w.Only) > 0:
			case change.Insert:
				im.result.New++
			default:
				im.result.Changed++
			}
			im.session.Progress.Add(1)
		}
	}
	if err := l.close(); err != nil {
		return err
	}
	return l.about()
}

func (l *loadWriter) change(ctx context.Context, c environment.Change) error {
	for _, v := range c.Values {
		if v.Kind() == record.Bytes && l.form != "sql" {
			if err := l.attachment(v); err != nil {
				return err
			}
		}
	}
	action := "change"
	if c.Insert {
		action = "add"
	}
	if c.Was != nil && l.form != "sql" {
		action, c = "rekey", l.rekey(c)
	}
	names := make([]string, len(c.Fields))
	for i, field := range c.Fields {
		names[i] = field.Name
	}
	switch l.form {
	case "sql":
		text, err := l.scripter.Script(ctx, l.im.model, c)
		if err != nil {
			return err
		}
		if err := l.open("sql", "load.sql"); err != nil {
			return err
		}
		_, err = fmt.Fprintln(l.out, text)
		return err
	case "jsonl":
		if err := l.open(c.Type+action, c.Type+"-"+action+".jsonl"); err != nil {
			return err
		}
		fields, values := l.withFixed(c)
		_, err := l.out.Write(append(record.AppendLine(nil, fields, record.Record{Key: c.Key, Values: values}), '\n'))
		l.counts[len(l.counts)-1]++
		return err
	default:
		fields, values := l.withFixed(c)
		table := sheet.Table{Catalog: l.im.model.Catalog, Shapes: l.im.model.Shapes, Type: c.Type, Fields: fields}
		fresh := l.group != c.Type+action+strings.Join(table.Header(), "\x00")
		if err := l.open(c.Type+action+strings.Join(table.Header(), "\x00"), c.Type+"-"+action+".csv"); err != nil {
			return err
		}
		if fresh {
			l.table = sheet.NewCSV(l.out)
			if err := l.table.Row(table.Header()); err != nil {
				return err
			}
		}
		cells, err := table.Row(record.Record{Key: c.Key, Values: values})
		if err != nil {
			return err
		}
		l.counts[len(l.counts)-1]++
		return l.table.Row(cells)
	}
}

// rekey makes a change of a key one of ordinary fields: the record by the key that it has
// so far, and the new values of the key as new_ and the field's name.
func (l *loadWriter) rekey(c environment.Change) environment.Change {
	fields, values := []record.Field{}, []record.Value{}
	for i, field := range l.im.model.Shapes[c.Type] {
		if !field.Same(c.Key.Parts()[i], c.Was.Parts()[i]) {
			field.Name = "new_" + field.Name
			fields, values = append(fields, field), append(values, c.Key.Parts()[i])
		}
	}
	c.Key, c.Was = *c.Was, nil
	c.Fields, c.Values = append(fields, c.Fields...), append(values, c.Values...)
	return c
}

// withFixed adds the values of fields that belong to the target alone.
func (l *loadWriter) withFixed(c environment.Change) ([]record.Field, []record.Value) {
	fields, values := slices.Clone(c.Fields), slices.Clone(c.Values)
	for _, name := range slices.Sorted(maps.Keys(c.Fixed)) {
		v, err := record.TextValue(c.Fixed[name])
		if err == nil {
			fields, values = append(fields, record.Field{Name: name, Kind: record.Text}), append(values, v)
		}
	}
	return fields, values
}

// open goes on with the open file where it holds the same, else begins the next.
func (l *loadWriter) open(group, name string) error {
	if l.group == group {
		return nil
	}
	if err := l.close(); err != nil {
		return err
	}
	l.group = group
	if l.form != "sql" {
		name = fmt.Sprintf("%02d-%s", len(l.names)+1, name)
	}
	f, err := os.OpenFile(filepath.Join(l.dir, name), os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	l.file, l.out = f, bufio.NewWriter(f)
	l.names, l.counts = append(l.names, name), append(l.counts, 0)
	if l.form == "sql" {
		h := l.im.docket.Header
		_, err = fmt.Fprintf(l.out, "-- Docket %d: %s to %s, matched %s, written %s by %s.\n-- Run it as a whole; it is one transaction.\nBEGIN;\n",
			h.Number, h.Source, h.Target, session.Minute(h.MatchedAt), session.Minute(docket.Stamp(l.im.session.Now())), harmlessComment(l.im.session.Who))
	}
	return err
}

func harmlessComment(text string) string { return strings.ReplaceAll(show.Harmless(text), "\n", " ") }

func (l *loadWriter) close() error {
	if l.file == nil {
		return nil
	}
	var err error
	if l.form == "sql" {
		_, err = fmt.Fprintln(l.out, "COMMIT;")
	}
	if l.table != nil {
		err = errors.Join(err, l.table.Close())
	}
	err = errors.Join(err, l.out.Flush(), l.file.Close())
	l.file, l.table, l.group = nil, nil, ""
	return err
}

func (l *loadWriter) attachment(v record.Value) error {
	if err := os.MkdirAll(filepath.Join(l.dir, "files"), 0o755); err != nil {
		return err
	}
	in, err := v.Content().Open()
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.Create(filepath.Join(l.dir, "files", v.Text()))
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Close())
}

// about writes what the files are, for whoever loads them.
func (l *loadWriter) about() error {
	h := l.im.docket.Header
	var out strings.Builder
	fmt.Fprintf(&out, "Load files of docket %d: %s to %s\n", h.Number, h.Source, h.Target)
	fmt.Fprintf(&out, "parcel %s, exported %s by %s, matched %s by %s\n", h.Parcel, session.Minute(h.ExportedAt), h.ExportedBy, session.Minute(h.MatchedAt), h.MatchedBy)
	fmt.Fprintf(&out, "written %s by %s: %d new and %d changed records, only what was approved\n\n", session.Minute(docket.Stamp(l.im.session.Now())), show.Harmless(l.im.session.Who), l.im.result.New, l.im.result.Changed)
	out.WriteString("Load them in this order:\n")
	for i, name := range l.names {
		if l.form == "sql" {
			fmt.Fprintf(&out, "  %s\n", name)
		} else {
			fmt.Fprintf(&out, "  %s  %s\n", name, english.Plural(l.counts[i], "record", "records"))
		}
	}
	if l.form == "csv" {
		out.WriteString("\nAn empty cell is null, \"\" in quotes is the empty text. References are keys.\n")
	}
	return os.WriteFile(filepath.Join(l.dir, "about.txt"), []byte(out.String()), 0o644)
}

// Confirmation says whether the load files of a docket were loaded.
type Confirmation struct {
	Docket  int
	Records int
	Missing int // that are not in the target as approved
}

// ConfirmLoads looks whether the load files of earlier dockets were loaded into a target
// that was just matched, and records it where all of them were.
func ConfirmLoads(ctx context.Context, s *session.Session, target string) ([]Confirmation, error) {
	summaries, err := s.Summaries(ctx)
	if err != nil {
		return nil, err
	}
	var out []Confirmation
	var env environment.Environment
	for _, summary := range summaries {
		if summary.Err != nil || summary.Header.Target != target || summary.Header.TargetParcel != "" || !docket.LoadsWait(summary.Runs) {
			continue
		}
		if env == nil {
			if env, err = s.Open(ctx, target, true); err != nil {
				return nil, err
			}
			defer env.Close()
		}
		c, err := confirm(ctx, s, env, summary.Path)
		if err != nil {
			return nil, err
		}
		out = append(out, c)
	}
	return out, nil
}

func confirm(ctx context.Context, s *session.Session, env environment.Environment, path string) (Confirmation, error) {
	d, err := docket.Open(ctx, path)
	if err != nil {
		return Confirmation{}, err
	}
	defer d.Close()
	out := Confirmation{Docket: d.Header.Number}
	im, err := newImporting(s, d)
	if err != nil {
		return out, err
	}
	im.work = sides.PairedInto(onlyRead{env}, im.names)
	if im.standing, err = standing.Read(ctx, d); err != nil {
		return out, err
	}
	for id := range im.standing.Blocked {
		im.left[id] = &LeftOut{}
	}
	var added, changed int
	err = im.pending(func(t docket.Type, batch []*standing.Approval) error {
		now, lines, err := im.current(ctx, t, batch)
		if err != nil {
			return err
		}
		for _, a := range batch {
			out.Records++
			source, err := record.ParseLine([]byte(lines[a.Id].Source), t.Name, t.Fields, im.model.Shapes)
			if err != nil {
				return err
			}
			here := now[lines[a.Id].Order]
			loaded := len(here) == 1 && (here[0].Was == nil || !a.Rekeys(d.Catalog)) && !slices.ContainsFunc(match.Compare(t.Fields, source.Values, here[0].Values, nil), func(d match.Difference) bool { return a.Writes(t.Fields[d.Field].Name) })
			switch {
			case !loaded:
				out.Missing++
			case a.Status == match.New:
				added++
			default:
				changed++
			}
		}
		return nil
	})
	if err != nil || out.Missing > 0 || out.Records == 0 {
		return out, err
	}
	run, err := d.StartRun(ctx, docket.ConfirmRun, s.Who, s.Now())
	if err != nil {
		return out, err
	}
	return out, d.EndRun(ctx, docket.Run{Seq: run, Outcome: docket.Imported, New: added, Changed: changed}, s.Now(), nil)
}
