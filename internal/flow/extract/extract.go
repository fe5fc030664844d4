// Package extract writes what a terminal or a table does not show well as files: the attachments and
// long texts of both sides of findings.
//
// The contract: into a new folder go, of each field in which both sides differ, one file for each
// side that is an attachment or a long text, TYPE/KEY/FIELD.SIDE.ENDING. Names are made so that every
// file system takes them, and endings so that nothing runs when a file is opened.
package extract

import (
	"bufio"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"unicode/utf8"

	"anagram/internal/core/limit"
	"anagram/internal/core/record"
	"anagram/internal/files/safe"
	"anagram/internal/flow/decide"
	"anagram/internal/store/docket"
)

// Result says what was written.
type Result struct {
	Files   int
	TooLong []string // attachments that the docket does not hold, as they are larger than it keeps
}

// Texts that have more are written.
const (
	longLines      = 5
	longCharacters = 400
)

// Into writes what differs in the findings that each gives into a new folder.
func Into(ctx context.Context, d *docket.Docket, dir string,
	each func(context.Context, func(decide.Reviewed) error) error) (Result, error) {
	w := filesWriter{docket: d, dir: dir, names: map[string]int{}}
	if entries, err := os.ReadDir(dir); err == nil && len(entries) > 0 {
		return w.done, fmt.Errorf("%s is there already and is not empty; name a new folder", dir)
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return w.done, err
	}
	err := each(ctx, w.finding)
	return w.done, err
}

type filesWriter struct {
	docket *docket.Docket
	dir    string
	names  map[string]int // in small letters, as some file systems take them for the same
	done   Result
}

func (w *filesWriter) finding(f decide.Reviewed) error {
	t, ok := w.docket.Type(f.Type)
	if !ok {
		return nil
	}
	for _, side := range []struct{ name, line string }{{"source", f.Source}, {"target", f.Target}} {
		if side.line == "" {
			continue
		}
		rec, err := record.ParseLine([]byte(side.line), f.Type, t.Fields, w.docket.Header.Keys)
		if err != nil {
			return fmt.Errorf("%s: %w", f.Address, err)
		}
		for _, field := range f.Fields {
			at := record.FieldAt(t.Fields, field.Field)
			if at < 0 {
				continue
			}
			if err := w.value(f.Finding, field.Field, side.name, rec.Values[at]); err != nil {
				return err
			}
		}
	}
	return nil
}

// value writes one side of a field, if it is long or an attachment.
func (w *filesWriter) value(f docket.Finding, field, side string, v record.Value) error {
	switch v.Kind() {
	case record.Bytes:
		v, err := w.docket.Found.WithContent(v)
		if err != nil {
			return err
		}
		if v.Content().Size() < 0 {
			w.done.TooLong = append(w.done.TooLong, fmt.Sprintf("%s, field %s in the %s", f.Address, field, side))
			return nil
		}
		in, err := v.Content().Open()
		if err != nil {
			return err
		}
		defer in.Close()
		buffered := bufio.NewReaderSize(in, 64<<10)
		head, _ := buffered.Peek(512)
		return w.write(f, field+"."+side+ending(head), buffered)
	case record.Text, record.JSON:
		text, end := v.Text(), ".txt"
		if v.Kind() == record.JSON {
			end = ".json"
		}
		if strings.Count(text, "\n") >= longLines || utf8.RuneCountInString(text) > longCharacters {
			return w.write(f, field+"."+side+end, strings.NewReader(text))
		}
	}
	return nil
}

func (w *filesWriter) write(f docket.Finding, name string, content io.Reader) error {
	_, key, _ := strings.Cut(f.Address, "/")
	folder := filepath.Join(w.dir, fileName(f.Type), fileName(key))
	path := filepath.Join(folder, fileName(name))
	if w.names[strings.ToLower(path)]++; w.names[strings.ToLower(path)] > 1 {
		path = filepath.Join(folder, fmt.Sprintf("%d-%s", w.names[strings.ToLower(path)], fileName(name)))
	}
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return err
	}
	w.done.Files++
	return safe.WriteNew(path, func(out io.Writer) error {
		_, err := io.Copy(out, io.LimitReader(content, limit.Unpacked))
		return err
	})
}

// endings are those of what cannot do anything when it is opened.
var endings = map[string]string{"image/png": ".png", "image/jpeg": ".jpg", "image/gif": ".gif", "image/webp": ".webp",
	"application/pdf": ".pdf", "text/plain": ".txt", "text/html": ".txt", "text/xml": ".txt"}

// ending is that of a file by how it begins; what is not known as harmless ends in .bin.
func ending(head []byte) string {
	kind, _, _ := strings.Cut(http.DetectContentType(head), ";")
	if out, ok := endings[kind]; ok {
		return out
	}
	return ".bin"
}

// fileName writes a name so that every file system takes it and none takes it for another: small
// and large letters, digits, and - and _ stand for themselves.
func fileName(name string) string {
	const longest = 100
	var out strings.Builder
	for i := range len(name) {
		switch c := name[i]; {
		case c >= 'a' && c <= 'z', c >= 'A' && c <= 'Z', c >= '0' && c <= '9', c == '-', c == '_', c == '.' && i > 0 && i < len(name)-1:
			out.WriteByte(c)
		default:
			fmt.Fprintf(&out, "%%%02X", c)
		}
	}
	if out.Len() <= longest {
		return out.String()
	}
	sum := sha256.Sum256([]byte(name))
	return out.String()[:longest] + "-" + hex.EncodeToString(sum[:4]) + filepath.Ext(name)
}
