package session

import (
	"context"
	"path/filepath"
	"time"

	"anagram/internal/core/catalog"
	"anagram/internal/environment"
	"anagram/internal/environment/connect"
	"anagram/internal/environment/web"
	"anagram/internal/store/workspace"
)

// Open opens an environment of the workspace with the password that it has a way to.
func (s *Session) Open(ctx context.Context, name string, readOnly bool) (environment.Environment, error) {
	e, err := s.Workspace.Environment(name)
	if err != nil {
		return nil, err
	}
	if err := s.trusted(e); err != nil {
		return nil, err
	}
	address := e.Connect
	if !e.IsServer() {
		address = s.Workspace.Path(e.Address())
	}
	password, err := s.passwordSource(e).Find(ctx, name)
	if err != nil {
		return nil, err
	}
	open := s.Connect
	if open == nil {
		open = connect.Open
	}
	return open(ctx, connect.Target{Name: name, Scheme: e.Scheme(), Address: address, Password: password, ReadOnly: readOnly,
		TLSOff: e.TLSOff, Web: s.web(e), Around: s.around()})
}

// around is what a connector may know of what is around the run.
func (s *Session) around() environment.Surroundings {
	return environment.Surroundings{Dir: s.Dir, Environ: s.Environ}
}

// web says how a service on the web is reached.
func (s *Session) web(e workspace.Environment) connect.Web {
	path := func(name string) string {
		if name == "" {
			return ""
		}
		return s.Workspace.Path(name)
	}
	w := e.Web
	return connect.Web{Headers: w.Headers, Page: w.Page, Batch: w.Batch, Log: s.Log,
		Sign: web.Sign{Token: w.Token, Header: w.Header, Client: w.Client, TokenAt: w.TokenAt, Scope: w.Scope,
			Certificate: path(w.Certificate), Key: path(w.CertificateKey), Authority: path(w.Authority)},
		Pace: web.Pace{PerSecond: w.PerSecond, AtOnce: w.AtOnce, Wait: time.Duration(w.Wait) * time.Second}}
}

// AddressOf says where an environment is, as it is compared later: what a server tells, and
// of a file its path, from the workspace where it is in there, as workspaces move.
func (s *Session) AddressOf(name, told string) string {
	e, err := s.Workspace.Environment(name)
	if err != nil || e.Scheme() != "sqlite" && e.Scheme() != "folder" {
		return told
	}
	path := s.Workspace.Path(e.Address())
	if inside, err := filepath.Rel(s.Workspace.Dir, path); err == nil && filepath.IsLocal(inside) {
		path = filepath.ToSlash(inside)
	}
	return e.Scheme() + ":" + path
}

func (s *Session) passwordSource(e workspace.Environment) connect.PasswordSource {
	source := connect.PasswordSource{Variable: e.Password.Env, Command: e.Password.Command, Around: s.around()}
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
		return Usage("%s does not take its password from the key store; say password: {keystore: true} in %s first", name,
			workspace.ConfigName)
	}
	return connect.Keep(name, e.Connect, password)
}

// Described is an open environment with the catalog seen against it.
type Described struct {
	environment.Environment
	About environment.Description
	Fit   catalog.Fit
}

// OpenDescribed opens an environment for reading, with the catalog seen against it.
func (s *Session) OpenDescribed(ctx context.Context, name string, c *catalog.Catalog) (Described, error) {
	env, err := s.Open(ctx, name, true)
	if err != nil {
		return Described{}, err
	}
	about, err := env.Describe(ctx)
	if err != nil {
		_ = env.Close()
		return Described{}, err
	}
	if e, err := s.Workspace.Environment(name); err == nil && e.Zone != nil {
		about.Zone = e.Zone
	}
	return Described{Environment: env, About: about, Fit: c.Fits(name, about.Places, about.Unreadable)}, nil
}

// Problems gives the problems of some record types and of all that their keys and
// references need.
func (d Described) Problems(c *catalog.Catalog, types []string) []catalog.Problem {
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
	for _, p := range d.Fit.Problems {
		if needed[p.Type] && !p.Caution {
			out = append(out, p)
		}
	}
	return out
}

// EnvironmentNames lists the environments of the workspace.
func (s *Session) EnvironmentNames() []string {
	var out []string
	for _, e := range s.Workspace.Environments {
		out = append(out, e.Name)
	}
	return out
}
