package parcel

import (
	"bufio"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"iter"
	"os"
	"path/filepath"
	"runtime"
	"sync"

	"github.com/klauspost/compress/flate"
	"github.com/klauspost/compress/zip"

	"anagram/internal/core/catalog"
	"anagram/internal/core/limit"
	"anagram/internal/core/record"
	"anagram/internal/core/show"
	"anagram/internal/files/safe"
)

// Error is a parcel that cannot be used.
type Error struct {
	Parcel  string // its path
	File    string // within the parcel, "" where it is about the whole
	Line    int    // from 1, 0 where it is about the whole file
	Message string
	Broken  bool // the bytes are not those that were sealed
	Cause   error
}

// Error names parcel, file and line.
func (e *Error) Error() string {
	out := e.Parcel
	if e.File != "" {
		out += ", " + e.File
	}
	if e.Line > 0 {
		out += fmt.Sprintf(" line %d", e.Line)
	}
	return out + ": " + e.Message
}

// Unwrap gives the cause.
func (e *Error) Unwrap() error { return e.Cause }

// Reader reads a parcel.
type Reader struct {
	Manifest Manifest
	Catalog  *catalog.Catalog // the record types as they were read with

	path  string
	files files
	isZip bool
}

const (
	maxManifest = limit.Manifest
	maxCatalog  = limit.Configuration
	maxLine     = limit.Line
)

// Open opens a parcel in either form and reads its manifest and catalog, whose seals
// must fit. The records are believed only after Verify.
func Open(path string) (*Reader, error) {
	r := &Reader{path: path}
	info, err := os.Stat(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, &Error{Parcel: path, Message: "there is no such parcel; anagram parcel list shows those there are", Cause: err}
	}
	if err != nil {
		return nil, err
	}
	if info.IsDir() && safe.Pending(path) {
		return nil, &Error{Parcel: path,
			Message: "putting its new files into place was interrupted; finish it with: anagram parcel reseal " + show.Arg(path) + " --note TEXT"}
	}
	if info.IsDir() {
		r.files, err = openFolder(path)
	} else {
		r.isZip = true
		r.files, err = openZip(path)
	}
	if err != nil {
		return nil, &Error{Parcel: path, Message: err.Error(), Cause: err}
	}
	if err := r.head(); err != nil {
		_ = r.Close()
		return nil, err
	}
	return r, nil
}

// Close closes the parcel.
func (r *Reader) Close() error { return r.files.close() }

// Path is where the parcel is.
func (r *Reader) Path() string { return r.path }

func (r *Reader) head() error {
	text, err := r.small(manifestName, maxManifest)
	if err != nil {
		return err
	}
	manifest, sealed, err := decodeManifest(text)
	if err != nil {
		return &Error{Parcel: r.path, File: manifestName, Message: err.Error(), Broken: true, Cause: err}
	}
	if !sealed {
		return r.broken(manifestName)
	}
	r.Manifest = manifest
	source, err := r.small(catalogName, maxCatalog)
	if err != nil {
		return err
	}
	sum := sha256.Sum256(source)
	if hex.EncodeToString(sum[:]) != manifest.Catalog.SHA256 {
		return r.broken(catalogName)
	}
	r.Catalog, err = catalog.Again(r.path+", "+catalogName, source)
	return err
}

func (r *Reader) broken(file string) error {
	return &Error{Parcel: r.path, File: file, Broken: true,
		Message: "its bytes are not those that were sealed. Use the parcel as it was exported, or export again"}
}

// unreadable tells bytes that are damaged, so that a ZIP file notices it by itself, from
// bytes that could not be read at all, which says nothing about the seal.
func (r *Reader) unreadable(file string, err error) error {
	if errors.Is(err, zip.ErrChecksum) || errors.Is(err, zip.ErrFormat) || errors.Is(err, io.ErrUnexpectedEOF) || isFlate(err) {
		return r.broken(file)
	}
	return &Error{Parcel: r.path, File: file, Message: "it cannot be read: " + err.Error(), Cause: err}
}

func isFlate(err error) bool {
	var corrupt flate.CorruptInputError
	return errors.As(err, &corrupt)
}

func (r *Reader) small(name string, limit int64) ([]byte, error) {
	in, err := r.files.open(name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, &Error{Parcel: r.path, Message: fmt.Sprintf("it has no %s, so it is not a parcel", name), Cause: err}
	}
	if err != nil {
		return nil, &Error{Parcel: r.path, File: name, Message: err.Error(), Broken: true, Cause: err}
	}
	defer in.Close()
	text, err := io.ReadAll(io.LimitReader(in, limit+1))
	if err != nil {
		return nil, &Error{Parcel: r.path, File: name, Message: "it cannot be read: " + err.Error(), Broken: true, Cause: err}
	}
	if int64(len(text)) > limit {
		return nil, &Error{Parcel: r.path, File: name, Message: fmt.Sprintf("it is larger than %d bytes", limit)}
	}
	return text, nil
}

