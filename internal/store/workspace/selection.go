package workspace

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"

	"github.com/goccy/go-yaml"

	"anagram/internal/core/limit"
	"anagram/internal/core/pattern"
	"anagram/internal/files/safe"
)

// Selection is what an export is to take, as anagram.yaml keeps it under a name.
type Selection struct {
	Saved        string            `yaml:"-"`
	Areas        []string          `yaml:"areas,omitempty,flow"`
	Types        []string          `yaml:"types,omitempty,flow"`
	Records      []string          `yaml:"records,omitempty,flow"`
	Where        map[string]string `yaml:"where,omitempty"` // condition by record type
	ChangedSince string            `yaml:"changed_since,omitempty"`
	Since        string            `yaml:"-"`
	SinceBy      map[string]string `yaml:"-"`
	LeaveOut     []string          `yaml:"leave_out,omitempty,flow"`
	Related      string            `yaml:"related,omitempty"`
	NoFiles      bool              `yaml:"no_files,omitempty"`
}

var selectionName = pattern.Of(`^[\pL\pN][\pL\pN_.-]*$`)

// CanSave refuses a name that a selection cannot have, or that is taken.
func (w *Workspace) CanSave(name string) error {
	if !selectionName.MatchString(name) {
		return &Error{Message: fmt.Sprintf("%q cannot be a selection's name: letters, digits, _ . and -, beginning with a letter or digit", name)}
	}
	if _, taken := w.Selections[name]; taken {
		return &Error{Message: fmt.Sprintf("%s has a selection %q already; choose another name, or change it there", ConfigName, name)}
	}
	return nil
}

// SaveSelection adds a selection to anagram.yaml and leaves everything else there as it
// stands, comments too. A name that is taken is refused.
func (w *Workspace) SaveSelection(name string, s Selection) error {
	if err := w.CanSave(name); err != nil {
		return err
	}
	body, err := yaml.Marshal(map[string]Selection{name: s})
	if err != nil {
		return err
	}
	text := "  " + strings.ReplaceAll(strings.TrimRight(string(body), "\n"), "\n", "\n  ") + "\n"
	path := filepath.Join(w.Dir, ConfigName)
	source, err := safe.ReadSmall(path, limit.Configuration)
	if err != nil {
		return err
	}
	whole := string(source)
	if !strings.HasSuffix(whole, "\n") && whole != "" {
		whole += "\n"
	}
	head := regexp.MustCompile(`(?m)^selections:[ \t]*(#.*)?\n`)
	if at := head.FindStringIndex(whole); at != nil {
		whole = whole[:at[1]] + text + whole[at[1]:]
	} else if len(w.Selections) > 0 {
		return &Error{Message: fmt.Sprintf("selections: in %s is written on one line, so nothing can be added to it; write each selection on lines of its own", ConfigName)}
	} else {
		whole += "selections:\n" + text
	}
	folder, _, err := w.tried(whole) // what is written must be readable
	if err != nil {
		return err
	}
	return safe.Replace(folder, path, []byte(whole))
}

// tried reads a text as it would be read as anagram.yaml, in the folder for temporary files.
func (w *Workspace) tried(text string) (folder string, read *Workspace, err error) {
	if folder, err = w.Scratch(); err != nil {
		return "", nil, err
	}
	trial := filepath.Join(folder, ConfigName)
	defer os.Remove(trial)
	if err := os.WriteFile(trial, []byte(text), 0o600); err != nil {
		return folder, nil, err
	}
	read, err = Open(folder)
	return folder, read, err
}
