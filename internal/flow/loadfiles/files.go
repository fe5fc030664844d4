package loadfiles

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
	"strconv"
	"strings"

	"anagram/internal/core/record"
	"anagram/internal/core/sequence"
	"anagram/internal/core/show"
	"anagram/internal/environment"
	"anagram/internal/files/safe"
	"anagram/internal/files/sheet"
	"anagram/internal/flow/importing/prepare"
	"anagram/internal/flow/importing/write"
	"anagram/internal/flow/session"
	"anagram/internal/flow/sides"
	"anagram/internal/flow/standing"
	"anagram/internal/store/docket/run"
)

// loadWriter writes the files. Each holds changes of one type and one kind that follow
// each other; their numbers give the order.
type loadWriter struct {
	session *session.Session
	ready   prepare.Ready
	dir     string
	form    string
	script  environment.Script
	lasting []string // places whose writes cannot be taken back

	names   []string
	group   string // what the open file holds
	subject string // the record that the statements before were about
	file    *os.File
	out     *bufio.Writer
	table   sheet.Writer
	counts  []int
	written write.Written
}

func (l *loadWriter) write(ctx context.Context, writes []sequence.Write) error {
	l.session.Progress.Start("writing load files", len(writes))
	defer l.session.Progress.Done()
	defer func() { _ = l.close() }()
	if len(l.lasting) > 0 { // what is not as expected is found before the first write
		err := write.EachChange(ctx, l.ready, writes, true, func(_ []sequence.Write, _ []*standing.Approval,
			changes []environment.Change) error {
			for _, c := range changes {
				if err := l.check(ctx, sides.Named(l.ready.Names, c)); err != nil {
					return err
				}
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
	err := write.EachChange(ctx, l.ready, writes, true, func(batch []sequence.Write, _ []*standing.Approval,
		changes []environment.Change) error {
		for i, w := range batch {
			source := changes[i].Key
			change := sides.Named(l.ready.Names, changes[i])
			if err := l.change(ctx, change); err != nil {
				return err
			}
			if change.Was != nil {
				l.ready.Names.Written(change.Type, source)
			}
			l.written.Count(w, change)
			l.session.Progress.Add(1)
		}
		return nil
	})
	if err != nil {
		return err
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
		if len(l.lasting) == 0 {
			if err := l.check(ctx, c); err != nil {
				return err
			}
		}
		text, err := l.script.Write(ctx, l.ready.Model, c)
		if err != nil {
			return err
		}
		return l.statements(c, text)
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
		table := sheet.Table{Catalog: l.ready.Model.Catalog, Shapes: l.ready.Model.Shapes, Type: c.Type, Fields: fields}
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

// check writes the statements that hold a record against what it was.
func (l *loadWriter) check(ctx context.Context, c environment.Change) error {
	text, err := l.script.Check(ctx, l.ready.Model, c)
	if err != nil {
		return err
	}
	return l.statements(c, text)
}

// statements writes some of the script, below the record that they are about.
func (l *loadWriter) statements(c environment.Change, text string) error {
	if text == "" {
		return nil
	}
	if err := l.open("sql", "load.sql"); err != nil {
		return err
	}
	if address := l.ready.Model.Catalog.Address(c.Type, c.Key); address != l.subject {
		l.subject = address
		if _, err := fmt.Fprintf(l.out, "-- %s\n", harmlessComment(address)); err != nil {
			return err
		}
	}
	_, err := l.out.WriteString(text)
	return err
}

// rekey makes a change of a key one of ordinary fields: the record by the key that it has
// so far, and the new values of the key as new_ and the field's name.
func (l *loadWriter) rekey(c environment.Change) environment.Change {
	fields, values := []record.Field{}, []record.Value{}
	for i, field := range l.ready.Model.Shapes[c.Type] {
		if !field.Same(c.Key.Parts()[i], c.Was.Parts()[i]) {
			field.Name = "new_" + field.Name
			fields, values = append(fields, field), append(values, c.Key.Parts()[i])
		}
	}
	c.Key, c.Was = *c.Was, nil
	c.Fields, c.Values = append(fields, c.Fields...), append(values, c.Values...)
	return c
}

// withFixed adds the values of fields that belong to the target alone, and the stamps of a
// new record that nothing else fills.
func (l *loadWriter) withFixed(c environment.Change) ([]record.Field, []record.Value) {
	fields, values := slices.Clone(c.Fields), slices.Clone(c.Values)
	for _, name := range slices.Sorted(maps.Keys(c.Fixed)) {
		v, err := record.TextValue(c.Fixed[name])
		if err == nil {
			fields, values = append(fields, record.Field{Name: name, Kind: record.Text}), append(values, v)
		}
	}
	if !c.Insert {
		return fields, values
	}
	m := l.ready.Model
	t, _ := m.Catalog.Type(c.Type)
	now := l.session.Now().UTC()
	if m.Here != nil {
		now = now.In(m.Here)
	}
	for _, stamp := range t.Stamped(l.ready.Places[t.Place(m.Environment)], m.Environment, c.By) {
		if v, ok := t.Stamp(stamp, m.Environment, c.By, now); ok && record.FieldAt(fields, stamp.Name) < 0 {
			fields, values = append(fields, record.Field{Name: stamp.Name, Kind: v.Kind()}), append(values, v)
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
	f, err := safe.CreateNew(filepath.Join(l.dir, name))
	if err != nil {
		return err
	}
	l.file, l.out = f, bufio.NewWriter(f)
	l.names, l.counts = append(l.names, name), append(l.counts, 0)
	if l.form == "sql" {
		h := l.ready.Docket.Header
		_, err = fmt.Fprintf(l.out, "-- Docket %d: %s to %s, matched %s, written %s by %s.\n%s%s\n",
			h.Number, harmlessComment(h.Source), harmlessComment(h.Target), session.Minute(h.MatchedAt),
			session.Minute(run.Stamp(l.session.Now())), harmlessComment(l.session.Who), l.promise(), l.script.Begin())
	}
	return err
}

// promise says in comments what the script does where something is in its way.
func (l *loadWriter) promise() string {
	const run = "-- Run it as a whole, once. It expects the records as they were when it was written, and\n-- reads again what it wrote; a column of anagram_script that is not to be null says what is\n-- not so. "
	if len(l.lasting) == 0 {
		return run + "It is one transaction: all of it is done, or nothing.\n"
	}
	list := harmlessComment(strings.Join(l.lasting, ", "))
	return run + "It is NOT one transaction: what was written to\n-- " + list + " before an error stays, as these tables keep no\n-- transactions. All records are looked at before the first is written.\n"
}

// harmlessComment makes a text one that ends no comment, in whatever encoding it is read.
func harmlessComment(text string) string {
	quoted := strconv.QuoteToASCII(text)
	return strings.ReplaceAll(quoted[1:len(quoted)-1], `\"`, `"`)
}

func (l *loadWriter) close() error {
	if l.file == nil {
		return nil
	}
	var err error
	if l.form == "sql" {
		_, err = fmt.Fprintln(l.out, l.script.End())
	}
	if l.table != nil {
		err = errors.Join(err, l.table.Close())
	}
	err = errors.Join(err, l.out.Flush(), l.file.Close())
	l.file, l.table, l.group = nil, nil, ""
	return err
}

func (l *loadWriter) attachment(v record.Value) error {
	if err := os.MkdirAll(filepath.Join(l.dir, "files"), 0o700); err != nil {
		return err
	}
	in, err := v.Content().Open()
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(filepath.Join(l.dir, "files", v.Text()), os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Close())
}

// about writes what the files are, for whoever loads them.
func (l *loadWriter) about() error {
	h := l.ready.Docket.Header
	var out strings.Builder
	plain := show.Harmless
	fmt.Fprintf(&out, "Load files of docket %d: %s to %s\n", h.Number, plain(h.Source), plain(h.Target))
	fmt.Fprintf(&out, "parcel %s, exported %s by %s, matched %s by %s\n", plain(h.Parcel), session.Minute(h.ExportedAt),
		plain(h.ExportedBy), session.Minute(h.MatchedAt), plain(h.MatchedBy))
	fmt.Fprintf(&out, "written %s by %s: %s, only what was approved\n\n", session.Minute(run.Stamp(l.session.Now())),
		plain(l.session.Who), show.Written(l.written.New, l.written.Changed, 0))
	out.WriteString("Load them in this order:\n")
	for i, name := range l.names {
		if l.form == "sql" {
			fmt.Fprintf(&out, "  %s\n", name)
		} else {
			fmt.Fprintf(&out, "  %s  %s\n", name, show.Count(l.counts[i], "record", "records"))
		}
	}
	if l.form == "csv" {
		out.WriteString("\nAn empty cell is null, \"\" in quotes is the empty text. References are keys.\n")
	}
	return os.WriteFile(filepath.Join(l.dir, "about.txt"), []byte(out.String()), 0o600)
}
