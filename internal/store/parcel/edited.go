package parcel

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"strings"

	"anagram/internal/core/catalog"
	"anagram/internal/core/pattern"
	"anagram/internal/core/record"
	"anagram/internal/core/yamldoc"
	"anagram/internal/files/safe"
	"anagram/internal/files/sheet"
)

// Edited is a parcel that was changed by hand, or written by hand in the first place. Its
// seal is not asked for; everything in it is checked as it is read.
type Edited struct {
	*Reader
	forms map[string]string // record type -> jsonl, csv or xlsx
}

// handLayout is what a parcel made by hand may hold beside the layout of a parcel.
var handLayout = pattern.Of(`^records/([A-Za-z][A-Za-z0-9_-]*)\.(jsonl|csv|xlsx)$`)

// OpenEdited opens a parcel without its seal. Where the folder has no manifest, about
// takes its place, and source that of its catalog.
func OpenEdited(path string, about *Manifest, source []byte) (*Edited, error) {
	r := &Reader{path: path}
	info, err := os.Stat(path)
	if err != nil {
		return nil, &Error{Parcel: path, Message: "there is no such parcel or folder", Cause: err}
	}
	if info.IsDir() {
		if err = safe.Finish(path, func(name string) bool { return checkHand(name) == nil }); err == nil {
			r.files, err = openFolderAs(path, checkHand)
		}
	} else {
		r.isZip = true
		r.files, err = openZip(path)
	}
	if err != nil {
		return nil, &Error{Parcel: path, Message: err.Error(), Cause: err}
	}
	e := &Edited{Reader: r, forms: map[string]string{}}
	if err := e.begin(about, source); err != nil {
		_ = r.Close()
		return nil, err
	}
	return e, nil
}

func (e *Edited) begin(about *Manifest, source []byte) error {
	for _, name := range e.files.names() {
		m := handLayout.FindStringSubmatch(name)
		if m == nil {
			continue
		}
		if other := e.forms[m[1]]; other != "" {
			return &Error{Parcel: e.path, File: name, Message: fmt.Sprintf("records/%s.%s is there as well; keep the one that holds",
				m[1], other)}
		}
		e.forms[m[1]] = m[2]
	}
	hasManifest := slices.Contains(e.files.names(), manifestName)
	switch {
	case hasManifest:
		text, err := e.small(manifestName, maxManifest)
		if err != nil {
			return err
		}
		if e.Manifest, _, err = decodeManifest(text); err != nil {
			return &Error{Parcel: e.path, File: manifestName, Message: err.Error(), Cause: err}
		}
		if source, err = e.small(catalogName, maxCatalog); err != nil {
			return err
		}
	case about == nil:
		return &Error{Parcel: e.path,
			Message: "it has no parcel.json, so it is not a parcel yet; anagram parcel make makes one of a folder"}
	default:
		e.Manifest = *about
	}
	var err error
	e.Catalog, err = catalog.Parse(e.path+", "+catalogName, source)
	return err
}

// Types lists the record types that have records, in dependency order. A type that the
// manifest does not describe is an error.
func (e *Edited) Types() ([]Type, error) {
	var out []Type
	for _, name := range slices.Sorted(maps.Keys(e.forms)) {
		if _, ok := e.Catalog.Type(name); !ok {
			return nil, &Error{Parcel: e.path, File: "records/" + name + "." + e.forms[name],
				Message: fmt.Sprintf("the catalog has no record type %q%s", name, yamldoc.Nearest(name, e.Catalog.Names()))}
		}
		if _, ok := e.Manifest.Type(name); !ok {
			return nil, &Error{Parcel: e.path, File: "records/" + name + "." + e.forms[name],
				Message: fmt.Sprintf("which fields %s has is not known: parcel.json does not describe it", name)}
		}
	}
	for _, name := range e.Catalog.Names() {
		if e.forms[name] != "" {
			t, _ := e.Manifest.Type(name)
			out = append(out, t)
		}
	}
	return out, nil
}