// Verify compares every byte of the parcel with its seal. The error is an *Error that
// names the first file that is not as it was sealed.
func (r *Reader) Verify(ctx context.Context) error {
	expected := map[string]Sum{manifestName: {}, catalogName: r.Manifest.Catalog}
	order := []string{catalogName}
	for _, t := range r.Manifest.Types {
		expected[recordsName(t.Name)] = t.Sum
		order = append(order, recordsName(t.Name))
	}
	if referred := r.Manifest.Referred; referred != nil {
		expected[referredName] = referred.Sum
		order = append(order, referredName)
	}
	for _, o := range r.Manifest.Outside {
		expected[outsideName(o.Name)] = o.Sum
		order = append(order, outsideName(o.Name))
	}
	for _, sum := range r.Manifest.Files {
		expected[fileName(sum.SHA256)] = sum
		order = append(order, fileName(sum.SHA256))
	}
	for _, name := range r.files.names() {
		if _, ok := expected[name]; !ok {
			return &Error{Parcel: r.path, File: name, Broken: true, Message: "the manifest does not know this file"}
		}
	}
	// Several at a time; what is wrong first in their order is told.
	wrong, slots := make([]error, len(order)), make(chan struct{}, runtime.GOMAXPROCS(0))
	var all sync.WaitGroup
	for i, name := range order {
		slots <- struct{}{}
		all.Go(func() {
			wrong[i] = r.verifyFile(ctx, name, expected[name])
			<-slots
		})
	}
	all.Wait()
	for _, err := range wrong {
		if err != nil {
			return err
		}
	}
	if r.isZip {
		return r.verifyZip(ctx)
	}
	return nil
}

func (r *Reader) verifyFile(ctx context.Context, name string, want Sum) error {
	in, err := r.files.open(name)
	if errors.Is(err, fs.ErrNotExist) {
		return &Error{Parcel: r.path, File: name, Broken: true, Message: "the file is missing", Cause: err}
	}
	if err != nil {
		return &Error{Parcel: r.path, File: name, Broken: true, Message: err.Error(), Cause: err}
	}
	defer in.Close()
	hash := sha256.New()
	n, err := io.Copy(hash, io.LimitReader(contextReader{ctx, in}, want.Bytes+1))
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if err != nil {
		return r.unreadable(name, err)
	}
	if n != want.Bytes || hex.EncodeToString(hash.Sum(nil)) != want.SHA256 {
		return r.broken(name)
	}
	return nil
}

// verifyZip checks the digest at the end of the ZIP file, which covers its structure.
func (r *Reader) verifyZip(ctx context.Context) error {
	f, err := os.Open(r.path)
	if err != nil {
		return err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return err
	}
	tail := make([]byte, len(sealComment)+64)
	if info.Size() < int64(len(tail)) {
		return r.broken("")
	}
	if _, err := f.ReadAt(tail, info.Size()-int64(len(tail))); err != nil {
		return err
	}
	hash := sha256.New()
	if _, err := io.Copy(hash, contextReader{ctx, io.NewSectionReader(f, 0, info.Size()-64)}); err != nil {
		return err
	}
	if string(tail) != sealComment+hex.EncodeToString(hash.Sum(nil)) {
		return r.broken("")
	}
	return nil
}

type contextReader struct {
	ctx context.Context
	in  io.Reader
}

func (c contextReader) Read(p []byte) (int, error) {
	if err := c.ctx.Err(); err != nil {
		return 0, err
	}
	return c.in.Read(p)
}

// Records streams the records of a type in key order. A stream that ends early, has
// another count than the manifest says or is not in order ends in an *Error.
func (r *Reader) Records(ctx context.Context, typ string) record.Stream {
	return r.stream(ctx, typ, nil)
}

// Heads streams the records of a type as Records does, but of each only the key is read;
// Load completes it, without attachments.
func (r *Reader) Heads(ctx context.Context, typ string) record.Stream {
	return r.stream(ctx, typ, r.headOf)
}

// Lines streams the records of a type as Records does, but of the key only its order, and
// instead of the values the line of both; Load completes a record, attachments included.
func (r *Reader) Lines(ctx context.Context, typ string) record.Stream {
	var room []byte
	of, _ := r.Manifest.Type(typ)
	load := func(rec *record.Record) error {
		full, err := record.ParseLine(rec.Line, typ, of.Fields, r.Manifest.Keys)
		if err == nil {
			err = r.attachContent(&full)
		}
		rec.Key, rec.Values, rec.Load = full.Key, full.Values, nil
		return err
	}
	return r.stream(ctx, typ, func(line []byte, t Type) (record.Record, bool) {
		order, _, end, ok := r.Manifest.Keys.LineOrder(room[:0], line, t.Name)
		out := record.Record{}
		if room = order; !ok || !record.LineExtras(line, end, &out) {
			return record.Record{}, false
		}
		line[end] = '}' // what came after is in the record
		out.Key, out.Line, out.Load = record.KeyByOrder(string(order)), line[:end+1:end+1], load
		return out, true
	})
}

