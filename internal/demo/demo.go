// Package demo has the made-up scenario that ships with the program: Fernhollow
// Diagnostics, a medical laboratory with a sandbox and a production database.
//
// The contract: Build makes the same two databases on every machine. What was planted
// in them, and why, stands beside each change in changes.go.
package demo

import (
	"context"
	_ "embed"
	"os"
	"path/filepath"
)

// The two people of the scenario.
const (
	Administrator = "mara"
	Approver      = "jonas"
)

//go:embed scenario/anagram.yaml
var config []byte

//go:embed scenario/catalog.yaml
var catalog []byte

// Build makes a workspace with both databases in a folder.
func Build(ctx context.Context, dir string) error {
	if err := os.MkdirAll(filepath.Join(dir, "data"), 0o755); err != nil {
		return err
	}
	for name, text := range map[string][]byte{"anagram.yaml": config, "catalog.yaml": catalog} {
		f, err := os.OpenFile(filepath.Join(dir, name), os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
		if err != nil {
			return err
		}
		_, err = f.Write(text)
		if closeErr := f.Close(); err == nil {
			err = closeErr
		}
		if err != nil {
			return err
		}
	}
	sandbox := common()
	changeSandbox(sandbox)
	if err := sandbox.write(ctx, filepath.Join(dir, "data", "sandbox.db"), 1); err != nil {
		return err
	}
	production := common()
	changeProduction(production)
	return production.write(ctx, filepath.Join(dir, "data", "production.db"), 4001)
}
