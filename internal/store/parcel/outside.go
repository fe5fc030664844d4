package parcel

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"iter"
	"os"
	"path/filepath"

	"anagram/internal/core/record"
	"anagram/internal/files/spill"
)

// Records that the source has, but that the condition of their type leaves out, are in a
// parcel by their keys alone: a target that still has one inside is told so.

// Outside is the list of these keys of one record type.
type Outside struct {
	Name    string `json:"name"`
	Records int    `json:"records"`
	Sum
}

func outsideName(typ string) string { return "outside/" + typ + ".jsonl" }

// OutsideWriter takes keys of one record type.
type OutsideWriter struct {
	parent *Writer
	name   string
	sorter *spill.Sorter
}

// Outside starts the list of a record type. Finish or Discard it.
func (w *Writer) Outside(typ string) *OutsideWriter {
	return &OutsideWriter{parent: w, name: typ, sorter: spill.NewSorter(w.folder)}
}

// Add takes a key, in any order.
func (o *OutsideWriter) Add(key record.Key) error {
	return o.sorter.Add(spill.Entry{Order: key.Order(), Payload: record.AppendKey(nil, key)})
}

// Discard drops the list; after Finish it does nothing.
func (o *OutsideWriter) Discard() { o.sorter.Close() }

// Finish writes the keys in their order, each once.
func (o *OutsideWriter) Finish() error {
	defer o.sorter.Close()
	if o.sorter.Count() == 0 {
		return nil
	}
	if err := os.MkdirAll(filepath.Join(o.parent.folder, "outside"), 0o700); err != nil {
		return err
	}
	n, last := 0, ""
	sum, err := writeFile(filepath.Join(o.parent.folder, outsideName(o.name)), func(out io.Writer) error {
		for entry, err := range o.sorter.Sorted() {
			if err != nil {
				return err
			}
			if n > 0 && entry.Order == last {
				continue
			}
			n, last = n+1, entry.Order
			if _, err := out.Write(append(entry.Payload, '\n')); err != nil {
				return err
			}
		}
		return nil
	})
	if err == nil {
		o.parent.manifest.Outside = append(o.parent.manifest.Outside, Outside{Name: o.name, Records: n, Sum: sum})
	}
	return err
}

// Outside streams the keys that a record type has outside at the source, in key order.
func (r *Reader) Outside(ctx context.Context, typ string) iter.Seq2[record.Key, error] {
	return func(yield func(record.Key, error) bool) {
		name := outsideName(typ)
		for _, o := range r.Manifest.Outside {
			if o.Name != typ {
				continue
			}
			in, err := r.files.open(name)
			if err != nil {
				yield(record.Key{}, &Error{Parcel: r.path, File: name, Message: "the file is missing", Broken: true, Cause: err})
				return
			}
			defer in.Close()
			lines := bufio.NewReader(contextReader{ctx, in})
			for n := 1; ; n++ {
				line, err := readLine(lines)
				if errors.Is(err, io.EOF) && n-1 == o.Records {
					return
				}
				var key record.Key
				switch {
				case errors.Is(err, io.EOF):
					err = fmt.Errorf("it ends after %d keys, the manifest says %d", n-1, o.Records)
				case err == nil:
					key, err = r.Manifest.Keys.ParseKey(line, typ)
				}
				if err != nil {
					yield(key, &Error{Parcel: r.path, File: name, Line: n, Message: err.Error(), Cause: err})
					return
				}
				if !yield(key, nil) {
					return
				}
			}
		}
	}
}
