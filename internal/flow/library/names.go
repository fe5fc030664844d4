package library

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"anagram/internal/core/pattern"
	"anagram/internal/core/yamldoc"
	"anagram/internal/flow/session"
	"anagram/internal/store/parcel"
)

var parcelName = pattern.Of(`^[\pL\pN][\pL\pN ._+-]*$`)

// NewPath settles the name of a new parcel and where it goes; an empty name is made
// from the environment, date and time. What is there is never replaced.
func NewPath(s *session.Session, name, environment string, asFolder bool) (settled, path string, err error) {
	library, err := s.Workspace.Parcels()
	if err != nil {
		return "", "", err
	}
	place := func(name string) (string, error) {
		for _, suffix := range []string{parcel.Suffix, ""} {
			if parcel.Exists(filepath.Join(library, name+suffix)) {
				return "", &parcel.ExistsError{Path: filepath.Join(library, name+suffix)}
			}
		}
		if asFolder {
			return filepath.Join(library, name), nil
		}
		return filepath.Join(library, name+parcel.Suffix), nil
	}
	if name != "" {
		name = strings.TrimSuffix(name, parcel.Suffix)
		if !parcelName.MatchString(name) || len(name) > 100 {
			return "", "",
				session.Usage("%q cannot be a parcel's name: letters, digits, spaces and . _ + -, beginning with a letter or digit, at most 100 bytes", name)
		}
		path, err = place(name)
		return name, path, err
	}
	base := environment + "-" + s.Now().Format("20060102-150405")
	for n := 1; ; n++ {
		name = base
		if n > 1 {
			name = fmt.Sprintf("%s-%d", base, n)
		}
		path, err := place(name)
		var exists *parcel.ExistsError
		if !errors.As(err, &exists) {
			return name, path, err
		}
	}
}

// Path gives the file or folder of a parcel, by its name in the library or by a path.
func Path(s *session.Session, name string) (string, error) {
	library := filepath.Join(s.Workspace.Dir, "parcels")
	for _, path := range []string{filepath.Join(library, name+parcel.Suffix), filepath.Join(library, name), name} {
		if name != "" && parcel.Exists(path) {
			return path, nil
		}
	}
	var names []string
	entries, _ := os.ReadDir(library)
	for _, entry := range entries {
		names = append(names, strings.TrimSuffix(entry.Name(), parcel.Suffix))
	}
	return "", session.Usage("There is no parcel %q, neither in the library nor as a path%s", name, yamldoc.Nearest(name, names))
}

// NameOf is a parcel's name as the library has it: that of its file.
func NameOf(p *parcel.Reader) string {
	return strings.TrimSuffix(filepath.Base(p.Path()), parcel.Suffix)
}

// inLibrary gives the file of a parcel that is in the library itself.
func inLibrary(s *session.Session, name string) (string, error) {
	path, err := Path(s, name)
	if err != nil {
		return "", err
	}
	library, err := s.Workspace.Parcels()
	if err != nil {
		return "", err
	}
	if path, err = filepath.Abs(path); err != nil {
		return "", err
	}
	if library, err = filepath.Abs(library); err != nil {
		return "", err
	}
	if filepath.Dir(path) != library {
		return "", session.Usage("%s is not in the library; only parcels of the library are renamed and removed", name)
	}
	return path, nil
}
