// Command schemas writes the schemas of what commands print with --json into a folder.
package main

import (
	"fmt"
	"os"
	"path/filepath"

	"anagram/internal/ui/wire"
)

func main() {
	if len(os.Args) != 2 {
		fmt.Fprintln(os.Stderr, "usage: schemas DIR")
		os.Exit(2)
	}
	for name, output := range wire.Outputs() {
		file := filepath.Join(os.Args[1], name+".schema.json")
		if err := os.WriteFile(file, wire.Schema(output), 0o644); err != nil { //nolint:gosec // documentation
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
	}
}
