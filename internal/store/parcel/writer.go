package parcel

import (
	"bufio"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"

	"anagram/internal/core/record"
	"anagram/internal/files/safe"
	"anagram/internal/files/spill"
)

// Writer makes a parcel. It works in a temporary folder until Finish.
type Writer struct {
	folder   string
	manifest Manifest
	files    map[string]int64
	noFiles  bool
	packs    map[string]packed // by record type
	behind   chan finished     // of a type that is being written; nil for none
	stopped  atomic.Bool
}

// finished is a type that was written.
type finished struct {
	name string
	packed
	err error
}

// wait waits for the type that is being written.
func (w *Writer) wait() error {
	if w.behind == nil {
		return nil
	}
	done := <-w.behind
	w.behind = nil
	if done.err == nil {
		w.packs[done.name] = done.packed
	}
	return done.err
}

// LeaveFilesOut makes the writer keep of attachments only their SHA-256.
func (w *Writer) LeaveFilesOut() { w.noFiles = true }

// Create starts a parcel; scratch is a folder on the file system of its later place.
// The manifest's Types, Catalog, Files and Seal are filled by the writer.
func Create(scratch string, manifest Manifest, catalog []byte) (*Writer, error) {
	folder, err := os.MkdirTemp(scratch, "parcel-")
	if err != nil {
		return nil, err
	}
	w := &Writer{folder: folder, manifest: manifest, files: map[string]int64{}, packs: map[string]packed{}}
	w.manifest.Format, w.manifest.Version, w.manifest.ID = Format, Version, rand.Text()
	w.manifest.Types, w.manifest.Files = []Type{}, []Sum{}
	for _, name := range []string{"records", "files"} {
		if err := os.Mkdir(filepath.Join(folder, name), 0o700); err != nil {
			w.Discard()
			return nil, err
		}
	}
	sum, err := writeFile(filepath.Join(folder, catalogName), func(out io.Writer) error {
		_, err := out.Write(catalog)
		return err
	})
	if err != nil {
		w.Discard()
		return nil, err
	}
	w.manifest.Catalog = sum
	return w, nil
}

// Discard removes what was written; after Finish it does nothing.
func (w *Writer) Discard() {
	if w.folder != "" {
		w.stopped.Store(true)
		_ = w.wait()
		_ = os.RemoveAll(w.folder)
		w.folder = ""
	}
}

// TypeWriter takes the records of one type.
type TypeWriter struct {
	parent *Writer
	name   string
	fields []record.Field
	sorter *spill.Sorter // nil where they come in order
	out    *packing      // nil where they do not
	line   []byte
	last   string
	count  int
	chosen int
	newest string

	unkeyed *Unkeyed
}

// Type starts a record type. Finish or Discard it before the next one.
func (w *Writer) Type(name string, fields []record.Field) *TypeWriter {
	return &TypeWriter{parent: w, name: name, fields: fields, sorter: spill.NewSorter(w.folder)}
}

// InOrder is Type for records that are added in key order, each key once; they need not
// be sorted.
func (w *Writer) InOrder(name string, fields []record.Field) (*TypeWriter, error) {
	out, err := createPacking(filepath.Join(w.folder, recordsName(name)))
	return &TypeWriter{parent: w, name: name, fields: fields, out: out}, err
}

// Add takes a record, in any order, with its attachments. Of one without values its line is
// taken, which has the fields of the type in their order.
func (t *TypeWriter) Add(r record.Record) error {
	for _, v := range r.Values {
		if v.Kind() == record.Bytes {
			if err := t.parent.attach(v); err != nil {
				return err
			}
		}
	}
	if r.Why == WhyChosen {
		t.chosen++
	}
	t.newest = max(t.newest, r.ChangedAt)
	line := t.line[:0]
	if r.Values == nil && r.Line != nil {
		if line == nil {
			line = make([]byte, 0, len(r.Line)+len(r.ChangedAt)+len(r.ChangedBy)+len(r.Why)+len(r.Through)+64)
		}
		line = record.AppendExtras(line, r)
	} else {
		line = record.AppendLine(line, t.fields, r)
	}
	if len(line) > maxLine {
		return fmt.Errorf("its line would have %d bytes, and at most %d are read. Leave its largest field out with ignore: in the catalog", len(line), maxLine)
	}
	if t.out != nil {
		t.line = line
		return t.AddLine(r.Key, line)
	}
	return t.sorter.Add(spill.Entry{Order: r.Key.Order(), Payload: line})
}

