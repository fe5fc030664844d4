package parcel

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"slices"
	"strings"

	"github.com/klauspost/compress/zip"

	"anagram/internal/core/limit"
	"anagram/internal/core/pattern"
)

// files is where the two forms of a parcel differ: how its files are reached.
type files interface {
	// names lists all files; the layout has been checked.
	names() []string
	has(name string) bool
	open(name string) (io.ReadCloser, error)
	size(name string) int64
	close() error
}

var layout = pattern.Of(`^(parcel\.json|catalog\.yaml|referred\.jsonl|(?:records|outside)/[A-Za-z][A-Za-z0-9_-]*\.jsonl|files/[0-9a-f]{64})$`)

// checkName refuses names outside the layout, and so every path that leads elsewhere.
func checkName(name string) error {
	if layout.MatchString(name) {
		return nil
	}
	if strings.Contains(name, "..") || strings.HasPrefix(name, "/") || strings.Contains(name, `\`) {
		return fmt.Errorf("it holds the path %q, which leads outside the parcel", name)
	}
	return fmt.Errorf("it holds %q, which does not belong in a parcel", name)
}

// maxRatio bounds how far an entry of a ZIP may unfold; deflate itself stays below
// 1,032, and setup records far below that.
const maxRatio = 1100

type zipFiles struct {
	reader  *zip.ReadCloser
	entries map[string]*zip.File
	order   []string
}

func openZip(path string) (*zipFiles, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() {
		return nil, errors.New("it is no plain file")
	}
	if info.Size() == 0 {
		return nil, errors.New("the file is empty")
	}
	reader, err := zip.OpenReader(path)
	if errors.Is(err, zip.ErrFormat) {
		return nil, notZip(path)
	}
	if err != nil {
		return nil, fmt.Errorf("it cannot be read: %w", err)
	}
	z := &zipFiles{reader: reader, entries: map[string]*zip.File{}}
	left, unpacked := uint64(info.Size()), uint64(0)
	if n := len(reader.File); n > limit.Entries {
		_ = reader.Close()
		return nil, fmt.Errorf("it holds %d files, and at most %d are read", n, limit.Entries)
	}
	for _, entry := range reader.File {
		err := checkName(entry.Name)
		switch {
		case err != nil:
		case z.entries[entry.Name] != nil:
			err = fmt.Errorf("it holds %s twice", entry.Name)
		case entry.CompressedSize64 > left: // the same bytes would be unfolded more than once
			err = fmt.Errorf("its entries overlap, or are longer than the file")
		case !entry.Mode().IsRegular():
			err = fmt.Errorf("%s is not a plain file", entry.Name)
		case entry.UncompressedSize64 > 1<<20 && entry.UncompressedSize64/maxRatio > entry.CompressedSize64:
			err = fmt.Errorf("%s would unfold from %d to %d bytes, more than any honest file does", entry.Name,
				entry.CompressedSize64, entry.UncompressedSize64)
		}
		if err != nil {
			_ = reader.Close()
			return nil, err
		}
		left -= entry.CompressedSize64
		if unpacked += min(entry.UncompressedSize64, limit.Unpacked+1); unpacked > limit.Unpacked {
			_ = reader.Close()
			return nil, fmt.Errorf("it would unfold to more than %d bytes", int64(limit.Unpacked))
		}
		z.entries[entry.Name] = entry
		z.order = append(z.order, entry.Name)
	}
	return z, nil
}

// notZip tells a file that was cut short from one that never was a parcel.
func notZip(path string) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	head := make([]byte, 4)
	if _, err := io.ReadFull(f, head); err == nil && string(head) == "PK\x03\x04" {
		return errors.New("the file is cut short or damaged: it begins as a parcel, but its end is missing")
	}
	return errors.New("the file is not a parcel: a parcel is a ZIP file or a folder")
}

func (z *zipFiles) names() []string        { return z.order }
func (z *zipFiles) has(name string) bool   { return z.entries[name] != nil }
func (z *zipFiles) close() error           { return z.reader.Close() }
func (z *zipFiles) size(name string) int64 { return int64(z.entries[name].UncompressedSize64) }
func (z *zipFiles) open(name string) (io.ReadCloser, error) {
	entry, ok := z.entries[name]
	if !ok {
		return nil, fs.ErrNotExist
	}
	return entry.Open()
}

type folderFiles struct {
	root  *os.Root
	sizes map[string]int64
	order []string
}

func openFolder(path string) (*folderFiles, error) { return openFolderAs(path, checkName) }

// openFolderAs opens a folder whose files have names that check accepts.
func openFolderAs(path string, check func(name string) error) (*folderFiles, error) {
	root, err := os.OpenRoot(path)
	if err != nil {
		return nil, err
	}
	f := &folderFiles{root: root, sizes: map[string]int64{}}
	err = fs.WalkDir(root.FS(), ".", func(name string, entry fs.DirEntry, err error) error {
		if err != nil || name == "." {
			return err
		}
		if strings.HasPrefix(name, ".") { // version control keeps its own files here
			if entry.IsDir() {
				return fs.SkipDir
			}
			return nil
		}
		if entry.IsDir() {
			if slices.Contains([]string{"records", "files", "outside"}, name) {
				return nil
			}
			return fmt.Errorf("it holds the folder %q, which does not belong in a parcel", name)
		}
		if !entry.Type().IsRegular() {
			return fmt.Errorf("%s is a link or a device, not a plain file", name)
		}
		if err := check(name); err != nil {
			return err
		}
		info, err := entry.Info()
		if err != nil {
			return err
		}
		f.sizes[name] = info.Size()
		f.order = append(f.order, name)
		return nil
	})
	if err != nil {
		_ = root.Close()
		return nil, err
	}
	return f, nil
}

func (f *folderFiles) names() []string                         { return f.order }
func (f *folderFiles) has(name string) bool                    { _, ok := f.sizes[name]; return ok }
func (f *folderFiles) close() error                            { return f.root.Close() }
func (f *folderFiles) size(name string) int64                  { return f.sizes[name] }
func (f *folderFiles) open(name string) (io.ReadCloser, error) { return f.root.Open(name) }
