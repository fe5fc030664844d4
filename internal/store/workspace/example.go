package workspace

import (
	_ "embed"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"

	"anagram/internal/files/safe"
)

//go:embed example/anagram.yaml
var exampleConfig []byte

//go:embed example/catalog.yaml
var exampleCatalog []byte

//go:embed example/gitignore
var exampleIgnore []byte

// Init starts a workspace with commented examples and gives the files it made. It
// never overwrites anything.
func Init(dir string) ([]string, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	files := []struct {
		name string
		text []byte
	}{{ConfigName, exampleConfig}, {"catalog.yaml", exampleCatalog}, {".gitignore", exampleIgnore}}
	for _, file := range files[:2] {
		if _, err := os.Lstat(filepath.Join(dir, file.name)); err == nil {
			return nil, &Error{Message: fmt.Sprintf("%s already exists in %s; nothing was changed.", file.name, dir)}
		}
	}
	var made []string
	for _, file := range files {
		path := filepath.Join(dir, file.name)
		err := safe.WriteNew(path, func(out io.Writer) error {
			_, err := out.Write(file.text)
			return err
		})
		if errors.Is(err, fs.ErrExist) {
			continue // an ignore file of the person's own stays
		}
		if err != nil {
			return made, err
		}
		made = append(made, file.name)
	}
	return made, nil
}