// EditedRecords gives the records of a type in the order in which they stand, each with
// its line or row. Errors are *Error with file and line.
func (e *Edited) EditedRecords(ctx context.Context, t Type, give func(line int, rec record.Record) error) error {
	name := "records/" + t.Name + "." + e.forms[t.Name]
	in, err := e.files.open(name)
	if err != nil {
		return &Error{Parcel: e.path, File: name, Message: err.Error(), Cause: err}
	}
	defer in.Close()
	take := func(line int, rec record.Record) error {
		if err := e.contents(&rec); err != nil {
			return err
		}
		return give(line, rec)
	}
	at := 0
	switch e.forms[t.Name] {
	case "jsonl":
		lines := bufio.NewReaderSize(contextReader{ctx, in}, 256<<10)
		for {
			line, readErr := readEditedLine(lines)
			if errors.Is(readErr, io.EOF) {
				break
			}
			at++
			if err = readErr; err == nil && strings.TrimSpace(string(line)) != "" {
				var rec record.Record
				if rec, err = record.ParseLine(line, t.Name, t.Fields, e.Manifest.Keys); err == nil {
					err = take(at, rec)
				}
			}
			if err != nil {
				break
			}
		}
	default:
		var rows *sheet.Reader
		row := func(line int, cells []string) (err error) {
			at = line
			if rows == nil {
				rows, err = sheet.NewReader(sheet.Table{Catalog: e.Catalog, Shapes: e.Manifest.Keys, Type: t.Name, Fields: t.Fields}, cells)
				return err
			}
			rec, err := rows.Record(cells)
			if err == nil {
				err = take(line, rec)
			}
			return err
		}
		if e.forms[t.Name] == "csv" {
			err = sheet.ReadCSV(contextReader{ctx, in}, row)
		} else {
			err = sheet.ReadXLSX(contextReader{ctx, in}, row)
		}
		var wrong *sheet.RowError
		if errors.As(err, &wrong) {
			at, err = wrong.Row, wrong.Cause
		}
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	var known *Error
	if err != nil && !errors.As(err, &known) {
		err = &Error{Parcel: e.path, File: name, Line: at, Message: err.Error(), Cause: err}
	}
	return err
}

// Place names a line of a type's file, for messages.
func (e *Edited) Place(typ string, line int, message string) error {
	return &Error{Parcel: e.path, File: "records/" + typ + "." + e.forms[typ], Line: line, Message: message}
}

// readEditedLine is readLine for files that end without a line end, as editors leave them.
func readEditedLine(in *bufio.Reader) ([]byte, error) {
	line, err := readLine(in)
	if errors.Is(err, errCut) {
		err = nil
	}
	return []byte(strings.TrimSuffix(string(line), "\r")), err
}

// contents gives bytes their content and makes sure that it is what the name says.
func (e *Edited) contents(rec *record.Record) error {
	if err := e.attachContent(rec); err != nil {
		return err
	}
	for _, v := range rec.Values {
		if v.Kind() == record.Bytes && !e.files.has(fileName(v.Text())) {
			return fmt.Errorf("the attachment files/%s is missing", v.Text())
		}
	}
	return nil
}

// Replace puts a new parcel in the place of an edited one, in the same form, in one step; a
// folder that was interrupted in the middle is made good when it is opened for editing
// next. Of a folder only the parcel's own files are replaced; what version control keeps
// there stays.
func Replace(path, made string) error {
	info, err := os.Stat(path)
	if err != nil {
		return err
	}
	if !info.IsDir() {
		return os.Rename(made, path)
	}
	fresh, err := openFolder(made)
	if err != nil {
		return err
	}
	defer fresh.close()
	old, err := openFolderAs(path, checkHand)
	if err != nil {
		return err
	}
	defer old.close()
	r, err := safe.Begin(path, "")
	if err != nil {
		return err
	}
	defer r.Close()
	for _, name := range fresh.names() {
		if err := stage(r, fresh, name); err != nil {
			return err
		}
	}
	for _, name := range old.names() {
		if _, stays := fresh.sizes[name]; !stays {
			r.Remove(name)
		}
	}
	return r.Commit()
}

func stage(r *safe.Replacement, from *folderFiles, name string) error {
	in, err := from.open(name)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := r.Create(name)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Sync(), out.Close())
}

// checkHand accepts the names of a parcel that is edited by hand.
func checkHand(name string) error {
	if handLayout.MatchString(name) {
		return nil
	}
	return checkName(name)
}