// AddLine takes a record that is written as a line already, of a type that was started
// with InOrder.
func (t *TypeWriter) AddLine(key record.Key, line []byte) error {
	if t.count > 0 && key.Order() <= t.last {
		return fmt.Errorf("the records of %s are not in key order", t.name)
	}
	t.last = key.Order()
	t.count++
	if _, err := t.out.Write(line); err != nil {
		return err
	}
	_, err := t.out.Write([]byte{'\n'})
	return err
}

// Records counts what was written so far.
func (w *Writer) Records() (n int) {
	for _, t := range w.manifest.Types {
		n += t.Records
	}
	return n
}

// Finish has the records written in key order, while others are added, and tells how many
// there are. Whole says that these are all that the source has.
func (t *TypeWriter) Finish(whole bool) (int, error) {
	w, count, sorter := t.parent, t.count, t.sorter
	if err := w.wait(); err != nil {
		return 0, err
	}
	if t.out != nil {
		sum, err := t.out.finish()
		if err != nil {
			return 0, err
		}
		w.packs[t.name] = sum
	} else {
		count, t.sorter = sorter.Count(), nil
		out, err := createPacking(filepath.Join(w.folder, recordsName(t.name)))
		if err != nil {
			sorter.Close()
			return 0, err
		}
		behind, name := make(chan finished, 1), t.name
		w.behind = behind
		go func() {
			defer sorter.Close()
			sum, err := w.records(sorter, out)
			behind <- finished{name, sum, err}
		}()
	}
	w.manifest.Types = append(w.manifest.Types, Type{Name: t.name, Fields: t.fields, Records: count, Chosen: t.chosen, Whole: whole,
		Newest: t.newest, Unkeyed: t.unkeyed})
	return count, nil
}

// errStopped is a parcel that nobody wants any more.
var errStopped = errors.New("the parcel was discarded")

// records writes sorted lines.
func (w *Writer) records(sorter *spill.Sorter, out *packing) (packed, error) {
	defer out.discard()
	for entry, err := range sorter.Sorted() {
		if err == nil && w.stopped.Load() {
			err = errStopped
		}
		if err == nil {
			_, err = out.Write(entry.Payload)
		}
		if err == nil {
			_, err = out.Write(lineEnd)
		}
		if err != nil {
			return packed{}, err
		}
	}
	return out.finish()
}

var lineEnd = []byte{'\n'}

// Saw notes when a record was changed that is in scope but left out on purpose: it is not
// news later.
func (t *TypeWriter) Saw(changedAt string) { t.newest = max(t.newest, changedAt) }

// Fields gives the fields of the type.
func (t *TypeWriter) Fields() []record.Field { return t.fields }

// Unkeyed notes a record whose key cannot be read.
func (t *TypeWriter) Unkeyed(id, why string) error {
	t.unkeyed = t.unkeyed.Note(id, why)
	return nil
}

// Discard drops the records of the type.
func (t *TypeWriter) Discard() {
	if t.out != nil {
		t.out.discard()
		return
	}
	if t.sorter != nil {
		t.sorter.Close()
	}
}

func (w *Writer) attach(v record.Value) error {
	if _, ok := w.files[v.Text()]; ok || w.noFiles {
		return nil
	}
	if v.Content() == nil {
		return fmt.Errorf("the bytes with SHA-256 %s are not at hand", v.Text())
	}
	sum, err := writeFile(filepath.Join(w.folder, fileName(v.Text())), func(out io.Writer) error {
		in, err := v.Content().Open()
		if err != nil {
			return err
		}
		defer in.Close()
		_, err = io.Copy(out, in)
		return err
	})
	if err != nil {
		return err
	}
	if sum.SHA256 != v.Text() {
		return fmt.Errorf("an attachment changed while it was read: its SHA-256 was %s and is %s", v.Text(), sum.SHA256)
	}
	w.files[v.Text()] = sum.Bytes
	return nil
}

// ExistsError says that a parcel's name is taken.
type ExistsError struct{ Path string }

func (e *ExistsError) Error() string {
	return fmt.Sprintf("%s already exists; choose another name with --name, or remove that parcel", e.Path)
}

