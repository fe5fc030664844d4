// Package flow has the steps of the job: export, match, decide, import and what
// stands around them, one file each.
//
// The contract: a step takes a request and gives a result, both without any form for
// people. It reports progress through an interface, stops cleanly when its context is
// cancelled, and leaves nothing half-written. Errors are typed; what exit code follows
// from which is decided in the user interface.
package flow

import (
	"context"
	"fmt"
	"strings"
	"time"

	"anagram/internal/core/catalog"
	"anagram/internal/core/check"
	"anagram/internal/environment"
	"anagram/internal/environment/connect"
	"anagram/internal/store/workspace"
)

// Session is what every step needs.
type Session struct {
	Workspace *workspace.Workspace
	Who       string // the person at work, for the records that are kept
	Program   string // name and version of the program, for parcels and dockets
	Now       func() time.Time
	Progress  Progress

	exported string // the parcel that was exported in this run, "" for none
}

// Progress is told what a step is at.
type Progress interface {
	// Start begins a stretch of work; total is 0 where it is not known.
	Start(what string, total int)
	Add(n int)
	Done()
}

// UsageError is a request that cannot be carried out as it was made.
type UsageError struct{ Message string }

func (e *UsageError) Error() string { return e.Message }

func usage(format string, args ...any) error {
	return &UsageError{Message: fmt.Sprintf(format, args...)}
}

// CatalogError is a catalog that does not hold in an environment.
type CatalogError struct {
	Catalog     string // its file
	Environment string
	Problems    []catalog.Problem
}

func (e *CatalogError) Error() string {
	var out strings.Builder
	fmt.Fprintf(&out, "The catalog does not hold in %s:", e.Environment)
	for _, p := range e.Problems {
		fmt.Fprintf(&out, "\n  %s line %d, %s: %s", e.Catalog, p.Line, p.Type, p.Message)
	}
	return out.String()
}

// BlockedError is a whole docket that may not be imported.
type BlockedError struct {
	Docket int
	Checks []check.Check
}

func (e *BlockedError) Error() string {
	var out strings.Builder
	fmt.Fprintf(&out, "Docket %d is blocked; nothing was written.", e.Docket)
	for _, c := range e.Checks {
		fmt.Fprintf(&out, "\n  %s: %s %s", c.Code, c.Message, c.Mend)
	}
	return out.String()
}

func (s *Session) open(ctx context.Context, name string, readOnly bool) (environment.Environment, error) {
	e, err := s.Workspace.Environment(name)
	if err != nil {
		return nil, err
	}
	address := e.Connect
	if e.Scheme() == "sqlite" || e.Scheme() == "folder" {
		address = s.Workspace.Path(e.Address())
	}
	password, err := s.passwordSource(e).Find(ctx, name)
	if err != nil {
		return nil, err
	}
	return connect.Open(ctx, connect.Target{Name: name, Scheme: e.Scheme(), Address: address, Password: password, ReadOnly: readOnly})
}

func (s *Session) passwordSource(e workspace.Environment) connect.PasswordSource {
	source := connect.PasswordSource{Variable: e.Password.Env, Command: e.Password.Command}
	if e.Password.File != "" {
		source.File = s.Workspace.Path(e.Password.File)
	}
	if e.Password.Keystore {
		source.Keystore = e.Connect
	}
	return source
}

// Login keeps a password in the operating system's key store.
func (s *Session) Login(name, password string) error {
	e, err := s.Workspace.Environment(name)
	if err != nil {
		return err
	}
	if !e.Password.Keystore {
		return usage("%s does not take its password from the key store; say password: {keystore: true} in %s first", name, workspace.ConfigName)
	}
	return connect.Keep(name, e.Connect, password)
}

// described is an open environment with the catalog seen against it.
type described struct {
	environment.Environment
	about environment.Description
	fit   catalog.Fit
}

func (s *Session) openDescribed(ctx context.Context, name string, c *catalog.Catalog) (described, error) {
	env, err := s.open(ctx, name, true)
	if err != nil {
		return described{}, err
	}
	about, err := env.Describe(ctx)
	if err != nil {
		_ = env.Close()
		return described{}, err
	}
	return described{Environment: env, about: about, fit: c.Fits(name, about.Places)}, nil
}

// problems gives the problems of some record types and of all that their keys and
// references need.
func (d described) problems(c *catalog.Catalog, types []string) []catalog.Problem {
	needed := map[string]bool{}
	var need func(string)
	need = func(name string) {
		if needed[name] {
			return
		}
		needed[name] = true
		if t, ok := c.Type(name); ok {
			for _, to := range t.Targets() {
				need(to)
			}
		}
	}
	for _, name := range types {
		need(name)
	}
	var out []catalog.Problem
	for _, p := range d.fit.Problems {
		if needed[p.Type] {
			out = append(out, p)
		}
	}
	return out
}