func (r *Reader) stream(ctx context.Context, typ string, short func([]byte, Type) (record.Record, bool)) record.Stream {
	return func(yield func(record.Record, error) bool) {
		if err := r.records(ctx, typ, short, func(rec record.Record) bool { return yield(rec, nil) }); err != nil {
			yield(record.Record{}, err)
		}
	}
}

// headOf reads the key of a line only.
func (r *Reader) headOf(line []byte, t Type) (record.Record, bool) {
	key, ok := r.Manifest.Keys.LineKey(line, t.Name)
	return record.Record{Key: key, Load: func(rec *record.Record) error {
		full, err := record.ParseLine(line, t.Name, t.Fields, r.Manifest.Keys)
		rec.Values, rec.Load = full.Values, nil
		rec.ChangedAt, rec.ChangedBy, rec.Came = full.ChangedAt, full.ChangedBy, full.Came
		return err
	}}, ok
}

func (r *Reader) records(ctx context.Context, typ string, short func([]byte, Type) (record.Record, bool),
	yield func(record.Record) bool) error {
	t, ok := r.Manifest.Type(typ)
	if !ok {
		return nil
	}
	name := recordsName(typ)
	in, err := r.files.open(name)
	if err != nil {
		return &Error{Parcel: r.path, File: name, Message: "the file is missing", Broken: true, Cause: err}
	}
	defer in.Close()
	lines := bufio.NewReaderSize(contextReader{ctx, in}, 256<<10)
	var last record.Key
	for n := 1; ; n++ {
		line, err := readLine(lines)
		if errors.Is(err, io.EOF) {
			if n-1 != t.Records {
				return &Error{Parcel: r.path, File: name, Broken: true,
					Message: fmt.Sprintf("it ends after %d records, the manifest says %d", n-1, t.Records)}
			}
			return nil
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		var rec record.Record
		read := false
		if err == nil && short != nil {
			rec, read = short(line, t)
		}
		if err == nil && !read {
			rec, err = record.ParseLine(line, typ, t.Fields, r.Manifest.Keys)
		}
		if err == nil && n > 1 && rec.Key.Compare(last) < 0 {
			err = errors.New("the records are not in key order")
		}
		if err == nil {
			err = r.attachContent(&rec)
		}
		if err != nil {
			return &Error{Parcel: r.path, File: name, Line: n, Message: err.Error(), Cause: err}
		}
		last = rec.Key
		if !yield(rec) {
			return nil
		}
	}
}

// errCut is a last line without a line end.
var errCut = errors.New("the file is cut: its last line has no end")

// readLine reads up to a line end, which it drops. A last line without one is given with
// errCut.
func readLine(in *bufio.Reader) ([]byte, error) {
	var out []byte
	for {
		part, err := in.ReadSlice('\n')
		out = append(out, part...)
		if len(out) > maxLine {
			return nil, fmt.Errorf("the line is longer than %d bytes", maxLine)
		}
		switch {
		case err == nil:
			return out[:len(out)-1], nil
		case errors.Is(err, bufio.ErrBufferFull):
		case errors.Is(err, io.EOF) && len(out) == 0:
			return nil, io.EOF
		case errors.Is(err, io.EOF):
			return out, errCut
		default:
			return nil, err
		}
	}
}

// attachContent gives bytes values of a record their content from files/.
func (r *Reader) attachContent(rec *record.Record) error {
	for i, v := range rec.Values {
		if v.Kind() != record.Bytes {
			continue
		}
		value, err := record.ContentValue(v.Text(), attachment{files: r.files, name: fileName(v.Text())})
		if err != nil {
			return err
		}
		rec.Values[i] = value
	}
	return nil
}

type attachment struct {
	files files
	name  string
}

func (a attachment) Open() (io.ReadCloser, error) { return a.files.open(a.name) }
func (a attachment) Size() int64                  { return a.files.size(a.name) }

// Exists reports whether there is anything at a path.
func Exists(path string) bool {
	_, err := os.Lstat(path)
	return err == nil
}

// Size gives the bytes of a parcel in either form.
func Size(path string) (int64, error) {
	var total int64
	err := filepath.WalkDir(path, func(_ string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return err
		}
		info, err := entry.Info()
		if err == nil {
			total += info.Size()
		}
		return err
	})
	return total, err
}

// Referred streams the records that are only referred to.
func (r *Reader) Referred(ctx context.Context) iter.Seq2[Mention, error] {
	return func(yield func(Mention, error) bool) {
		if r.Manifest.Referred == nil {
			return
		}
		in, err := r.files.open(referredName)
		if err != nil {
			yield(Mention{}, &Error{Parcel: r.path, File: referredName, Message: "the file is missing", Broken: true, Cause: err})
			return
		}
		defer in.Close()
		lines := bufio.NewReader(contextReader{ctx, in})
		for n := 1; ; n++ {
			line, err := readLine(lines)
			if errors.Is(err, io.EOF) {
				return
			}
			var m Mention
			if err == nil {
				err = json.Unmarshal(line, &m)
			}
			if err != nil {
				yield(m, &Error{Parcel: r.path, File: referredName, Line: n, Message: err.Error(), Cause: err})
				return
			}
			if !yield(m, nil) {
				return
			}
		}
	}
}
