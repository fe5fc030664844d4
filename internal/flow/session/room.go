package session

import (
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"

	"anagram/internal/environment"
	"anagram/internal/files/safe"
)

// WithRoom gives the text of an error; where a disk is full, it says which one it is, and what to
// do. An environment says so itself.
func WithRoom(err error, text string) string {
	var said *environment.Error
	if !safe.NoRoom(err) || errors.As(err, &said) {
		return text
	}
	where := "the workspace, or on that of temporary files"
	var path *fs.PathError
	if errors.As(err, &path) {
		where = filepath.Dir(path.Path)
	}
	return fmt.Sprintf("There is no room left on the disk of %s. Make room there and try again; nothing is half-written.", where)
}
