package safe

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
)

// Names that a replacement uses in its folder.
const (
	noteName  = ".anagram-replacing"
	stageName = ".anagram-new"
	maxNote   = 64 << 20
)

// Replacement puts new files in the place of those that a folder has.
type Replacement struct {
	root *os.Root
	note note
}

// note is what is to be done; it is written before anything is.
type note struct {
	Files  []string `json:"files"`            // staged, to be put into their places
	Remove []string `json:"remove,omitempty"` // to be removed
	Keep   string   `json:"keep,omitempty"`   // suffix under which what was there is kept, "" for not
	// Were and Are are the SHA-256 of what is replaced, "" where nothing is, and of what
	// replaces it: what was edited since is not overwritten.
	Were map[string]string `json:"were,omitempty"`
	Are  map[string]string `json:"are,omitempty"`
}

// Error is a note that cannot be followed.
type Error struct {
	Folder, Message string
}

func (e *Error) Error() string { return e.Folder + ": " + e.Message }

// Begin starts a replacement in a folder. Keep is a suffix under which files that are
// replaced stay beside the new ones; "" lets them go.
func Begin(folder, keep string) (*Replacement, error) {
	root, err := os.OpenRoot(folder)
	if err != nil {
		return nil, err
	}
	if err = root.RemoveAll(stageName); err == nil {
		err = root.Mkdir(stageName, 0o700)
	}
	if err != nil {
		return nil, errors.Join(err, root.Close())
	}
	return &Replacement{root: root, note: note{Keep: keep}}, nil
}

// Close forgets what was staged and not committed.
func (r *Replacement) Close() error {
	return errors.Join(r.root.RemoveAll(stageName), r.root.Close())
}

// Create makes the new content of a file; name is relative to the folder, with slashes.
// The mode is that of the file that it replaces.
func (r *Replacement) Create(name string) (*os.File, error) {
	if !fs.ValidPath(name) {
		return nil, fmt.Errorf("%q is no name of a file in the folder", name)
	}
	mode := os.FileMode(0o600)
	if info, err := r.root.Lstat(name); err == nil {
		mode = info.Mode().Perm()
	}
	if err := r.root.MkdirAll(path.Dir(stageName+"/"+name), 0o700); err != nil {
		return nil, err
	}
	f, err := r.root.OpenFile(stageName+"/"+name, os.O_CREATE|os.O_EXCL|os.O_RDWR, mode)
	if err == nil {
		r.note.Files = append(r.note.Files, name)
	}
	return f, err
}

// Staged is the folder in which the new files stand until they are put into their places.
func (r *Replacement) Staged() string { return filepath.Join(r.root.Name(), stageName) }

// Remove says that a file is to go.
func (r *Replacement) Remove(name string) { r.note.Remove = append(r.note.Remove, name) }

// Commit puts everything in its place. Once the note is there it is going to happen, now
// or when Finish is called; before, nothing has.
func (r *Replacement) Commit() error {
	if err := r.begin(); err != nil {
		return err
	}
	return follow(r.root, r.note)
}

// begin writes the note, with which it is going to happen.
func (r *Replacement) begin() error {
	r.note.Were, r.note.Are = map[string]string{}, map[string]string{}
	for _, name := range r.note.Files {
		var err error
		if r.note.Were[name], err = sumOf(r.root, name); err == nil {
			r.note.Are[name], err = sumOf(r.root, stageName+"/"+name)
		}
		if err != nil {
			return err
		}
	}
	text, err := json.Marshal(r.note)
	if err != nil {
		return err
	}
	f, err := r.root.OpenFile(stageName+"/"+noteName, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(text)
	if err := errors.Join(err, f.Sync(), f.Close()); err != nil {
		return err
	}
	if err := r.root.Rename(stageName+"/"+noteName, noteName); err != nil {
		return err
	}
	return nil
}

// Pending reports whether a replacement in a folder was interrupted.
func Pending(folder string) bool {
	root, err := os.OpenRoot(folder)
	if err != nil {
		return false
	}
	defer root.Close()
	_, err = root.Lstat(noteName)
	return err == nil
}

// Finish does what an interrupted replacement left undone. Known says whether a name is
// one that the folder may have; a note with any other is refused, as it is not Anagram's.
func Finish(folder string, known func(name string) bool) error {
	root, err := os.OpenRoot(folder)
	if err != nil {
		return err
	}
	defer root.Close()
	info, err := root.Lstat(noteName)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	bad := func(why string) error {
		return &Error{folder, fmt.Sprintf("its note of files that are being replaced, %s, %s", noteName, why)}
	}
	if !info.Mode().IsRegular() || info.Size() > maxNote {
		return bad("is no note of Anagram's")
	}
	f, err := root.Open(noteName)
	if err != nil {
		return err
	}
	text, err := io.ReadAll(io.LimitReader(f, maxNote))
	if err := errors.Join(err, f.Close()); err != nil {
		return err
	}
	var n note
	if err := json.Unmarshal(text, &n); err != nil {
		return bad("is damaged")
	}
	for _, name := range slices.Concat(n.Files, n.Remove) {
		if !fs.ValidPath(name) || !known(name) {
			return bad(fmt.Sprintf("names %q, which is none of its files", name))
		}
	}
	if path.Base(n.Keep) != n.Keep && n.Keep != "" || n.Keep != "" && n.Keep[0] != '.' {
		return bad("is no note of Anagram's")
	}
	switch name, err := edited(root, n); {
	case err != nil:
		return err
	case name != "":
		return bad(fmt.Sprintf("is about %s, which was changed since", name))
	}
	return follow(root, n)
}

// edited gives a file that somebody changed since a note was written, "" for none.
func edited(root *os.Root, n note) (string, error) {
	for _, name := range n.Files {
		staged, err := sumOf(root, stageName+"/"+name)
		if err != nil {
			return "", err
		}
		if staged == "" || n.Were == nil {
			continue // in its place already
		}
		is, err := sumOf(root, name)
		if err != nil {
			return "", err
		}
		if is != n.Were[name] || staged != n.Are[name] {
			return name, nil
		}
	}
	return "", nil
}

// sumOf gives the SHA-256 of a file, "" where there is none.
func sumOf(root *os.Root, name string) (string, error) {
	f, err := root.Open(name)
	if errors.Is(err, fs.ErrNotExist) {
		return "", nil
	}
	if err != nil {
		return "", err
	}
	defer f.Close()
	sum := sha256.New()
	if _, err := io.Copy(sum, f); err != nil {
		return "", err
	}
	return hex.EncodeToString(sum.Sum(nil)), nil
}

// follow does what a note says, as far as it is not done yet.
func follow(root *os.Root, n note) error {
	for _, name := range n.Files {
		from := stageName + "/" + name
		if _, err := root.Lstat(from); errors.Is(err, fs.ErrNotExist) {
			continue // it is in its place already
		}
		if n.Keep != "" {
			if err := root.Link(name, name+n.Keep); err != nil && !errors.Is(err, fs.ErrExist) && !errors.Is(err, fs.ErrNotExist) {
				return err
			}
		}
		if err := root.MkdirAll(path.Dir(name), 0o700); err != nil {
			return err
		}
		if err := root.Rename(from, name); err != nil {
			return err
		}
	}
	for _, name := range n.Remove {
		if err := root.Remove(name); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return errors.Join(root.Remove(noteName), root.RemoveAll(stageName))
}
