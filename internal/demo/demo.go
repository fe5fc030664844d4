// Package demo has the made-up scenario that ships with the program: Fernhollow
// Diagnostics, a medical laboratory with a sandbox and a production database.
//
// The contract: Build makes the same two databases on every machine. What was planted
// in them, and why, stands beside each change in changes.go.
package demo

import (
	"context"
	"database/sql"
	_ "embed"
	"errors"
	"os"
	"path/filepath"
	"strings"
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
	for _, role := range Roles() {
		path := filepath.Join(dir, "data", role+".db")
		db, err := sql.Open("sqlite", "file:"+strings.NewReplacer("%", "%25", "?", "%3F", "#", "%23").Replace(path)+"?_pragma=synchronous(OFF)")
		if err != nil {
			return err
		}
		err = errors.Join(Fill(ctx, db, SQLite(), role), db.Close())
		if err != nil {
			return err
		}
	}
	return nil
}

// Roles names the environments of the scenario.
func Roles() []string { return []string{"sandbox", "production"} }

// Fill writes one environment of the scenario into an empty database.
func Fill(ctx context.Context, db *sql.DB, e Engine, role string) error {
	w, first := common(), int64(1)
	if role == "sandbox" {
		changeSandbox(w)
	} else {
		changeProduction(w)
		first = 4001
	}
	return w.write(ctx, db, e, first)
}

// Catalog is the scenario's catalog.
func Catalog() []byte { return catalog }
