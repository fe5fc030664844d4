package flow

import (
	"context"

	"anagram/internal/core/catalog"
	"anagram/internal/core/check"
	"anagram/internal/core/record"
	"anagram/internal/environment"
	"anagram/internal/store/workspace"
)

// The fit of two environments: their releases and the settings that have to be equal.

// setting reads the value of one record that holds a setting: the record type has
// exactly one field beside its key. Nil is no such record, or null.
func setting(ctx context.Context, env described, c *catalog.Catalog, name, address string) (*string, error) {
	p, err := record.ParsePattern(address)
	if err != nil {
		return nil, usage("anagram.yaml: %v", err)
	}
	t, ok := c.Type(p.Type())
	if !ok || !p.Exact() {
		return nil, usage("anagram.yaml names the setting %q, which is no address of a record type in the catalog", address)
	}
	fields := env.fit.Fields[t.Name]
	if len(fields) != 1 {
		return nil, usage("anagram.yaml names the setting %s, but %s has %d fields beside its key in %s; a setting has one", address, t.Name, len(fields), name)
	}
	model := &environment.Model{Environment: name, Catalog: c, Shapes: env.fit.Shapes}
	for rec, err := range env.Read(ctx, model, environment.Reading{Type: t.Name, Fields: fields}) {
		if err != nil {
			return nil, err
		}
		if p.Match(c.Address(t.Name, rec.Key)) {
			return Show(c, fields[0], rec.Values[0]), nil
		}
	}
	return nil, nil
}

// releaseOf gives the release of an environment, "" where it is not known.
func releaseOf(ctx context.Context, env described, c *catalog.Catalog, e workspace.Environment) (string, error) {
	if e.Release.Setting == "" {
		return e.Release.Text, nil
	}
	value, err := setting(ctx, env, c, e.Name, e.Release.Setting)
	if err != nil || value == nil {
		return "", err
	}
	return *value, nil
}

// agreed reads the settings that have to be equal; those that are not there are left out.
func (s *Session) agreed(ctx context.Context, env described, c *catalog.Catalog, name string) (map[string]string, error) {
	out := map[string]string{}
	for _, address := range s.Workspace.MustAgree {
		value, err := setting(ctx, env, c, name, address)
		if err != nil {
			return nil, err
		}
		if value != nil {
			out[address] = *value
		}
	}
	return out, nil
}

// side is one environment as far as its fit is concerned.
type side struct {
	name     string
	release  string
	settings map[string]string
}

// fitChecks compares two sides: the release by the target's policy, the settings always.
func (s *Session) fitChecks(source, target side, policy string) []check.Check {
	var out []check.Check
	if c, bad := check.Releases(source.name, target.name, source.release, target.release, policy); bad {
		out = append(out, c)
	}
	value := func(of side, address string) *string {
		if v, ok := of.settings[address]; ok {
			return &v
		}
		return nil
	}
	for _, address := range s.Workspace.MustAgree {
		if c, bad := check.Agreement(address, source.name, target.name, value(source, address), value(target, address)); bad {
			out = append(out, c)
		}
	}
	return out
}

// sideOf reads what the fit of an environment depends on.
func (s *Session) sideOf(ctx context.Context, env described, c *catalog.Catalog, name string) (side, error) {
	e, err := s.Workspace.Environment(name)
	if err != nil {
		return side{}, err
	}
	out := side{name: name}
	if out.release, err = releaseOf(ctx, env, c, e); err != nil {
		return out, err
	}
	out.settings, err = s.agreed(ctx, env, c, name)
	return out, err
}
