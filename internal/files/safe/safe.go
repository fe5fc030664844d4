package safe

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
)

// CreateNew makes a file that is not there yet; else the error is fs.ErrExist.
func CreateNew(path string) (*os.File, error) {
	return os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_RDWR, 0o600)
}

// Append opens a file to write at its end, and makes it where it is not there. A symbolic
// link is not followed.
func Append(path string) (*os.File, error) {
	if err := NoLink(path); err != nil {
		return nil, err
	}
	return os.OpenFile(path, os.O_APPEND|os.O_CREATE|os.O_RDWR, 0o600)
}

// NoLink refuses a path at which a symbolic link, a pipe or a device stands where a file is
// going to be written: it would lead elsewhere. Nothing at all may stand there.
func NoLink(path string) error {
	info, err := os.Lstat(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err == nil && !info.Mode().IsRegular() {
		err = fmt.Errorf("%s is a link or a device, not a plain file; nothing is written through it. Remove it and try again", path)
	}
	return err
}

// WriteNew makes a file that is not there yet and fills it. Where that fails it is gone
// again.
func WriteNew(path string, fill func(io.Writer) error) error {
	f, err := CreateNew(path)
	if err != nil {
		return err
	}
	if err := errors.Join(fill(f), f.Close()); err != nil {
		return errors.Join(err, os.Remove(path))
	}
	return nil
}

// Publish gives a complete file the name by which it is found, in one step; where that is
// taken the error is fs.ErrExist, and the file keeps the name it had.
func Publish(made, path string) error {
	if err := os.Link(made, path); err != nil {
		return err
	}
	_ = os.Remove(made) // what is left of it is a second name in a folder of temporary files
	return nil
}

// Replace puts a file with this content at a path, in one step and durably. Scratch is a
// folder on the same file system.
func Replace(scratch, path string, content []byte) error {
	f, err := os.CreateTemp(scratch, "new-")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	// A file that is there keeps its rights; a link in its place is replaced, not followed.
	mode := os.FileMode(0o600)
	if info, err := os.Lstat(path); err == nil && info.Mode().IsRegular() {
		mode = info.Mode().Perm()
	}
	_, err = f.Write(content)
	if err := errors.Join(err, f.Chmod(mode), f.Sync(), f.Close()); err != nil {
		return err
	}
	if err := os.Rename(f.Name(), path); err != nil {
		return err
	}
	return syncFolder(filepath.Dir(path))
}

// syncFolder makes it durable which files a folder has. Not every system can do that.
func syncFolder(path string) error {
	d, err := os.Open(path)
	if err != nil {
		return err
	}
	_ = d.Sync()
	return d.Close()
}
