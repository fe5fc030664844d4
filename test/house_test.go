package test

import (
	"encoding/json"
	"errors"
	"io"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// rooms lists what each room of the house may know of the others, besides its own
// packages: ui -> flow -> store, environment -> core. Core knows nobody.
var rooms = map[string][]string{
	"internal/core":        {},
	"internal/store":       {"internal/core"},
	"internal/environment": {"internal/core"},
	"internal/flow":        {"internal/core", "internal/store", "internal/environment"},
	"internal/demo":        {"internal/core"},
	"internal/ui":          {"internal/core", "internal/store", "internal/flow", "internal/demo"},
	"cmd":                  {"internal/ui"},
}

// forbidden are libraries and standard packages that core must not know: no terminal,
// file system, network or SQL.
var forbidden = []string{"os", "net", "database/sql", "io/fs", "path/filepath", "github.com/spf13/cobra", "modernc.org/sqlite", "golang.org/x/term"}

func TestTheArrowsOfTheHouse(t *testing.T) {
	list := exec.Command("go", "list", "-json=ImportPath,Imports", "./...")
	list.Dir = ".."
	out, err := list.Output()
	require.NoError(t, err)
	room := func(path string) string {
		for name := range rooms {
			if path == "anagram/"+name || strings.HasPrefix(path, "anagram/"+name+"/") {
				return name
			}
		}
		return ""
	}
	decoder := json.NewDecoder(strings.NewReader(string(out)))
	packages := 0
	for {
		var p struct {
			ImportPath string
			Imports    []string
		}
		if err := decoder.Decode(&p); errors.Is(err, io.EOF) {
			break
		} else {
			require.NoError(t, err)
		}
		from := room(p.ImportPath)
		if from == "" {
			assert.Contains(t, []string{"anagram/test"}, p.ImportPath, "every package has a room")
			continue
		}
		packages++
		for _, imported := range p.Imports {
			if from == "internal/core" {
				assert.NotContains(t, forbidden, imported, p.ImportPath)
			}
			if !strings.HasPrefix(imported, "anagram/") {
				continue
			}
			to := room(imported)
			if to != from {
				assert.Contains(t, rooms[from], to, "%s must not know %s", p.ImportPath, imported)
			}
		}
	}
	assert.Greater(t, packages, 12)
}
