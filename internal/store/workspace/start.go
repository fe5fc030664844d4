package workspace

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"anagram/internal/files/safe"
)

// Starting is one environment of a workspace that is started.
type Starting struct {
	Name, Connect string
	PasswordEnv   string // the variable that holds its password, "" where none is needed
}

// Start starts a workspace with these environments and without a catalog, and gives the files
// it made. It never overwrites anything.
func Start(dir string, environments []Starting) ([]string, error) {
	var text strings.Builder
	text.WriteString("# A workspace of Anagram. Nothing secret belongs in this file.\n\ncatalog: catalog.yaml\n\n# Paths are relative to this file. Try the environments with: anagram env test\nenvironments:\n")
	for _, e := range environments {
		fmt.Fprintf(&text, "  %s:\n    connect: %s\n", quoted(e.Name), quoted(e.Connect))
		if e.PasswordEnv != "" {
			fmt.Fprintf(&text, "    password: {env: %s}\n", quoted(e.PasswordEnv))
		}
	}
	text.WriteString("    # guard: {approvals: 1, approver_differs_from_exporter: true}   # what the target demands\n")
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	for _, name := range []string{ConfigName, "catalog.yaml"} {
		if _, err := os.Lstat(filepath.Join(dir, name)); err == nil {
			return nil, &Error{Message: fmt.Sprintf("%s already exists in %s; nothing was changed.", name, dir)}
		}
	}
	var made []string
	for _, file := range []struct{ name, text string }{{ConfigName, text.String()}, {".gitignore", string(exampleIgnore)}} {
		err := safe.WriteNew(filepath.Join(dir, file.name), func(out io.Writer) error {
			_, err := io.WriteString(out, file.text)
			return err
		})
		if errors.Is(err, fs.ErrExist) && file.name == ".gitignore" {
			continue
		}
		if err != nil {
			return made, err
		}
		made = append(made, file.name)
	}
	if _, err := Open(dir); err != nil { // what is written must be readable
		for _, name := range made {
			_ = os.Remove(filepath.Join(dir, name))
		}
		return nil, err
	}
	return made, nil
}

// quoted writes a word so that YAML reads it as the text that it is.
func quoted(text string) string {
	if slices.Contains([]string{"", "null", "true", "false", "yes", "no", "on", "off", "y", "n", "nan", "inf"}, strings.ToLower(text)) {
		return strconv.Quote(text)
	}
	for _, r := range text {
		if (r < 'a' || r > 'z') && (r < 'A' || r > 'Z') && r != '_' {
			return strconv.Quote(text)
		}
	}
	return text
}

// WithCatalog gives the workspace with another catalog file, by the name that messages use.
func (w *Workspace) WithCatalog(path, name string) *Workspace {
	out := *w
	out.catalogFile, out.catalogPath = path, name
	return &out
}
