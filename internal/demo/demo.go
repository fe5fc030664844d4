// Package demo has the made-up scenario that ships with the program: Fernhollow
// Diagnostics, a medical laboratory with a sandbox and a production database.
//
// The contract: Build makes the same two databases on every machine, as they were in
// March when production was last brought up to date, Change what became of them since,
// and GoOn what the sandbox does after that. What was planted, and why, stands beside each change in changes.go.
package demo

import (
	"context"
	"database/sql"
	_ "embed"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"anagram/internal/files/safe"
	"anagram/internal/files/sqlitefile"
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

// Build makes a workspace with both databases in a folder, as they were in March.
func Build(ctx context.Context, dir string) error {
	if err := os.MkdirAll(filepath.Join(dir, "data"), 0o700); err != nil {
		return err
	}
	for name, text := range map[string][]byte{"anagram.yaml": config, "catalog.yaml": catalog} {
		err := safe.WriteNew(filepath.Join(dir, name), func(out io.Writer) error {
			_, err := out.Write(text)
			return err
		})
		if err != nil {
			return err
		}
	}
	return replace(ctx, dir, march)
}

// Change lets the months since March pass in both databases. With unequal set, production
// keeps its prices in another currency, so that nothing may be imported.
func Change(ctx context.Context, dir string, unequal bool) error {
	return replace(ctx, dir, func(role string) world {
		w := now(role)
		if unequal && role == "production" {
			w.set("settings", "base_currency", values{"value": "CHF"})
		}
		return w
	})
}

// GoOn lets the build team go on in the sandbox after an export.
func GoOn(ctx context.Context, dir string) error {
	return replaceOne(ctx, dir, "sandbox", func(role string) world {
		w := now(role)
		w.set("comment_codes", "CLOT", by("build", "2026-11-20 16:30:00",
			values{"text": "Specimen clotted. Please repeat, and invert the tube."}))
		return w
	})
}

// replace writes both databases anew.
func replace(ctx context.Context, dir string, of func(role string) world) error {
	for _, role := range Roles() {
		if err := replaceOne(ctx, dir, role, of); err != nil {
			return err
		}
	}
	return nil
}

func replaceOne(ctx context.Context, dir, role string, of func(role string) world) error {
	path := filepath.Join(dir, "data", role+".db")
	if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	db, err := sqlitefile.Open(path, sqlitefile.Options{Create: true, Pragmas: []string{"synchronous(OFF)"}})
	if err != nil {
		return err
	}
	return errors.Join(fill(ctx, db, SQLite(), role, of(role)), db.Close())
}

// Roles names the environments of the scenario.
func Roles() []string { return []string{"sandbox", "production"} }

// Fill writes one environment of the scenario, as it is now, into an empty database.
func Fill(ctx context.Context, db *sql.DB, e Engine, role string) error {
	return fill(ctx, db, e, role, now(role))
}

func fill(ctx context.Context, db *sql.DB, e Engine, role string, w world) error {
	first, wide := int64(1), 60
	if role == "production" {
		first, wide = 4001, 40
	}
	return w.write(ctx, db, e, first, wide)
}

// march is what an environment held in March: all of it was built in the sandbox, and
// production still lacked the staff prices and the holidays of the year.
func march(role string) world {
	w := common()
	if role == "production" {
		w.remove("price_lists", "STAFF")
		w["holidays"] = slices.DeleteFunc(w["holidays"], func(r *row) bool { return strings.HasPrefix(r.name, "2026-") })
	}
	return w
}

func now(role string) world {
	w := common()
	if role == "production" {
		changeProduction(w)
	} else {
		changeSandbox(w)
	}
	return w
}

// Catalog is the scenario's catalog.
func Catalog() []byte { return catalog }
