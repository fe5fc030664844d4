// Man writes a manual page for every command of the program into a folder:
//
//	go run ./tools/man dist/man
package main

import (
	"fmt"
	"os"
	"path/filepath"
	"time"

	"anagram/internal/ui/cli"
)

func main() {
	if err := write(os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, "man:", err)
		os.Exit(1)
	}
}

func write(args []string) error {
	if len(args) != 1 {
		return fmt.Errorf("usage: man FOLDER")
	}
	if err := os.MkdirAll(args[0], 0o750); err != nil {
		return err
	}
	for _, page := range cli.Manual(time.Now()) {
		if err := os.WriteFile(filepath.Join(args[0], page.Name), []byte(page.Text), 0o600); err != nil {
			return err
		}
	}
	return nil
}