// Finish seals the parcel and puts it in its place in one step, as a ZIP file or as
// a folder. What is there already is never replaced: that is an *ExistsError.
func (w *Writer) Finish(path string, asFolder bool) (Manifest, error) {
	defer w.Discard()
	if err := w.wait(); err != nil {
		return Manifest{}, err
	}
	for i, t := range w.manifest.Types {
		w.manifest.Types[i].Sum = w.packs[t.Name].Sum
	}
	for sha, size := range w.files {
		w.manifest.Files = append(w.manifest.Files, Sum{Bytes: size, SHA256: sha})
	}
	slices.SortFunc(w.manifest.Files, func(a, b Sum) int { return strings.Compare(a.SHA256, b.SHA256) })
	text, err := encodeManifest(w.manifest)
	if err != nil {
		return Manifest{}, err
	}
	if len(text) > maxManifest {
		return Manifest{},
			fmt.Errorf("parcel.json would have %d bytes, and at most %d are read: it lists too many attachments. Export fewer records, or leave them out with --no-files", len(text), maxManifest)
	}
	if err := os.WriteFile(filepath.Join(w.folder, manifestName), text, 0o600); err != nil {
		return Manifest{}, err
	}
	manifest, _, err := decodeManifest(text)
	if err != nil {
		return Manifest{}, err
	}
	if asFolder {
		if len(w.files) == 0 {
			_ = os.Remove(filepath.Join(w.folder, "files"))
		}
		for name := range w.packs {
			if err := unpack(filepath.Join(w.folder, recordsName(name))); err != nil {
				return manifest, err
			}
		}
		if _, err := os.Lstat(path); err == nil {
			return manifest, &ExistsError{Path: path}
		}
		err := os.Rename(w.folder, path)
		return manifest, err
	}
	temporary := w.folder + ".zip"
	defer os.Remove(temporary)
	if err := w.zip(temporary, text); err != nil {
		return manifest, err
	}
	if err := safe.Publish(temporary, path); err != nil {
		if errors.Is(err, os.ErrExist) {
			return manifest, &ExistsError{Path: path}
		}
		return manifest, err
	}
	return manifest, nil
}

func writeFile(path string, fill func(io.Writer) error) (Sum, error) {
	f, err := createSummed(path)
	if err != nil {
		return Sum{}, err
	}
	defer f.file.Close()
	if err := fill(f); err != nil {
		return Sum{}, err
	}
	return f.finish()
}

// summed is a file that is summed up while it is written.
type summed struct {
	file     *os.File
	buffered *bufio.Writer
	hash     hash.Hash
	n        int64
}

func createSummed(path string) (*summed, error) {
	f, err := safe.CreateNew(path)
	if err != nil {
		return nil, err
	}
	return &summed{file: f, buffered: bufio.NewWriterSize(f, 256<<10), hash: sha256.New()}, nil
}

func (s *summed) Write(p []byte) (int, error) {
	s.hash.Write(p)
	s.n += int64(len(p))
	return s.buffered.Write(p)
}

func (s *summed) finish() (Sum, error) {
	if err := s.buffered.Flush(); err != nil {
		return Sum{}, err
	}
	return Sum{Bytes: s.n, SHA256: hex.EncodeToString(s.hash.Sum(nil))}, s.file.Close()
}

// Mention is a record that is not in the parcel, but referred to in it.
type Mention struct {
	Address string `json:"address"`
	Through string `json:"through"` // a record of the parcel and its field
	// Sums has for each field of the record, attachments left out, the kind of its value and
	// a sum of it, so that it can be told whether another record has the same. Empty where
	// that is not known.
	Sums map[string]string `json:"sums,omitempty"`
}

// Referred writes the list of records that are only referred to; next gives them one
// after the other until its second result is false.
func (w *Writer) Referred(next func() (Mention, bool, error)) error {
	n := 0
	sum, err := writeFile(filepath.Join(w.folder, referredName), func(out io.Writer) error {
		for {
			m, more, err := next()
			if err != nil || !more {
				return err
			}
			line, err := json.Marshal(m)
			if err != nil {
				return err
			}
			if _, err := out.Write(append(line, '\n')); err != nil {
				return err
			}
			n++
		}
	})
	if err != nil {
		return err
	}
	if n == 0 {
		return os.Remove(filepath.Join(w.folder, referredName))
	}
	w.manifest.Referred = &Referred{Records: n, Sum: sum}
	return nil
}
